"""Several archives presented as one."""

from collections.abc import Iterable, Iterator, Sequence

from usufruct.archives.allowance import Allowance
from usufruct.archives.reading import Archive
from usufruct.files.sources import Source
from usufruct.model.entries import Listing
from usufruct.model.facts import Facts
from usufruct.planning.names import free_name, spelling_key, tidy_name


class Compound:
    """Several archives presented as one; their entries are called `inner.zip/path`. See `Archive`."""

    is_divisible = False

    def __init__(
        self,
        lead: Archive,
        *,
        size: int,
        facts: Facts,
        allowance: Allowance,
        keeps: Archive | None = None,
        kept: Source | None = None,
    ) -> None:
        """`lead` gives path, name and format. `keeps` is an archive that somebody else closes.

        `kept` holds the bytes of the archives inside, and is closed with them.
        """
        self.path, self.name, self.format, self.size = lead.path, lead.name, lead.format, size
        self.extent = (0, size)
        self.facts = facts
        self.allowance = allowance
        self.listing = Listing()
        self._keeps = keeps
        self._kept = kept
        self._members: list[Archive] = []
        self._homes: list[tuple[Archive, int]] = []
        """Row → the archive it is in and its row there."""

    def take(self, archive: Archive, prefix: str, without: frozenset[int] = frozenset()) -> None:
        """Add the rows of an archive below this directory; it is closed with the compound."""
        self._members.append(archive)
        if prefix:
            self.listing.nested[self.listing.directory(prefix)] = tidy_name(prefix.rpartition("/")[2])
        for row in self.listing.add_all(archive.listing, prefix, without):
            self._homes.append((archive, row))

    def refuse_unreadable(self, rows: Iterable[int]) -> None:
        """See `Archive.refuse_unreadable`."""
        for archive, here in self._by_member(rows):
            archive.refuse_unreadable(here)

    def unlock(self) -> None:
        """See `Archive.unlock`."""
        for archive in self._members:
            archive.unlock()

    def stream(self, rows: Sequence[int]) -> Iterator[tuple[int, Iterator[bytes]]]:
        """See `Archive.stream`; one archive after the other."""
        for archive, here in self._by_member(rows):
            for there, blocks in archive.stream(list(here)):
                yield here[there], blocks

    def _by_member(self, rows: Iterable[int]) -> Iterator[tuple[Archive, dict[int, int]]]:
        """Yield each archive that has some of these rows, with its own row → the row here."""
        found: dict[int, dict[int, int]] = {}
        for row in rows:
            archive, there = self._homes[row]
            found.setdefault(id(archive), {})[there] = row
        for archive in self._members:
            if id(archive) in found:
                yield archive, found[id(archive)]

    def close(self) -> None:
        """Close the archives that the compound owns."""
        for archive in self._members:
            if archive is not self._keeps:
                archive.close()
        if self._kept:
            self._kept.close()


def facts_together(archives: Sequence[Archive]) -> Facts:
    """Return the combined facts of several archives."""
    return Facts(
        packing=tuple(dict.fromkeys(method for archive in archives for method in archive.facts.packing)),
        locks=tuple(dict.fromkeys(cipher for archive in archives for cipher in archive.facts.locks)),
        locked_entries=sum(archive.facts.locked_entries for archive in archives),
        volumes=tuple(path for archive in archives for path in archive.facts.volumes),
        has_checksums=all(archive.facts.has_checksums for archive in archives),
        behind=sum(archive.facts.behind for archive in archives),
        unread=tuple(stretch for archive in archives for stretch in archive.facts.unread),
    )


def opened_together(archives: Sequence[Archive]) -> Compound:
    """Return several downloads as one archive, which closes them."""
    facts = facts_together(archives)
    size = sum(archive.size for archive in archives)
    allowance = Allowance(archives[0].allowance.limits, archives[0].name, archives[0].path, size)
    together = Compound(archives[0], size=size, facts=facts, allowance=allowance)
    together.listing.are_parts = True
    taken: set[str] = set()
    for archive in archives:
        name = archive.name if spelling_key(archive.name) not in taken else free_name(archive.name, taken)
        taken.add(spelling_key(name))
        together.take(archive, name)
    return together
