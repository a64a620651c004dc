"""Where backups came from, noted beside them: what the ledger says of them may be lost.

Each ledger notes in a file of its own, called by what tells it from all others. A note is durable before its backup is
relied upon. A line is the digest, the number of the change that brought it, and the path, quoted as in an address.
"""

import os
from collections.abc import Callable, Iterator
from typing import NamedTuple
from urllib.parse import quote, unquote_to_bytes

from usufruct.files.noted import SETTLED, directory_of_notes, names_in_directory, others
from usufruct.files.platform import Platform
from usufruct.files.private import private_opener

_MANY = 256 << 10
"""Bytes of notes before those of backups that are gone are left out."""


class _Origin(NamedTuple):
    digest: bytes
    change: int
    path: str


class Origins:
    """The notes beside the backups in one directory, as one ledger sees them."""

    def __init__(self, top: str, ledger: str, platform: Platform) -> None:
        self._top = directory_of_notes(top)
        self._ledger = ledger
        self._platform = platform
        self._is_durable = True

    @property
    def _own(self) -> str:
        return f"{self._top}/{self._ledger}"

    def take_back(self) -> None:
        """Note that the ledger is in use again, so that losing it once more is reported once more."""
        settled = f"{self._own}{SETTLED}"
        if not os.path.exists(settled):
            return
        with (
            open(settled, encoding="ascii") as before,
            open(self._own, "a", encoding="ascii", opener=private_opener) as notes,
        ):
            notes.write(before.read())
        self._is_durable = False
        self.make_durable()
        self._platform.unlink(settled)

    def enter(self, digest: bytes, change: int, path: str) -> None:
        """Note that a change backs up the file at an absolute path."""
        os.makedirs(self._top, mode=0o700, exist_ok=True)
        with open(self._own, "a", encoding="ascii", opener=private_opener) as notes:
            notes.write(f"{digest.hex()} {change} {quote(os.fsencode(path))}\n")
        self._is_durable = False

    def make_durable(self) -> None:
        """Return when everything noted would survive a power cut."""
        if not self._is_durable:
            self._platform.sync_file(self._own)
            self._platform.sync_names([self._top])
            self._is_durable = True

    def of_change(self, change: int) -> list[bytes]:
        """Digests that a change backed up."""
        return [one.digest for one in _read(self._own) if one.change == change]

    def paths(self) -> dict[bytes, str]:
        """The last known path of each content that any ledger has noted."""
        found = {}
        for name in sorted(names_in_directory(self._top), key=lambda name: name == self._ledger):
            found.update({one.digest: one.path for one in _read(f"{self._top}/{name}")})
        return found

    def forget(self, is_held: Callable[[bytes], bool]) -> None:
        """Drop the notes about removed backups, if there are many."""
        try:
            size = os.stat(self._own).st_size
        except FileNotFoundError:
            return
        if size < max(_MANY, 2 * _size_kept(self._own)):
            return
        kept = [one for one in _read(self._own) if is_held(one.digest)]
        growing = f"{self._own}.new"
        with open(growing, "w", encoding="ascii", opener=private_opener) as notes:
            notes.write(f"{sum(2 * len(one.digest) + len(one.path) for one in kept)}\n")
            notes.writelines(f"{one.digest.hex()} {one.change} {quote(os.fsencode(one.path))}\n" for one in kept)
        self._platform.sync_file(growing)
        os.replace(growing, self._own)

    def drop(self) -> None:
        """Drop everything that this ledger noted, because it has no backups any more."""
        for name in (self._ledger, f"{self._ledger}{SETTLED}"):
            if name in names_in_directory(self._top):
                self._platform.unlink(f"{self._top}/{name}")
        if os.path.isdir(self._top) and not os.listdir(self._top):
            os.rmdir(self._top)

    def settle(self, *, is_older: bool) -> None:
        """Stop reporting that ledgers with notes here are missing, or that this one `is_older`."""
        for name in [*others(os.path.dirname(self._top), self._ledger), *([self._ledger] if is_older else [])]:
            os.replace(f"{self._top}/{name}", f"{self._top}/{name}{SETTLED}")


def _size_kept(path: str) -> int:
    """About the bytes that were left when notes were left out the last time; it stands in the first line."""
    with open(path, encoding="ascii", errors="replace") as notes:
        first = notes.readline().strip()
    return int(first) if first.isdecimal() and len(first) < 20 else 0


def _read(path: str) -> Iterator[_Origin]:
    try:
        with open(path, encoding="ascii", errors="replace") as notes:
            lines = notes.read().splitlines()
    except (FileNotFoundError, IsADirectoryError):
        return
    for line in lines:
        digest, _, rest = line.partition(" ")
        change, _, quoted = rest.partition(" ")
        # A power cut may have truncated the last line.
        if len(digest) == 64 and change.isdecimal():
            try:
                yield _Origin(bytes.fromhex(digest), int(change), os.fsdecode(unquote_to_bytes(quoted)))
            except ValueError:
                continue
