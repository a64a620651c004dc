"""Inflating by blocks, and checksums: by a library that is faster where it has wheels, else by the standard one.

Both have the same form, so no reader knows which it is.
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
    """A new engine for one stream of deflate, raw or with the header and the checksum of zlib."""
    return cast(Inflater, _engine.decompressobj(wbits=15 if has_header else -15))


def inflater_of_member() -> Inflater:
    """A new engine for one member of a gzip file, whose checksum it compares."""
    return cast(Inflater, _engine.decompressobj(wbits=31))
