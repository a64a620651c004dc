"""LZH with codes that each block brings, as arj and zoo have it, and arj's fastest method without codes.

Source: XADMaster (XADLZHStaticHandle.m, XADARJFastestHandle.m, LGPL).
"""

from collections.abc import Iterable, Iterator

from usufruct.archives.bits import Bits, PackedFault
from usufruct.archives.prefix_codes import Code
from usufruct.archives.reading import BLOCK

_LONGEST = 16
"""Bits of a code."""
_LITERALS, _LENGTHS_OF_LENGTHS = 510, 19
"""Symbols of the codes: 256 bytes and 254 lengths; 19 lengths of lengths."""
_AT_GAP = 3
"""Lengths of lengths after which it is said how many have none."""


def unlzh(blocks: Iterable[bytes], size: int, window: int) -> Iterator[bytes]:
    """What was packed with a window of 2 to the power of `window` bytes, `size` bytes of it. Raises PackedFault."""
    bits = Bits(blocks)
    out = _Window(1 << window)
    left = 0
    literals = distances = Code.constant(0)
    width = 5 if window >= 15 else 4
    while out.total < size:
        if not left:
            left = bits.take(16)
            if not left:
                raise PackedFault("a block holds nothing")
            literals = _literals(bits)
            distances = _code(bits, width, most=window + 1)
        left -= 1
        symbol = literals.next(bits)
        if symbol < 256:
            out.literal(symbol)
            continue
        slot = distances.next(bits)
        distance = slot + 1 if slot < 2 else (1 << slot - 1) + bits.take(slot - 1) + 1
        out.repeat(distance, symbol - 253)
        if len(out.bytes) > out.most:
            yield out.ready()
    yield out.rest(size)


def unlzh_fast(blocks: Iterable[bytes], size: int) -> Iterator[bytes]:
    """What arj packed at its fastest: lengths and distances say their bits themselves."""
    bits = Bits(blocks)
    out = _Window(1 << 15)
    while out.total < size:
        length = _number(bits, 0, 7)
        if not length:
            out.literal(bits.take(8))
            continue
        out.repeat(_number(bits, 9, 13) + 1, length + 2)
        if len(out.bytes) > out.most:
            yield out.ready()
    yield out.rest(size)


def _number(bits: Bits, least: int, most: int) -> int:
    value, width = 0, least
    while width < most and bits.take(1):
        value += 1 << width
        width += 1
    return value + bits.take(width)


def _literals(bits: Bits) -> Code:
    meta = _code(bits, 5, most=_LENGTHS_OF_LENGTHS, gap=_AT_GAP)
    count = bits.take(9)
    if not count:
        return Code.constant(bits.take(9))
    lengths: list[int] = []
    while len(lengths) < count:
        symbol = meta.next(bits)
        if symbol > 2:
            lengths.append(symbol - 2)
        else:
            lengths += [0] * (1, 3, 20)[symbol]
            lengths += [0] * bits.take((0, 4, 9)[symbol])
    if len(lengths) > _LITERALS:
        raise PackedFault("a table of codes has more than there are symbols")
    return Code(lengths)


def _code(bits: Bits, width: int, *, most: int, gap: int = 0) -> Code:
    count = bits.take(width)
    if not count:
        symbol = bits.take(width)
        if symbol >= most:
            raise PackedFault("a code stands for nothing")
        return Code.constant(symbol)
    lengths: list[int] = []
    while len(lengths) < count:
        length = bits.take(3)
        if length == 7:
            while bits.take(1):
                length += 1
        if length > _LONGEST:
            raise PackedFault("a code is longer than can be")
        lengths.append(length)
        if len(lengths) == gap:
            lengths += [0] * bits.take(2)
    if len(lengths) > most:
        raise PackedFault("a table of codes has more than there are symbols")
    return Code(lengths)


class _Window:
    """The latest bytes, and those that are not handed out yet."""

    def __init__(self, size: int) -> None:
        self.bytes = bytearray()
        self.total = 0
        self.most = BLOCK + 2 * size
        self._size = size
        self._sent = 0
        """Of `bytes`, those that were handed out."""
        self.literal_to = self.bytes.append

    def literal(self, byte: int) -> None:
        self.literal_to(byte)
        self.total += 1

    def repeat(self, distance: int, length: int) -> None:
        start = len(self.bytes) - distance
        if start < 0 or distance > self._size:
            raise PackedFault("a match reaches back behind the begin")
        if distance >= length:
            self.bytes += self.bytes[start : start + length]
        else:
            self.bytes += (self.bytes[start:] * (length // distance + 1))[:length]
        self.total += length

    def ready(self) -> bytes:
        """What was not handed out yet."""
        block = bytes(self.bytes[self._sent :])
        del self.bytes[: -self._size]
        self._sent = len(self.bytes)
        return block

    def rest(self, size: int) -> bytes:
        """The last of it, up to so many bytes in all."""
        return bytes(self.bytes[self._sent : len(self.bytes) - (self.total - size)])
