"""A directory that was unpacked before, read as an archive."""

import os
import stat
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path

from blake3 import blake3

from usufruct.archives.allowance import Allowance, Limits
from usufruct.archives.reading import BLOCK
from usufruct.archives.rows import Rows
from usufruct.errors import MachineError
from usufruct.files.sources import FileSource
from usufruct.model.entries import EntryKind
from usufruct.model.facts import Facts


class UnpackedFolder:
    """A directory with everything below it. See `Archive`. Links are entries and are never followed."""

    is_divisible = True
    format = "folder"

    def __init__(self, path: Path, limits: Limits) -> None:
        self.path, self.name = str(path), path.name or str(path)
        self.facts = Facts(volumes=(str(path),), has_checksums=False)
        every = list(_below(self.path))
        self.size = sum(found.st_size for _, found in every if stat.S_ISREG(found.st_mode))
        self.extent = (0, self.size)
        self.allowance = Allowance(limits, self.name, self.path, self.size)
        rows = Rows(self.allowance)
        self.listing = rows.listing
        for relative, found in every:
            kind = _kind_of(found.st_mode)
            if kind is None:
                rows.refuse(relative, "it is neither a file nor a folder nor a link")
                continue
            target = os.readlink(f"{self.path}/{relative}") if kind is EntryKind.LINK else ""  # noqa: PTH115 - as it is written
            size = found.st_size if kind is EntryKind.FILE else 0
            can_run = kind is EntryKind.FILE and bool(found.st_mode & 0o111)
            rows.enter(relative, kind, size, found.st_mtime_ns, can_run=can_run, target=target)

    def refuse_unreadable(self, rows: Iterable[int]) -> None:
        """Nothing in it is packed."""

    def unlock(self) -> None:
        """Nothing is locked."""

    def stream(self, rows: Sequence[int]) -> Iterator[tuple[int, Iterator[bytes]]]:
        """See `Archive.stream`."""
        for row in rows:
            yield row, self._blocks(row)

    def _blocks(self, row: int) -> Iterator[bytes]:
        entry = self.listing.path(row)
        try:
            source = FileSource(Path(self.path, entry))
        except OSError as error:
            raise MachineError(
                f"{entry} in {self.path} cannot be read: {error.strerror}.",
                remedy="Check its permissions, or leave it out with --skip.",
                path=f"{self.path}/{entry}",
            ) from error
        offset, size = 0, self.listing.sizes[row]
        try:
            while block := source.read_at(offset, BLOCK):
                offset += len(block)
                yield block
        finally:
            source.close()
        if offset != size:
            raise MachineError(
                f"{entry} in {self.path} changed while it was read.", remedy="Try again once nothing writes there."
            )

    def close(self) -> None:
        """Nothing is open."""


def digest_of_folder(path: str) -> tuple[int, bytes]:
    """Return the bytes of all files below a directory, and a digest of their paths, sizes and times.

    It shows whether the directory has changed; content is hashed when it is placed.
    """
    digest, size = blake3(), 0
    for relative, found in sorted(_below(path)):
        digest.update(os.fsencode(f"{relative}\0{found.st_size}\0{found.st_mtime_ns}\0{found.st_mode}\n"))
        size += found.st_size if stat.S_ISREG(found.st_mode) else 0
    return size, digest.digest()


def _below(top: str) -> Iterator[tuple[str, os.stat_result]]:
    """Yield everything below a directory by relative path; directories only if they are empty."""

    def told(error: OSError) -> None:
        raise MachineError(
            f"{error.filename} cannot be read: {error.strerror}.", remedy="Check its permissions.", path=str(top)
        ) from error

    for here, directories, names in os.walk(top, onerror=told):
        relative = os.path.relpath(here, top).replace(os.sep, "/")
        prefix = "" if relative == "." else f"{relative}/"
        links = [name for name in directories if stat.S_ISLNK(os.lstat(f"{here}/{name}").st_mode)]
        for name in sorted((*names, *links)):
            yield f"{prefix}{name}", os.lstat(f"{here}/{name}")
        if prefix and not names and not directories:
            yield relative, os.lstat(here)


def _kind_of(mode: int) -> EntryKind | None:
    kinds = ((stat.S_ISREG, EntryKind.FILE), (stat.S_ISLNK, EntryKind.LINK), (stat.S_ISDIR, EntryKind.DIRECTORY))
    return next((kind for is_kind, kind in kinds if is_kind(mode)), None)
