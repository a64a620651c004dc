"""The method of the first generation, RAR 1.5: fixed codes over tables that are sorted by use as they are read.

Source: XADMaster (XADRAR15Handle.m, LGPL).
"""

from collections.abc import Iterator

from usufruct.archives.bits import Bits, PackedFault
from usufruct.archives.prefix_codes import Code
from usufruct.archives.rar.common import blocks_of
from usufruct.archives.rar.history import History
from usufruct.files.sources import Source

DICTIONARY = 1 << 16
"""Bytes of the window."""


def _fixed(*runs: tuple[int, int]) -> Code:
    """A code whose symbols have these many bits, that often."""
    return Code([length for length, count in runs for _ in range(count)])


_LENGTHS = (
    _fixed((2, 2), (3, 1), (4, 2), (5, 2), (6, 4), (7, 5), (8, 4), (9, 4), (10, 8), (12, 224)),
    _fixed((3, 5), (4, 2), (5, 2), (6, 4), (7, 5), (8, 4), (9, 4), (10, 8), (11, 2), (12, 220)),
)
"""The two fixed codes of lengths: bits, and how many codes have so many."""
_PLACES = (
    _fixed((4, 8), (5, 8), (6, 8), (7, 9), (12, 224)),
    _fixed((5, 4), (6, 40), (7, 16), (8, 16), (9, 4), (11, 47), (12, 130)),
    _fixed((5, 2), (6, 5), (7, 46), (8, 64), (9, 116), (10, 24)),
    _fixed((6, 2), (7, 14), (8, 202), (9, 33), (10, 6)),
    _fixed((8, 255), (9, 2)),
)
"""Codes of places in a table, from those for places that are mostly low."""
_TAIL = ((11, 5), (12, 6), (13, 6))
"""What the codes of distances end with."""
_SHORT = {
    (False, False): Code.in_order(
        [(0, 1), (10, 4), *_TAIL, (1, 3), (9, 4), (2, 4), (3, 4), (4, 5), (5, 6), (6, 7), (7, 8), (8, 8)]
    ),
    (True, False): Code.in_order(
        [(0, 1), (10, 4), *_TAIL, (1, 4), (14, 4), (9, 4), (2, 4), (3, 4), (4, 5), (5, 6), (6, 7), (7, 8), (8, 8)]
    ),
    (False, True): Code.in_order(
        [(0, 2), (1, 3), (2, 3), (10, 4), *_TAIL, (3, 3), (9, 4), (4, 4), (5, 4), (6, 5), (7, 6), (8, 6)]
    ),
    (True, True): Code.in_order(
        [(0, 2), (1, 3), (2, 3), (10, 4), *_TAIL, (3, 4), (14, 4), (9, 4), (4, 4), (5, 4), (6, 5), (7, 6), (8, 6)]
    ),
}
"""Whether far matches have a sign, and whether matches are mostly longer → code of a short match."""
_FAR = 14
"""Kinds from here on are far matches; those between `_LAST` and it repeat a distance of the last four matches."""
_LAST = 9
"""The kind that repeats the match before; those below are short matches."""
_STEP, _FULL, _HALVED = 0x10, 0xFF, 0x90
"""By how much a flag's weight grows, where it is full, and what it falls to."""


class _Table:
    """Values that move to the front as they are met: to where those begin that were met as often."""

    def __init__(self, values: list[int], most: int) -> None:
        self._values = values
        self._met = [0] * 256
        """Value's place → how often it was met since the counts were spread."""
        self._starts = [0] * 256
        """Count → place where the values begin that were met so often."""
        self._most = most

    def take(self, place: int) -> int:
        """The value at a place."""
        if self._met[place] >= self._most:
            self.spread()
        met = self._met[place]
        front = self._starts[met]
        self._starts[met] = front + 1 & 0xFF
        values, counts = self._values, self._met
        value = values[place]
        values[place], counts[place] = values[front], counts[front]
        values[front], counts[front] = value, met + 1
        return value

    def spread(self) -> None:
        """Give the values counts by their places, the foremost the highest."""
        self._met = [7 - place // 32 for place in range(256)]
        self._starts = [(7 - count) * 32 for count in range(7)] + [0] * 249


class Unpacker15:
    """Unpacks the files of one stream, in order."""

    def __init__(self) -> None:
        self.history = History(DICTIONARY)
        self._flag_table = _Table([-value & 0xFF for value in range(256)], 0xFF)
        self._byte_table = _Table(list(range(256)), 0xA1)
        self._far_table = _Table(list(range(256)), 0xFF)
        self._far_table.spread()
        self._near_table = list(range(256))
        self._recent = [0, 0, 0, 0]
        self._distance = self._length = 0
        self._has_far = False
        self._far_from = 0x2001
        """Distance from which on a match is a byte longer than said."""
        self._byte_weight = self._match_weight = 0x80
        self._byte_mean, self._short_mean, self._length_mean, self._place_mean, self._near_mean = 0x3500, 0, 0, 0, 0
        self._bytes = self._repeats = 0

    def file(self, packed: Source, size: int) -> Iterator[bytes]:
        """The content of the next file, of `size` bytes; PackedFault if it cannot be unpacked."""
        history = self.history
        end = history.begin_file() + size
        self._bits = Bits(blocks_of(packed, packed.size))
        self._flags = self._left = 0
        self._only_bytes = False
        self._repeats = self._bytes = 0
        while history.position < end:
            until = history.until(end)
            while len(history.out) < until:
                self._step()
            yield from history.ready(end - size, end)
        history.end_file(end)

    def _step(self) -> None:
        if self._only_bytes:
            self._byte()
        elif self._flag():
            self._expected(is_likely=True)
        elif self._flag():
            self._expected(is_likely=False)
        else:
            self._short_match()

    def _expected(self, *, is_likely: bool) -> None:
        if (self._match_weight > self._byte_weight) == is_likely:
            self._long_match()
        else:
            self._byte()

    def _flag(self) -> int:
        if not self._left:
            place = _PLACES[2].next(self._bits)
            if place > 255:
                raise PackedFault("flags are looked for behind their table")
            self._flags = self._flag_table.take(place)
            self._left = 8
        self._left -= 1
        return self._flags >> self._left & 1

    def _byte(self) -> None:
        mean = self._byte_mean
        which = (mean >= 0xE00) + (mean >= 0x3600) + (mean >= 0x5E00) + (mean >= 0x7600)
        place = _PLACES[which].next(self._bits)
        if self._only_bytes:
            if not place:
                self._leave_bytes()
                return
            place -= 1
        else:
            place &= 0xFF
            self._bytes += 1
            if self._bytes > 16 and not self._left:
                self._only_bytes = True
        self._byte_mean += place
        self._byte_mean -= self._byte_mean >> 8
        self._byte_weight += _STEP
        if self._byte_weight > _FULL:
            self._byte_weight = _HALVED
            self._match_weight >>= 1
        self.history.out.append(self._byte_table.take(place))

    def _leave_bytes(self) -> None:
        """Among bytes only, the first place stands for their end, or for one match."""
        if self._bits.take(1):
            self._only_bytes = False
            self._bytes = 0
            return
        length = 3 + self._bits.take(1)
        distance = _PLACES[2].next(self._bits) << 5 | self._bits.take(5)
        self.history.repeat(distance, length)

    def _long_match(self) -> None:
        bits = self._bits
        self._bytes = 0
        self._match_weight += _STEP
        if self._match_weight > _FULL:
            self._match_weight = _HALVED
            self._byte_weight >>= 1
        if self._length_mean >= 122:
            length = _LENGTHS[1].next(bits)
        elif self._length_mean >= 64:
            length = _LENGTHS[0].next(bits)
        else:
            length = 0
            while length < 8 and not bits.take(1):
                length += 1
            if length == 8:
                length = bits.take(8)
        mean = self._place_mean
        place = _PLACES[(mean >= 0x700) + (mean >= 0x2900)].next(bits)
        if place > 255:
            raise PackedFault("a distance is looked for behind its table")
        distance = self._far_table.take(place) << 7 | bits.take(7)
        far_from = self._far_from
        is_low = self._near_mean > 0xB0 or (self._byte_mean >= 0x2A00 and self._length_mean < 0x40)
        self._far_from = 0x7F00 if is_low else 0x2001
        self._length_mean += length
        self._length_mean -= self._length_mean >> 5
        self._place_mean += place
        self._place_mean -= self._place_mean >> 8
        if not length and distance <= far_from:
            self._near_mean += 1
            self._near_mean -= self._near_mean >> 8
        elif length not in (1, 4) and self._near_mean:
            self._near_mean -= 1
        self._match(distance, length + 3 + (distance >= far_from) + 8 * (distance <= 256))

    def _short_match(self) -> None:
        bits = self._bits
        self._bytes = 0
        if self._repeats == 2:
            if bits.take(1):
                self.history.repeat(self._distance, self._length)
                return
            self._repeats = 0
        kind = _SHORT[self._has_far, self._short_mean >= 37].next(bits)
        if kind == _LAST:
            self._repeats += 1
            self.history.repeat(self._distance, self._length)
            return
        self._repeats = 0
        if kind < _LAST:
            self._short_mean += kind
            self._short_mean -= self._short_mean >> 4
            place = _PLACES[2].next(bits) & 0xFF
            table = self._near_table
            distance = table[place]
            if place:
                table[place], table[place - 1] = table[place - 1], distance
            self._match(distance + 1, kind + 2)
        elif kind < _FAR:
            distance = self._recent[kind - _LAST - 1]
            length = _LENGTHS[0].next(bits) + 2
            if length == 0x101 and kind == 10:
                self._has_far = not self._has_far
                return
            self._match(distance, length + (distance > 256) + (distance >= self._far_from))
        else:
            self._length = _LENGTHS[1].next(bits) + 5
            self._distance = bits.take(15) + 0x8000
            self.history.repeat(self._distance, self._length)

    def _match(self, distance: int, length: int) -> None:
        self._recent = [distance, *self._recent[:3]]
        self._distance, self._length = distance, length
        self.history.repeat(distance, length)
