"""What was unpacked last: what matches are copied from, what filters change, and what is handed out."""

from collections.abc import Callable, Iterator

from msgspec import Struct

from usufruct.archives.bits import PackedFault

_A_LITTLE = 1 << 12
"""Bytes that are handed out at least at once."""
_MOST_FILTERS = 8192
"""Waiting at once; packers write a few."""
_SLACK = 4 << 20
"""Bytes over the dictionary that are kept before the oldest are dropped, which costs a copy at times."""
HANDED = 1 << 20
"""Bytes that are handed out at once."""


class Filter(Struct, frozen=True):
    """A change of a stretch of content on its way out; matches are copied from what was there before it."""

    start: int
    """From the stream's begin."""
    size: int
    change: Callable[[bytes, int], bytes]
    """Of the bytes, and their offset in their file; must give as many."""


class History:
    """The latest bytes of a stream. `out` only grows at its end, until `drop` takes the oldest away."""

    def __init__(self, dictionary: int) -> None:
        """`dictionary` is how many bytes back a match may reach."""
        self.dictionary = dictionary
        self.out = bytearray()
        self._gone = 0
        """Bytes of the stream before `out`."""
        self._sent = 0
        """Bytes of the stream that were handed out."""
        self._filters: list[Filter] = []

    @property
    def position(self) -> int:
        """Bytes of the stream so far."""
        return self._gone + len(self.out)

    def add_filter(self, made: Filter) -> None:
        """Change a stretch that is not handed out yet; in the order of their begins, and none into another."""
        last = self._filters[-1] if self._filters else None
        if made.start < (last.start if last else self._sent) or len(self._filters) >= _MOST_FILTERS:
            raise PackedFault("a filter changes what is over, or there are too many")
        if last and made.start < last.start + last.size and (made.start, made.size) != (last.start, last.size):
            raise PackedFault("a filter reaches into another")
        self._filters.append(made)

    def until(self, end: int) -> int:
        """How long `out` must be for the next bytes of a file that ends at `end` to be handed out."""
        if self.position >= end:
            # All is there; what follows can only be the sign of the end.
            return len(self.out) + _A_LITTLE
        if self._filters and self._filters[0].start <= self._sent:
            wanted = self._filters[0].start + self._filters[0].size
        else:
            wanted = min(self._sent + HANDED, end)
        return wanted - self._gone

    def ready(self, begin: int, end: int) -> Iterator[bytes]:
        """What of a file from `begin` to `end` can be handed out; its last bytes as soon as they are there."""
        while (there := min(self.position, end)) > self._sent:
            first = self._filters[0] if self._filters else None
            if first is None or first.start > self._sent:
                upto = min(there, first.start if first else end, self._sent + HANDED)
                if upto - self._sent < HANDED and upto == there != end:
                    break  # more will follow
                yield bytes(self.out[self._sent - self._gone : upto - self._gone])
                self._sent = upto
            elif first.start + first.size > end:
                raise PackedFault("a filter reaches over the end of its file")
            elif first.start + first.size > there:
                break
            else:
                data = bytes(self.out[self._sent - self._gone : first.start + first.size - self._gone])
                self._sent += len(data)
                while self._filters and self._filters[0].start == first.start:
                    data = self._filters.pop(0).change(data, first.start - begin)
                yield from (data[at : at + HANDED] for at in range(0, len(data), HANDED))
        self._drop()

    def repeat(self, distance: int, length: int) -> None:
        """Copy a match; methods that have many do it themselves."""
        start = len(self.out) - distance
        if start < 0 or not 0 < distance <= self.dictionary:
            raise PackedFault("a match reaches back behind the begin")
        if distance >= length:
            self.out += self.out[start : start + length]
        else:
            self.out += (self.out[start:] * (length // distance + 1))[:length]

    def begin_file(self) -> int:
        """Where the next file begins. Filters are forgotten: none reaches into the next file."""
        self._sent = self.position
        self._filters.clear()
        return self._sent

    def end_file(self, end: int) -> None:
        """Drop what was unpacked behind a file's end."""
        del self.out[max(0, end - self._gone) :]

    def _drop(self) -> None:
        over = min(len(self.out) - self.dictionary, self._sent - self._gone)
        if over > max(_SLACK, self.dictionary >> 2):
            del self.out[:over]
            self._gone += over
