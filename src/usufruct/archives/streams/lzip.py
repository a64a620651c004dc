"""Lzip: members of a six-byte header, raw LZMA with an end marker, and a trailer with sizes and checksum.

The layout is in the chapter "File format" of its manual.
"""

import lzma
import zlib
from collections.abc import Callable, Generator, Iterator
from typing import IO

from usufruct.archives.allowance import SHORT, Allowance
from usufruct.archives.reading import BLOCK

_MARK = b"LZIP"
_HEAD = 6
"""Bytes of a member's head."""
_TRAILERS = (12, 20)
"""Bytes behind a member of each version: checksum, plain bytes, and since the second its own size."""
_STEP = 1 << 18
"""Packed bytes that are read at once."""
_SMALLEST, _LARGEST = 1 << 12, 1 << 29
"""Bytes of a dictionary."""


def unlzip(file: IO[bytes], allowance: Allowance, tell_end: Callable[[int], None]) -> Iterator[bytes]:
    """Yield the content of all members; `tell_end` learns where the last ends, if something else follows.

    Raises EOFError, ValueError or LZMAError for invalid data, UnsafeArchive for too large a dictionary.
    """
    packed = _up_to(_HEAD, file, b"")
    while packed.startswith(_MARK):
        packed = yield from _member(packed, file, allowance)
        packed = _up_to(_HEAD, file, packed)
    if packed and _MARK.startswith(packed):
        raise EOFError("the packed bytes end too early")
    if packed:
        tell_end(file.tell() - len(packed))


def _member(packed: bytes, file: IO[bytes], allowance: Allowance) -> Generator[bytes, None, bytes]:
    """Yield the plain bytes of the member that begins here; returns the packed bytes that were read beyond it."""
    if len(packed) < _HEAD:
        raise EOFError("the packed bytes end too early")
    version, coded = packed[4], packed[5]
    power = 1 << (coded & 0x1F)
    size = power - power // 16 * (coded >> 5)
    if version >= len(_TRAILERS) or not _SMALLEST <= size <= _LARGEST:
        raise ValueError(f"its head says version {version} and a dictionary of {size:,} bytes")
    allowance.dictionary(size)
    filters = [{"id": lzma.FILTER_LZMA1, "dict_size": size, "lc": 3, "lp": 0, "pb": 2}]
    engine = lzma.LZMADecompressor(lzma.FORMAT_RAW, filters=filters)
    checksum = length = 0
    taken, packed = len(packed), packed[_HEAD:]
    while not engine.eof:
        if engine.needs_input and not packed:
            packed = _at_least(1, file, b"")
            taken += len(packed)
        plain = engine.decompress(packed, BLOCK)
        packed = b""
        checksum, length = zlib.crc32(plain, checksum), length + len(plain)
        yield plain
    trailer = _TRAILERS[version]
    whole = taken - len(engine.unused_data) + trailer
    packed = _at_least(trailer, file, engine.unused_data)
    fields = (packed[:4], packed[4:12], packed[12:trailer])
    if length < SHORT:
        allowance.short_stream()
    if [int.from_bytes(one, "little") for one in fields] != [checksum, length, whole if version else 0]:
        raise ValueError("its checksum does not hold")
    return packed[trailer:]


def _up_to(count: int, file: IO[bytes], packed: bytes) -> bytes:
    while len(packed) < count and (more := file.read(_STEP)):
        packed += more
    return packed


def _at_least(count: int, file: IO[bytes], packed: bytes) -> bytes:
    packed = _up_to(count, file, packed)
    if len(packed) < count:
        raise EOFError("the packed bytes end too early")
    return packed
