"""Open archives inside archives, and present a download as the single file it is."""

import tempfile
from collections.abc import Iterable, Iterator, Sequence
from copy import copy
from pathlib import Path

from msgspec.structs import replace

from usufruct.archives.allowance import Allowance, Limits
from usufruct.archives.compound import Compound
from usufruct.archives.opening import open_nested
from usufruct.archives.reading import BLOCK, Access, Archive
from usufruct.errors import ArchiveError, DecisionNeeded, UnsafeArchive
from usufruct.files.sources import FileSource, SliceSource
from usufruct.model.entries import EntryKind, Listing
from usufruct.model.facts import Facts

_IN_MEMORY = 32 << 20
"""Bytes of the archives inside one that are kept in memory; beyond, all go to one temporary file."""


class _KeptContent:
    """The bytes of several archives, one after the other. See `Source`."""

    def __init__(self) -> None:
        self._file = tempfile.SpooledTemporaryFile(max_size=_IN_MEMORY, prefix="usufruct-")  # noqa: SIM115 - closed below
        self.size = 0

    def keep(self, blocks: Iterable[bytes], allowance: Allowance) -> SliceSource:
        """Take over the bytes of one archive, counted; returns a source for them."""
        start = self.size
        for block in blocks:
            allowance.read(len(block))
            self._file.seek(self.size)
            self._file.write(block)
            self.size += len(block)
        return SliceSource(self, start, self.size - start)

    def read_at(self, offset: int, count: int) -> bytes:
        """See `Source`."""
        self._file.seek(offset)
        return self._file.read(count)

    def close(self) -> None:
        """Let go of the bytes."""
        self._file.close()


def opened_inside(outer: Archive, rows: Sequence[int], access: Access, *, insist: bool) -> Compound | None:
    """Return the archive with those at `rows` opened; None if none of them can be.

    One that cannot be opened stays a file, unless `insist`: then its error is raised. Raises UnsafeArchive if the
    archives inside unpack to more than the limits allow for the outer one's size.
    """
    inner: dict[int, Archive] = {}
    # Another definition may open other archives: their demands are counted separately.
    kept, allowance = _KeptContent(), copy(outer.allowance)
    # Each archive inside would keep a file open, and its bytes are at hand anyway.
    access = replace(access, spool=None)
    try:
        for row, blocks in outer.stream(rows):
            name = outer.listing.names[row]
            source = kept.keep(blocks, allowance)
            try:
                inner[row] = open_nested(f"{outer.path}/{outer.listing.path(row)}", name, source, access, allowance)
            except UnsafeArchive:
                raise
            except (ArchiveError, DecisionNeeded):
                if insist:
                    raise
    except BaseException:
        for archive in inner.values():
            archive.close()
        kept.close()
        raise
    if not inner:
        kept.close()
        return None
    opened = Compound(outer, size=outer.size, facts=outer.facts, allowance=allowance, keeps=outer, kept=kept)
    opened.listing.are_parts = outer.listing.are_parts
    opened.listing.is_system_package = outer.listing.is_system_package
    opened.take(outer, "", frozenset(inner))
    for row, archive in inner.items():
        opened.take(archive, outer.listing.path(row))
    return opened


class WholeFile:
    """A file presented as one entry, whatever it contains. See `Archive`."""

    is_divisible = False

    format = "file"

    def __init__(self, path: Path, name: str) -> None:
        """`name` is what the entry is called."""
        self.path, self.name = str(path), name
        self.facts = Facts(volumes=(str(path),), has_checksums=False)
        self._source = FileSource(path)
        self.size = self._source.size
        self.extent = (0, self.size)
        self.allowance = Allowance(Limits(), path.name, str(path), self.size)
        self.listing = Listing()
        found = path.stat()
        self.listing.add(0, name, EntryKind.FILE, self.size, found.st_mtime_ns, can_run=bool(found.st_mode & 0o111))

    def refuse_unreadable(self, rows: Iterable[int]) -> None:
        """Nothing in it is packed."""

    def unlock(self) -> None:
        """Nothing is locked."""

    def stream(self, rows: Sequence[int]) -> Iterator[tuple[int, Iterator[bytes]]]:
        """See `Archive.stream`."""
        for row in rows:
            yield row, self._blocks()

    def _blocks(self) -> Iterator[bytes]:
        offset = 0
        while block := self._source.read_at(offset, BLOCK):
            offset += len(block)
            yield block

    def close(self) -> None:
        """Let go of the file."""
        self._source.close()
