"""Prefix codes: from the lengths of the codes to a table that tells a symbol at one look."""

from collections.abc import Sequence

from usufruct.archives.rar.bits import MASKS, Bits, PackedFault

UNUSED = 0xFFFF
"""What stands for a symbol where no code leads; larger than any."""


_OLD_RUNS = {16: (2, 3), 17: (3, 3), 18: (7, 11)}
"""Symbol → bits that say how long the run is, and the shortest, in the second generation."""


class Code:
    """A prefix code: shorter codes first, those of one length in the order of their symbols."""

    __slots__ = ("bits", "lengths", "mask", "symbols")

    def __init__(self, lengths: Sequence[int]) -> None:
        """`lengths` are the bits of each symbol's code, 0 for a symbol without one; PackedFault if they overlap."""
        used = sorted((symbol for symbol, length in enumerate(lengths) if length), key=lengths.__getitem__)
        self._fill([(symbol, lengths[symbol]) for symbol in used], max(lengths, default=0) or 1)

    @classmethod
    def in_order(cls, order: Sequence[tuple[int, int]]) -> "Code":
        """The code of symbols and the bits of each one's, in the order of the codes."""
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
            raise PackedFault("a table of codes has more codes than can be told apart")
        self.symbols += [UNUSED] * missing
        self.lengths += [bits] * missing

    def next(self, source: Bits) -> int:
        """The next symbol."""
        if source.have < self.bits:
            source.refill()
        index = source.acc >> (source.have - self.bits) & self.mask
        source.have -= self.lengths[index]
        symbol = self.symbols[index]
        if symbol == UNUSED:
            raise PackedFault("a code stands for nothing")
        return symbol


def read_lengths(source: Bits, before: list[int], *, has_long_runs: bool) -> list[int]:
    """The lengths of a block's codes, themselves packed by a code; each is added to the one `before` it.

    With `has_long_runs`, as from the third generation on, the code of lengths may skip symbols, and there is a long and
    a short run of the length before.
    """
    code = Code(_lengths_of_lengths(source, has_long_runs=has_long_runs))
    lengths: list[int] = []
    count = len(before)
    while len(lengths) < count:
        symbol = code.next(source)
        if symbol < 16:
            lengths.append(symbol + before[len(lengths)] & 15)
            continue
        if has_long_runs:
            again = source.take(7) + 11 if symbol & 1 else source.take(3) + 3
            is_repeat = symbol < 18
        else:
            more, least = _OLD_RUNS[symbol]
            again = source.take(more) + least
            is_repeat = symbol == 16
        if is_repeat and not lengths:
            raise PackedFault("a table of codes repeats a length before it has one")
        lengths += [lengths[-1] if is_repeat else 0] * again
    return lengths[:count]


def _lengths_of_lengths(source: Bits, *, has_long_runs: bool) -> list[int]:
    if not has_long_runs:
        return [source.take(4) for _ in range(19)]
    lengths: list[int] = []
    while len(lengths) < 20:
        length = source.take(4)
        if length == 15 and (skipped := source.take(4)):
            lengths += [0] * (skipped + 2)
        else:
            lengths.append(length)
    return lengths[:20]
