"""The store of replaced files: each content is kept once, under its digest."""

import logging
import os
import re
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

from usufruct.backups.origins import Origins
from usufruct.errors import DiffersFromRecord, UnsoundBackup
from usufruct.files.attributes import FULL
from usufruct.files.copying import copy_whole
from usufruct.files.looking import digest_of, state_of
from usufruct.files.platform import Platform
from usufruct.files.writing import restore_attributes
from usufruct.model.records import FileState

_PARTIAL, _DAMAGED = "partial-", "damaged-"
_SHARD, _NAME = re.compile("[0-9a-f]{2}"), re.compile("[0-9a-f]{64}")
_log = logging.getLogger(__name__)


class Backups:
    """Replaced files below one directory, named by the BLAKE3 digest of their content.

    A file comes in by a second name for the same bytes where the file system allows it and nothing else shares them,
    and otherwise by a copy that was made durable and compared before its original may go. What is there already is
    compared before it is relied upon, and what is given back is compared as it is given. Which digests are still
    needed is the ledger's to say; nothing here decides to forget.
    """

    def __init__(self, top: Path, platform: Platform, ledger: str = "unknown") -> None:
        """`ledger`: what tells the one that names these backups from all others."""
        self.top = str(top)
        self.origins = Origins(self.top, ledger, platform)
        self._platform = platform
        self._shards: set[str] = set()
        """Sub-directories known to be there."""
        self._changed: set[str] = set()
        """Sub-directories whose names are not durable yet."""
        self._sound: set[bytes] = set()
        """Digests whose content was compared since this was made."""
        self._change = 0
        """The change whose additions are noted."""
        self._is_staging = False
        self._waiting: set[bytes] = set()
        """Copies of a change that is staging; they get their names once they are noted durably."""

    def path_of(self, digest: bytes) -> str:
        """Where the content of this digest is, or would be."""
        return self._partial(digest) if digest in self._waiting else self._path_of(digest)

    def _path_of(self, digest: bytes) -> str:
        name = digest.hex()
        return f"{self.top}/{name[:2]}/{name}"

    def size_of(self, digest: bytes) -> int:
        """Bytes that the content takes."""
        return os.lstat(self.path_of(digest)).st_size

    def holds(self, digest: bytes) -> bool:
        """Whether the content is here."""
        return os.path.lexists(self.path_of(digest))

    def is_sound(self, digest: bytes) -> bool:
        """Whether the content is here and correct; each is read once."""
        if digest not in self._sound:
            try:
                if digest_of(self.path_of(digest)) != digest:
                    return False
            except OSError:
                return False
            self._sound.add(digest)
        return True

    def is_beside(self, path: str) -> bool:
        """Whether the store is on the drive of `path`, an existing file or directory."""
        os.makedirs(self.top, mode=0o700, exist_ok=True)
        return os.stat(self.top).st_dev == os.lstat(path).st_dev

    def keep(
        self, source: str, state: FileState, *, at: int | None = None, stays: bool = False, about: str = ""
    ) -> None:
        """Back up the file at `source`, which stays there and is known to be in this state.

        `at`: descriptor of the directory in which the last part of `source` is a name. `stays`: the file stays in use,
        so the store needs a copy of its own. `about`: the path that is noted, if it is another. Raises
        DiffersFromRecord if the content is different; the store is then unchanged.
        """
        self._ready(state.digest)
        name = self._partial(state.digest) if self._is_staging else self._path_of(state.digest)
        kept = self.path_of(state.digest)
        try:
            is_linked = not stays and not os.path.lexists(kept) and self._linked(source, state, name, at)
        except FileExistsError:
            is_linked = False
        if is_linked:
            self._entered(state.digest, about or source)
            return
        if os.path.lexists(kept):
            if self.is_sound(state.digest):
                # An interrupted change may have left this file as a second link to one that is in use.
                self.unshare(state.digest)
                return
            self._set_aside(state.digest)
        partial = self._partial(state.digest)
        copy_whole(source, name, self._platform, digest=state.digest, partial=partial, names_later=True)
        self._entered(state.digest, about or source)

    def _entered(self, digest: bytes, path: str) -> None:
        self.origins.enter(digest, self._change, path)
        if self._is_staging:
            self._waiting.add(digest)

    def _linked(self, source: str, state: FileState, kept: str, at: int | None) -> bool:
        """Link the file into the store, if it then has exactly two names; raises FileExistsError."""
        if not self._platform.link(source.rpartition("/")[2] if at is not None else source, kept, at):
            return False
        found = os.lstat(kept)
        is_it = state_of(found).is_same_file(state)
        # Writing to a third link of the file would change the backup.
        if not is_it or found.st_nlink > 2:
            self._platform.unlink(kept)
        return is_it and found.st_nlink <= 2

    def _partial(self, digest: bytes) -> str:
        return f"{self.top}/{_PARTIAL}{digest.hex()}"

    def _set_aside(self, digest: bytes) -> None:
        """Move incorrect content out of the way, but keep it for anybody who may want it."""
        number = 1
        while os.path.lexists(aside := f"{self.top}/{_DAMAGED}{digest.hex()}-{number}"):
            number += 1
        os.rename(self.path_of(digest), aside)
        _log.warning("the backup %s is damaged; it is kept as %s", digest.hex(), aside)

    def give(self, state: FileState, destination: str, *, is_last: bool) -> FileState:
        """Restore the content at `destination`, where nothing exists, with its mode and time; return its state.

        It is compared, but not durable yet; the store keeps its copy until `drop`. The restored file is a copy, so that
        a program that writes to it after an interruption does not change the backup. `is_last`: nobody else needs the
        content, so the same file may be used if there is no room for a copy. Raises UnsoundBackup if the content is
        missing or damaged; then nothing is at `destination`.
        """
        kept = self.path_of(state.digest)
        try:
            # Moved files go to a staging directory, which may contain only recorded names.
            copy_whole(kept, destination, self._platform, digest=state.digest, partial=destination, durable=False)
        except FileNotFoundError as error:
            if os.path.lexists(kept):
                raise
            raise self._unsound(state.digest, destination, "missing from") from error
        except DiffersFromRecord as error:
            raise self._unsound(state.digest, destination, "damaged in") from error
        except OSError as error:
            if error.errno not in FULL or not is_last or not self._given_itself(kept, destination, state.digest):
                raise
        return restore_attributes(destination, state)

    def _given_itself(self, kept: str, destination: str, digest: bytes) -> bool:
        """Link a backup to the destination, if it is sound and nothing else shares its bytes."""
        if os.lstat(kept).st_nlink > 1 or digest_of(kept) != digest:
            return False
        return self._platform.link(kept, destination)

    def _unsound(self, digest: bytes, destination: str, how: str) -> UnsoundBackup:
        return UnsoundBackup(
            f"The backup of {os.path.basename(destination)} is {how} {self.top}.",
            remedy="Put the backups folder back from your own backup of it and try again.",
            path=self.path_of(digest),
        )

    def unshare(self, digest: bytes) -> None:
        """Give the store its own copy of content that a file in use may share; may be repeated.

        Raises DiffersFromRecord if the content is damaged; it stays as it is then.
        """
        kept = self._path_of(digest)
        try:
            if os.lstat(self.path_of(digest)).st_nlink < 2:
                return
        except FileNotFoundError:
            return
        if digest in self._waiting:
            self.make_durable()
        copy_whole(kept, kept, self._platform, digest=digest, partial=self._partial(digest), replaces=True)

    def drop(self, digest: bytes) -> None:
        """Delete the content; may be repeated."""
        self._sound.discard(digest)
        try:
            self._platform.unlink(self.path_of(digest))
        except FileNotFoundError:
            return
        self._changed.add(os.path.dirname(self._path_of(digest)))

    def drop_empty(self) -> None:
        """Remove empty sub-directories."""
        if os.path.isdir(self.top):
            for shard in os.scandir(self.top):
                if _SHARD.fullmatch(shard.name) and shard.is_dir(follow_symlinks=False):
                    with suppress(OSError):  # content is in it
                        os.rmdir(shard.path)
                        self._changed.discard(shard.path)
                        self._changed.add(self.top)
            self._shards.clear()
            if any(map(_SHARD.fullmatch, os.listdir(self.top))):
                self.origins.forget(self.holds)
            else:
                self.origins.drop()

    def digests(self) -> Iterator[bytes]:
        """Digests of all content in the store; files of other programs are ignored."""
        if not os.path.isdir(self.top):
            return
        for shard in os.scandir(self.top):
            if _SHARD.fullmatch(shard.name) and shard.is_dir(follow_symlinks=False):
                for file in os.scandir(shard.path):
                    if _NAME.fullmatch(file.name):
                        yield bytes.fromhex(file.name)

    def set_aside(self) -> list[str]:
        """Paths of damaged content that was kept."""
        if not os.path.isdir(self.top):
            return []
        return sorted(file.path for file in os.scandir(self.top) if file.name.startswith(_DAMAGED))

    # --- what a change brings before its intent is on record ----------------------------------------------

    def begin(self, change: int) -> None:
        """From now on, note what is backed up for this change; the ledger does not record it before `seal`.

        Until then nothing gets a name in the store before its note is durable.
        """
        self._change, self._is_staging = change, True
        self._waiting.clear()
        self.origins.take_back()

    def seal(self) -> None:
        """Prepare for the ledger recording everything that was backed up and will be."""
        self.make_durable()
        self._is_staging = False

    def end(self) -> None:
        """End the change; content that has no name by now gets none."""
        self._change, self._is_staging = 0, False
        self._waiting.clear()

    def brought(self, change: int) -> list[bytes]:
        """Digests of what a change backed up."""
        return self.origins.of_change(change)

    def drop_partial(self) -> None:
        """Remove unfinished copies of an interrupted change."""
        if not os.path.isdir(self.top):
            return
        for file in os.scandir(self.top):
            if file.name.startswith(_PARTIAL) and _NAME.fullmatch(file.name.removeprefix(_PARTIAL)):
                self._platform.unlink(file.path)

    def make_durable(self) -> None:
        """Return when everything backed up since the last time would survive a power cut."""
        self.origins.make_durable()
        for digest in self._waiting:
            self._platform.rename_new(self._partial(digest), self._path_of(digest))
        self._waiting.clear()
        if self._changed:
            self._platform.sync_names([*sorted(self._changed), self.top])
            self._changed.clear()

    def _ready(self, digest: bytes) -> None:
        shard = os.path.dirname(self._path_of(digest))
        if shard not in self._shards:
            os.makedirs(self.top, mode=0o700, exist_ok=True)
            os.makedirs(shard, mode=0o700, exist_ok=True)
            self._shards.add(shard)
        self._changed.add(shard)
