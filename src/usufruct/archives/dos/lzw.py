"""The LZW methods of zoo and arc.

Source: XADMaster (XADZooParser.m, LZW.c, XADARCParser.m, XADARCCrunchHandle.m, LGPL).
"""

import io
from collections.abc import Iterable, Iterator

from usufruct.archives.bits import Bits, PackedFault
from usufruct.archives.streams.lzw import unlzw

_MOST = 1 << 13
"""Codes of 13 bits."""
_FORGET, _END = 256, 257
"""zoo's two codes behind the 256 bytes."""
_COMPRESS = b"\x1f\x9d"
"""What the stream of compress begins with, of which arc leaves it out."""


def unlzw_zoo(blocks: Iterable[bytes]) -> Iterator[bytes]:
    """Codes of 9 to 13 bits, the lowest bit first; one forgets all, one ends. Raises PackedFault."""
    texts = [bytes((value,)) for value in range(256)] + [b"", b""]
    width, old = 9, b""
    acc = have = 0
    source = iter(blocks)
    while True:
        while have < width:
            block = next(source, None)
            if not block:
                raise PackedFault("the packed bytes end too early")
            acc |= int.from_bytes(block[:4096], "little") << have
            have += 8 * len(block[:4096])
            if block[4096:]:
                source = _before(block[4096:], source)
        code = acc & (1 << width) - 1
        acc >>= width
        have -= width
        if code == _END:
            return
        if code == _FORGET:
            del texts[258:]
            width, old = 9, b""
            continue
        if code < len(texts):
            text = texts[code]
        elif code == len(texts) and old:
            text = old + old[:1]
        else:
            raise PackedFault("it holds a code that stands for nothing")
        if old and len(texts) < _MOST:
            texts.append(old + text[:1])
            if len(texts) < _MOST and not len(texts) & len(texts) - 1:
                width += 1
        old = text
        yield text


def _before(block: bytes, rest: Iterator[bytes]) -> Iterator[bytes]:
    yield block
    yield from rest


def unlzw_compress(blocks: Iterable[bytes], widest: int | None) -> Iterator[bytes]:
    """Arc's newer LZW, which is that of compress; with None the widest code is said first. Raises PackedFault."""
    packed = b"".join(blocks)
    if widest is None:
        widest, packed = packed[0] if packed else 0, packed[1:]
        if widest != _CRUNCHED:
            raise PackedFault("its codes have a width that is not known")
    try:
        yield from unlzw(io.BytesIO(_COMPRESS + bytes((0x80 | widest,)) + packed))
    except (EOFError, ValueError) as error:
        raise PackedFault(str(error)) from error


_CRUNCHED = 12
"""Bits of a code in arc's crunching."""
_PLACES = 1 << 12
"""Of the table of 12 bits."""


def unlzw_hashed(blocks: Iterable[bytes], *, is_fast: bool) -> Iterator[bytes]:
    """Arc's first LZW: codes of 12 bits, whose numbers are the places of a table of hashes. Raises PackedFault."""
    packed = b"".join(blocks)
    bits = Bits([packed])
    table = _Hashes(is_fast=is_fast)
    for value in range(256):
        table.add(-1, value)
    # What has no codes left stands in the last byte at most.
    count = 8 * len(packed) // 12
    old, first = -1, 0
    left = _PLACES - 256
    for _ in range(count):
        code = bits.take(12)
        text = bytearray()
        at = code
        if table.parents[code] is None:
            if old < 0:
                raise PackedFault("it holds a code that stands for nothing")
            text.append(first)
            at = old
        while True:
            parent = table.parents[at]
            if parent is None or len(text) >= _PLACES:
                raise PackedFault("it holds a code that stands for nothing")
            text.append(table.bytes[at])
            if parent < 0:
                break
            at = parent
        first = text[-1]
        text.reverse()
        yield bytes(text)
        if old >= 0 and left:
            table.add(old, first)
            left -= 1
        old = code


class _Hashes:
    """Codes by where their text's hash puts them."""

    def __init__(self, *, is_fast: bool) -> None:
        self._is_fast = is_fast
        self.parents: list[int | None] = [None] * _PLACES
        """The code of a text without its last byte; -1 for single bytes, None where there is none."""
        self.bytes = bytearray(_PLACES)
        self._further = [0] * _PLACES

    def add(self, parent: int, byte: int) -> int:
        """Enter a text that is another's with a byte more; gives its code."""
        if self._is_fast:
            place = (parent + byte & 0xFFFF) * 15073 & 0xFFF
        else:
            place = (parent + byte | 0x800) & 0xFFFF
            place = place * place >> 6 & 0xFFF
        if self.parents[place] is not None:
            while self._further[place]:
                place = self._further[place]
            free = place + 101 & 0xFFF
            while self.parents[free] is not None:
                free = free + 1 & 0xFFF
            self._further[place] = free
            place = free
        self.parents[place] = parent
        self.bytes[place] = byte
        return place
