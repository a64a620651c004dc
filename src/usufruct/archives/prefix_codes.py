"""Prefix codes: make a lookup table from the lengths of the codes."""

from collections.abc import Sequence

from usufruct.archives.bits import MASKS, Bits, PackedFault

UNUSED = 0xFFFF
"""What stands for a symbol where no code leads; larger than any."""


class Code:
    """A prefix code: shorter codes first, codes of one length in the order of their symbols."""

    __slots__ = ("bits", "lengths", "mask", "symbols")

    def __init__(self, lengths: Sequence[int]) -> None:
        """`lengths` are the bits of each symbol's code, 0 for a symbol without one; PackedFault if they overlap."""
        used = sorted((symbol for symbol, length in enumerate(lengths) if length), key=lengths.__getitem__)
        self._fill([(symbol, lengths[symbol]) for symbol in used], max(lengths, default=0) or 1)

    @classmethod
    def in_order(cls, order: Sequence[tuple[int, int]]) -> "Code":
        """Return the code of these symbols, each with the bits of its code, in the order of the codes."""
        code = cls.__new__(cls)
        code._fill(order, max(length for _, length in order))
        return code

    def _fill(self, order: Sequence[tuple[int, int]], bits: int) -> None:
        self.bits = bits
        self.mask = MASKS[bits]
        self.symbols: list[int] = []
        """Symbol by the next `bits` bits."""
        self.lengths: list[int] = []
        """Bits of that symbol's code, likewise."""
        for symbol, length in order:
            self.symbols += [symbol] * (1 << bits - length)
            self.lengths += [length] * (1 << bits - length)
        missing = (1 << bits) - len(self.symbols)
        if missing < 0:
            raise PackedFault("a table of codes has too many codes")
        self.symbols += [UNUSED] * missing
        self.lengths += [bits] * missing

    def next(self, source: Bits) -> int:
        """Return the next symbol."""
        if source.have < self.bits:
            source.refill()
        index = source.acc >> (source.have - self.bits) & self.mask
        source.have -= self.lengths[index]
        symbol = self.symbols[index]
        if symbol == UNUSED:
            raise PackedFault("a code stands for nothing")
        return symbol
