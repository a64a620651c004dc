"""Inflate by blocks, and checksums: with a faster library if it has wheels here, else the standard one.

Both have the same interface, so readers need not know which it is.
"""

import zlib
from types import ModuleType
from typing import TypeAlias, cast

_engine: ModuleType
try:
    from isal import isal_zlib as _engine
except ImportError:
    _engine = zlib

crc32 = _engine.crc32
errors: tuple[type[Exception], ...] = (zlib.error, cast(type[Exception], _engine.error))
"""What inflating raises for bytes that do not hold together."""


Inflater: TypeAlias = "zlib._Decompress"


def inflater(*, has_header: bool = False) -> Inflater:
    """Return a new engine for one stream of deflate, raw or with the header and checksum of zlib."""
    return cast(Inflater, _engine.decompressobj(wbits=15 if has_header else -15))


def inflater_of_member() -> Inflater:
    """Return a new engine for one member of a gzip file; it checks the checksum."""
    return cast(Inflater, _engine.decompressobj(wbits=31))
