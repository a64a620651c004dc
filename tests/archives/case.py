"""What tests of readers share: a folder, archives written into it, everything read from them."""

import os
import tempfile
import unittest
from collections.abc import Callable
from pathlib import Path

from usufruct.archives.allowance import Limits
from usufruct.archives.opening import open_archive
from usufruct.archives.passwords import Passwords
from usufruct.archives.reading import Access, Archive
from usufruct.model.entries import EntryKind

OLD = 1e9
"""A time long enough ago that a broken download is not taken for one that still grows."""


def access(
    *passwords: str,
    names: str | None = None,
    limits: Limits | None = None,
    ask: Callable[[str, int], str] | None = None,
) -> Access:
    return Access(passwords=Passwords(passwords, ask, given=bool(passwords)), names=names, limits=limits or Limits())


class ArchiveCase(unittest.TestCase):
    def setUp(self) -> None:
        passing = tempfile.TemporaryDirectory()
        self.addCleanup(passing.cleanup)
        self.folder = Path(passing.name)

    def write(self, files: dict[str, bytes]) -> Path:
        """Write files into a fresh directory; gives the path of the first."""
        directory = self.folder / str(len(list(self.folder.iterdir())))
        directory.mkdir()
        for name, content in files.items():
            (directory / name).write_bytes(content)
            os.utime(directory / name, (OLD, OLD))
        return directory / next(iter(files))

    def open(self, path: Path, how: Access | None = None) -> Archive:
        archive = open_archive(path, how)
        self.addCleanup(archive.close)
        return archive

    def opened(self, content: bytes, name: str = "download", how: Access | None = None) -> Archive:
        return self.open(self.write({name: content}), how)


def file_rows(archive: Archive) -> list[int]:
    return [row for row, kind in enumerate(archive.listing.kinds) if kind == EntryKind.FILE]


def contents(archive: Archive) -> dict[str, bytes]:
    """Path → bytes of all files, read as an `add` would."""
    return {archive.listing.path(row): b"".join(blocks) for row, blocks in archive.stream(file_rows(archive))}
