"""The store of replaced files, by content: each is kept once, under its digest."""

import os
import shutil
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

from usufruct.errors import StoreError
from usufruct.files.looking import digest_of
from usufruct.files.platform import Platform, sync_file

_PARTIAL = "partial-"


class Backups:
    """Replaced files below one directory, named by the BLAKE3 digest of their content.

    A file comes in by a second name for the same bytes where the volume allows it, and otherwise by a copy that
    was made durable and checked before its original may go. Which digests are still needed is the ledger's to
    say; nothing here decides to forget.
    """

    def __init__(self, top: Path, platform: Platform) -> None:
        self.top = str(top)
        self._platform = platform
        self._shards: set[str] = set()
        """Sub-directories known to be there."""
        self._changed: set[str] = set()
        """Sub-directories whose names are not durable yet."""

    def path_of(self, digest: bytes) -> str:
        """Where the content of this digest lies, whether or not it does."""
        name = digest.hex()
        return f"{self.top}/{name[:2]}/{name}"

    def size_of(self, digest: bytes) -> int:
        """Bytes that the content takes."""
        return os.lstat(self.path_of(digest)).st_size

    def holds(self, digest: bytes) -> bool:
        """The content is here."""
        return os.path.lexists(self.path_of(digest))

    def is_beside(self, path: str) -> bool:
        """The store is on the volume of `path`, an existing file or directory."""
        os.makedirs(self.top, exist_ok=True)
        return os.stat(self.top).st_dev == os.lstat(path).st_dev

    def keep(self, source: str, digest: bytes, *, stays: bool = False) -> None:
        """Take in the file at `source`, which stays where it is.

        `stays`: it stays in use there, so that the store needs bytes of its own. Raises StoreError if a copy does not
        have the digest; the store is then as it was.
        """
        kept = self._ready(digest)
        try:
            if not stays and self._platform.link(source, kept):
                return
        except FileExistsError:
            return
        if not os.path.lexists(kept):
            self._copy_in(source, digest)

    def _copy_in(self, source: str, digest: bytes) -> None:
        partial = f"{self.top}/{_PARTIAL}{digest.hex()}"
        shutil.copy2(source, partial)
        if digest_of(partial) != digest:
            os.unlink(partial)
            raise StoreError(
                f"{source} changed while it was being backed up.",
                remedy="Close the program that writes it and try again.",
                path=source,
            )
        sync_file(partial)
        os.replace(partial, self.path_of(digest))

    def give(self, digest: bytes, destination: str, *, is_last: bool) -> None:
        """Put the content at `destination`, where nothing stands; the store keeps its own until `drop`.

        `is_last`: nobody else needs it, so the very same file may go back instead of a copy.
        """
        kept = self.path_of(digest)
        try:
            if not (is_last and self._platform.link(kept, destination)):
                shutil.copy2(kept, destination)
        except FileNotFoundError as error:
            if os.path.lexists(kept):
                raise
            raise StoreError(
                f"The backup of {os.path.basename(destination)} is missing from {self.top}.",
                remedy="Put the backups folder back from your own backup of it and try again.",
                path=kept,
            ) from error

    def part(self, digest: bytes) -> None:
        """Give the store bytes of its own for content that a file in use may share with it; may be repeated."""
        kept = self.path_of(digest)
        try:
            if os.lstat(kept).st_nlink < 2:
                return
        except FileNotFoundError:
            return
        self._copy_in(kept, digest)

    def drop(self, digest: bytes) -> None:
        """Forget the content; may be repeated."""
        with suppress(FileNotFoundError):
            os.unlink(self.path_of(digest))

    def drop_empty(self) -> None:
        """Remove sub-directories in which nothing is left."""
        if os.path.isdir(self.top):
            for shard in os.scandir(self.top):
                if shard.is_dir():
                    with suppress(OSError):  # content is in it
                        os.rmdir(shard.path)
            self._shards.clear()

    def digests(self) -> Iterator[bytes]:
        """The digests of all content here."""
        if not os.path.isdir(self.top):
            return
        for shard in os.scandir(self.top):
            if shard.is_dir():
                yield from (bytes.fromhex(file.name) for file in os.scandir(shard.path))

    def drop_partial(self) -> None:
        """Remove copies that an interrupted change left unfinished."""
        if os.path.isdir(self.top):
            for file in os.scandir(self.top):
                if file.name.startswith(_PARTIAL):
                    os.unlink(file.path)

    def make_durable(self) -> None:
        """Return once what was taken in since the last time would survive a power cut."""
        if self._changed:
            self._platform.sync_names([*sorted(self._changed), self.top])
            self._changed.clear()

    def _ready(self, digest: bytes) -> str:
        kept = self.path_of(digest)
        shard = os.path.dirname(kept)
        if shard not in self._shards:
            os.makedirs(shard, exist_ok=True)
            self._shards.add(shard)
        self._changed.add(shard)
        return kept
