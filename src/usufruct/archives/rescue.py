"""Rescue the undamaged entries of an archive that is damaged or incomplete."""

from collections.abc import Iterable, Iterator, Sequence

from msgspec.structs import replace

from usufruct.archives.reading import Archive
from usufruct.errors import DamagedArchive, UnreadableArchive
from usufruct.model.entries import EntryKind, Listing

_IN_VAIN, _MOST_BEGUN = 3, 32
"""Where each try begins anew: bad entries one after the other, and tries, after which the rest is not tried."""


class RescuedArchive:
    """The undamaged entries of another archive. See `Archive`. All were read once to find them."""

    def __init__(self, inner: Archive) -> None:
        """Raises DamagedArchive if nothing of `inner` is whole, PasswordNeeded or WrongPassword if it is locked."""
        self._inner = inner
        self.path, self.name, self.format, self.size = inner.path, inner.name, inner.format, inner.size
        self.extent, self.allowance = inner.extent, inner.allowance
        inner.unlock()
        whole, lost = _read(inner)
        known = inner.listing
        lost = [*inner.facts.lost, *lost]
        # Bytes that were not understood belong to the lost entries, which are named.
        unread = () if lost else inner.facts.unread
        self.facts = replace(inner.facts, is_rescued=True, lost=tuple(lost), unread=unread)
        kept = [(row, entry) for row, entry in enumerate(known) if entry.kind != EntryKind.FILE or row in whole]
        self._rows = [row for row, _ in kept]
        """Row → row of the inner archive."""
        self.listing = Listing.of(entry for _, entry in kept)
        self.listing.refused = known.refused
        if not whole:
            inner.close()
            raise DamagedArchive(
                f"Nothing in {self.name} is whole: none of its entries can be read to its end.",
                remedy="Download it again.",
                path=self.path,
            )

    @property
    def is_divisible(self) -> bool:
        """See `Archive.is_divisible`."""
        return self._inner.is_divisible

    def refuse_unreadable(self, rows: Iterable[int]) -> None:
        """All entries were read."""

    def unlock(self) -> None:
        """It was unlocked to be read."""

    def stream(self, rows: Sequence[int]) -> Iterator[tuple[int, Iterator[bytes]]]:
        """See `Archive.stream`."""
        numbers = {self._rows[row]: row for row in rows}
        for row, blocks in self._inner.stream(list(numbers)):
            yield numbers[row], blocks

    def close(self) -> None:
        """Let go of the file."""
        self._inner.close()


def _read(archive: Archive) -> tuple[set[int], list[str]]:
    """Return the rows of files that can be read to their ends, and the paths of the others."""
    listing = archive.listing
    left = [row for row, kind in enumerate(listing.kinds) if kind == EntryKind.FILE]
    whole: set[int] = set()
    lost: set[int] = set()
    in_vain = begun = 0
    while left:
        started = -1
        begun += 1
        try:
            for row, blocks in archive.stream(left):
                started = row
                try:
                    for _ in blocks:
                        pass
                except (DamagedArchive, UnreadableArchive):
                    if not archive.is_divisible:
                        raise
                    # The others do not depend on it, so the same pass continues.
                    lost.add(row)
                    continue
                whole.add(row)
                in_vain = 0
            break
        except (DamagedArchive, UnreadableArchive):
            in_vain += 1
        # A failure before any entry began is about the first one left, in the archive's order.
        before = len(left)
        left = [row for row in left if row not in whole and row != started and row not in lost]
        if len(left) == before:
            started = left.pop(0)
        if started >= 0 and started not in whole:
            lost.add(started)
        if begun >= _MOST_BEGUN or (in_vain >= _IN_VAIN and not archive.is_divisible):
            lost.update(left)
            break
    return whole, [listing.path(row) for row in sorted(lost)]
