"""How RAR packs the lengths of a block's codes, from the second generation on.

Sources: as of the methods that use it, `lz2`, `lz3` and `lz5`.
"""

from usufruct.archives.bits import Bits, PackedFault
from usufruct.archives.prefix_codes import Code

_OLD_RUNS = {16: (2, 3), 17: (3, 3), 18: (7, 11)}
"""Symbol → bits that say how long the run is, and the shortest, in the second generation."""


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
