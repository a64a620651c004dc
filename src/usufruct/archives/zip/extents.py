"""The byte ranges of a zip's entries: find entries that overlap, and bytes that belong to none."""

from array import array
from collections.abc import Iterator, Sequence
from itertools import chain, compress, islice
from operator import add, gt, sub

from usufruct.archives.reading import BLOCK
from usufruct.files.sources import Source

_HEADER_SIZE = 30
"""APPNOTE 4.3.7: bytes of an entry's own header, without its name and extra field."""
_DESCRIPTOR = 0x8
"""APPNOTE 4.4.4: the flag of an entry that a descriptor follows."""
_DESCRIPTOR_SIZES = (12, 16, 20, 24)
"""APPNOTE 4.3.9: bytes of a descriptor, in 32 or 64 bits, without its mark or with it."""
_SIGNATURE_MARK = b"PK\x05\x05"
"""APPNOTE 4.3.13: what the signature behind a directory's entries begins with."""
_SIGNED_BLOCK_MARK = b"APK Sig Block 42"
"""What ends the signatures of an Android package, which stand before its directory."""


class Extents:
    """Where the entries of a zip begin, and their known sizes; one row each."""

    def __init__(self) -> None:
        self.offsets: array[int] = array("Q")
        self.packed: array[int] = array("Q")
        self.name_sizes = array("H")
        self.extra_sizes = array("H")
        """Of the extra fields in the directory; those before the content are of other sizes."""
        self.flags = array("H")

    @property
    def columns(self) -> tuple["array[int]", ...]:
        """Return all columns, in the order of `extend`."""
        return self.offsets, self.packed, self.name_sizes, self.extra_sizes, self.flags

    def extend(self, *values: Sequence[int]) -> None:
        """Add rows, given as columns: offsets, packed sizes, sizes of names and of extra fields, flags."""
        for column, more in zip(self.columns, values, strict=True):
            column.extend(more)

    def joined(self, other: "Extents") -> "Extents":
        """Return the rows of both, those of the other last."""
        if not other.offsets:
            return self
        both = Extents()
        for one in (self, other):
            both.extend(*one.columns)
        return both

    def in_order(self) -> tuple["Extents", Sequence[int]]:
        """Return the rows sorted by offset, and the number of each here."""
        if not any(map(gt, self.offsets, islice(self.offsets, 1, None))):
            return self, range(len(self.offsets))
        order = sorted(range(len(self.offsets)), key=self.offsets.__getitem__)
        ordered = Extents()
        ordered.extend(*([column[row] for row in order] for column in self.columns))
        return ordered, order

    def overlap(self) -> int | None:
        """Return the first row that reaches into the next one. The rows are sorted."""
        reaching = map(gt, self._content_ends(), islice(self.offsets, 1, None))
        return next(compress(range(len(self.offsets)), reaching), None)

    def unread(self, source: Source, stop: int) -> Iterator[tuple[int, int]]:
        """Yield offset and size of gaps between the entries, up to `stop`. The rows are sorted.

        The headers between two entries' content have few different sizes in one archive. So one header of each size is
        read, and all of them only if unknown bytes follow the first.
        """
        examples = dict(zip(self._between(stop), range(len(self.offsets)), strict=True))
        odd = {size for size, row in examples.items() if self._unread_behind(row, source, stop)}
        for row in compress(range(len(self.offsets)), map(odd.__contains__, self._between(stop))) if odd else ():
            if size := self._unread_behind(row, source, stop):
                yield self._follows(row, stop) - size, size

    def _between(self, stop: int) -> Iterator[tuple[int, int, int]]:
        """Yield for each row the bytes before the next one beyond its content and name, its extra fields, its flags."""
        follow = chain(islice(self.offsets, 1, None), (stop,))
        room = map(sub, follow, map(add, self._content_ends(), self.name_sizes))
        return zip(room, self.extra_sizes, self.flags, strict=True)

    def _follows(self, row: int, stop: int) -> int:
        """Return where the next entry begins; `stop` for the last."""
        return self.offsets[row + 1] if row + 1 < len(self.offsets) else stop

    def _content_ends(self) -> Iterator[int]:
        """Return where each entry's content would end if its header had neither name nor extra field."""
        return map(_HEADER_SIZE.__add__, map(add, self.offsets, self.packed))

    def _unread_behind(self, row: int, source: Source, stop: int) -> int:
        """Return how many bytes before the next entry, or `stop`, belong to nothing known."""
        stop = self._follows(row, stop)
        head = source.read_at(self.offsets[row], _HEADER_SIZE)
        more = int.from_bytes(head[26:28], "little") + int.from_bytes(head[28:30], "little")
        begin = self.offsets[row] + _HEADER_SIZE + more + self.packed[row]
        if self.flags[row] & _DESCRIPTOR and stop - begin in _DESCRIPTOR_SIZES:
            return 0
        return 0 if is_known(source, begin, stop) else stop - begin


def is_known(source: Source, begin: int, stop: int) -> bool:
    """Whether bytes outside of all entries are a signature, padding, or nothing."""
    # An entry may state any size: reading finds that its content ends too early.
    if begin >= stop or source.read_at(begin, len(_SIGNATURE_MARK)) == _SIGNATURE_MARK:
        return True
    tail = max(begin, stop - len(_SIGNED_BLOCK_MARK))
    if source.read_at(tail, stop - tail) == _SIGNED_BLOCK_MARK:
        return True
    return not any(source.read_at(at, min(BLOCK, stop - at)).strip(b"\0") for at in range(begin, stop, BLOCK))
