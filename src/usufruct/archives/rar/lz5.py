"""The method of the fifth generation, and of the seventh, whose dictionaries are larger.

Source: the format's published technical note (headers, blocks) and, for the codes, the readers of libarchive
(archive_read_support_format_rar5.c, BSD licence) and XADMaster (LGPL).

Content is packed in blocks. Each says how long it is, may bring new codes, and ends at a bit, not at a symbol.
"""

from collections.abc import Iterator
from functools import partial
from itertools import pairwise

from usufruct.archives.bits import MASKS, Bits, PackedFault, as_words
from usufruct.archives.prefix_codes import Code
from usufruct.archives.rar.filters import arm, delta, x86
from usufruct.archives.rar.history import Filter, History
from usufruct.archives.rar.lengths import read_lengths
from usufruct.files.sources import Source

_MAIN, _DISTANCES, _LOW, _LENGTHS = 306, 64, 16, 44
"""Symbols of each code."""
_FAR_DISTANCES = 80
"""Symbols of distances since the seventh generation."""
_TABLES, _LAST = 0x80, 0x40
"""Flags of a block: it brings codes; it is the last of its file."""
_LARGEST_FILTERED = 4 << 20
"""Bytes that one filter changes, as readers bound it."""
_MOST_BEYOND = 256
"""Bits behind a block's end that may be looked at."""
_NEVER = 1 << 30
"""More bits than there ever are."""


def _length(symbol: int) -> tuple[int, int]:
    """Length of a match by its symbol: the least, and bits that say how much more."""
    if symbol < 8:
        return symbol + 2, 0
    more = symbol // 4 - 1
    return ((4 + (symbol & 3)) << more) + 2, more


def _distance(symbol: int) -> tuple[int, int]:
    """Distance of a match likewise."""
    if symbol < 4:
        return symbol + 1, 0
    more = symbol // 2 - 1
    return ((2 + (symbol & 1)) << more) + 1, more


_LENGTH_OF = [_length(symbol) for symbol in range(_LENGTHS)]
_DISTANCE_OF = [_distance(symbol) for symbol in range(_FAR_DISTANCES)]
_LOW_OF = list(range(_LOW))


class _Block(Bits):
    """The bits of one block; behind its end there are zeros, for a last look at a table."""

    __slots__ = ("at", "excess", "flags", "packed")

    def __init__(self, data: bytes, flags: int) -> None:
        self.acc = self.have = 0
        self.flags = flags
        self.packed = as_words(data)
        self.at = 0
        """Words that were taken from `packed`."""
        bits = max(0, 8 * (len(data) - 1) + (flags & 7) + 1) if data else 0
        self.excess = 32 * len(self.packed) - bits
        """Bits at the end that are none of the block's: it is over when no others are left."""

    def refill(self) -> None:
        """See `Bits`."""
        if self.at < len(self.packed):
            word = self.packed[self.at]
            self.at += 1
        elif self.excess > _MOST_BEYOND:
            raise PackedFault("a block ends too early")
        else:
            word = 0
            self.excess += 32
        self.acc = (self.acc & MASKS[self.have]) << 32 | word
        self.have += 32


class Unpacker50:
    """Unpacks the files of one stream, in order."""

    def __init__(self, dictionary: int, *, is_far: bool = False) -> None:
        """`is_far` says that the codes are those of the seventh generation."""
        self.history = History(dictionary)
        self._is_far = is_far
        self._codes: tuple[Code, Code, Code, Code] | None = None
        self._recent = [0, 0, 0, 0]
        self._length = 0

    def file(self, packed: Source, size: int) -> Iterator[bytes]:
        """The content of the next file, of `size` bytes; PackedFault if it cannot be unpacked."""
        history = self.history
        begin = history.begin_file()
        end = begin + size
        for block in self._blocks(packed):
            while not self._run(block, history.until(end)):
                yield from history.ready(begin, end)
                if history.position > end:
                    raise PackedFault("it unpacks to more than is stated")
        yield from history.ready(begin, end)
        history.end_file(end)

    def _blocks(self, packed: Source) -> Iterator["_Block"]:
        at = 0
        while True:
            head = packed.read_at(at, 5)
            count = (head[0] >> 3 & 3) + 1 if head else 4
            sizes = head[2 : 2 + count]
            if count == 4 or len(sizes) != count:
                raise PackedFault("a block's header is cut off or impossible")
            check = 0x5A ^ head[0]
            for byte in sizes:
                check ^= byte
            if check != head[1]:
                raise PackedFault("a block's header does not match its checksum")
            size = int.from_bytes(sizes, "little")
            data = packed.read_at(at + 2 + count, size)
            if len(data) != size:
                raise PackedFault("a block is cut off")
            at += 2 + count + size
            yield _Block(data, head[0])
            if head[0] & _LAST:
                return

    def _run(self, block: "_Block", until: int) -> bool:
        """Unpack until `out` is so long, or a little longer; True at the block's end."""
        if block.flags & _TABLES:
            block.flags ^= _TABLES
            self._codes = self._read_codes(block)
        if not self._codes:
            raise PackedFault("the first block brings no codes")
        main, distances, low, lengths = self._codes
        symbols, widths, bits, mask = main.symbols, main.lengths, main.bits, main.mask
        far_symbols, far_widths, far_bits, far_mask = (
            distances.symbols, distances.lengths, distances.bits, distances.mask
        )  # fmt: skip
        out = self.history.out
        dictionary = self.history.dictionary
        append = out.append
        first, second, third, fourth = self._recent
        length = self._length
        words, acc, have, at, excess = block.packed, block.acc, block.have, block.at, block.excess
        count = len(words)
        need = bits if at < count else _NEVER
        try:
            while True:
                if have < need:
                    if at < count:
                        acc = (acc & MASKS[have]) << 32 | words[at]
                        have += 32
                        at += 1
                        if at == count:
                            need = _NEVER
                        if len(out) >= until:
                            return False
                    else:
                        # From here on the block may end before any symbol.
                        if have <= excess:
                            return True
                        if have < bits:
                            acc <<= 32
                            have += 32
                            excess += 32
                index = acc >> (have - bits) & mask
                have -= widths[index]
                symbol = symbols[index]
                if symbol < 256:
                    append(symbol)
                    continue
                if have < 32:
                    # Enough for a length's bits and a distance's code.
                    if at < count:
                        acc = (acc & MASKS[have]) << 32 | words[at]
                        at += 1
                        if at == count:
                            need = _NEVER
                    else:
                        acc <<= 32
                        excess += 32
                    have += 32
                if symbol >= 262:
                    length, more = _LENGTH_OF[symbol - 262]
                    if more:
                        have -= more
                        length += acc >> have & MASKS[more]
                    index = acc >> (have - far_bits) & far_mask
                    have -= far_widths[index]
                    distance, more = _DISTANCE_OF[far_symbols[index]]
                    if more:
                        while have < more + 15:
                            if at < count:
                                acc = (acc & MASKS[have]) << 32 | words[at]
                                at += 1
                                if at == count:
                                    need = _NEVER
                            else:
                                acc = (acc & MASKS[have]) << 32
                                excess += 32
                            have += 32
                        if more >= 4:
                            if more > 4:
                                have -= more - 4
                                distance += (acc >> have & MASKS[more - 4]) << 4
                            index = acc >> (have - low.bits) & low.mask
                            have -= low.lengths[index]
                            distance += _LOW_OF[low.symbols[index]]
                        else:
                            have -= more
                            distance += acc >> have & MASKS[more]
                    if distance > 0x100:
                        length += 1
                        if distance > 0x2000:
                            length += 1
                            if distance > 0x40000:
                                length += 1
                    first, second, third, fourth = distance, first, second, third
                elif symbol >= 258:
                    if symbol == 258:
                        distance = first
                    elif symbol == 259:
                        first, second = second, first
                    elif symbol == 260:
                        first, second, third = third, first, second
                    else:
                        first, second, third, fourth = fourth, first, second, third
                    distance = first
                    index = acc >> (have - lengths.bits) & lengths.mask
                    have -= lengths.lengths[index]
                    length, more = _LENGTH_OF[lengths.symbols[index]]
                    if more:
                        have -= more
                        length += acc >> have & MASKS[more]
                elif symbol == 257:
                    distance = first
                    if not length:
                        continue
                else:
                    block.acc, block.have, block.at, block.excess = acc, have, at, excess
                    self.history.add_filter(self._filter(block))
                    acc, have, at, excess = block.acc, block.have, block.at, block.excess
                    need = bits if at < count else _NEVER
                    continue
                start = len(out) - distance
                if start < 0 or distance > dictionary or not distance:
                    raise PackedFault("a match reaches back behind the begin")
                if distance >= length:
                    out += out[start : start + length]
                else:
                    out += (out[start:] * (length // distance + 1))[:length]
        except IndexError:
            raise PackedFault("a code stands for nothing") from None
        finally:
            block.acc, block.have, block.at, block.excess = acc, have, at, excess
            self._recent = [first, second, third, fourth]
            self._length = length

    def _read_codes(self, block: _Block) -> tuple[Code, Code, Code, Code]:
        far = _FAR_DISTANCES if self._is_far else _DISTANCES
        lengths = read_lengths(block, [0] * (_MAIN + far + _LOW + _LENGTHS), has_long_runs=True)
        begins = (0, _MAIN, _MAIN + far, _MAIN + far + _LOW, len(lengths))
        main, distances, low, others = (Code(lengths[at:end]) for at, end in pairwise(begins))
        return main, distances, low, others

    def _filter(self, block: _Block) -> Filter:
        start = self.history.position + _number(block)
        size = _number(block)
        kind = block.take(3)
        if size > _LARGEST_FILTERED:
            raise PackedFault("a filter changes more than any packer lets it")
        if kind == 0:
            return Filter(start, size, partial(delta, channels=block.take(5) + 1))
        if kind > 3:
            raise PackedFault("it uses a filter that is not known")
        return Filter(start, size, (partial(x86, wraps=True), partial(x86, has_jumps=True, wraps=True), arm)[kind - 1])


def _number(block: _Block) -> int:
    count = block.take(2) + 1
    return sum(block.take(8) << 8 * place for place in range(count))
