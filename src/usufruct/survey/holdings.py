"""Look at what a holding has on disk."""

import os
import stat
from collections.abc import Iterable, Iterator
from functools import partial
from typing import NamedTuple

from usufruct.files.looking import state_at
from usufruct.ledger import Ledger
from usufruct.ledger.directories import directories_of_holding
from usufruct.ledger.layers import Fingerprint, stacks_in, stacks_of_holding
from usufruct.model.records import FileState, Layer


class Destination(NamedTuple):
    """One destination of a holding."""

    directory: int
    """Ledger number."""
    path: str
    """Absolute path of the directory."""
    name: str
    stack: tuple[Layer, ...]
    disk: FileState
    """What is there now, without digest."""

    @property
    def key(self) -> tuple[int, str]:
        """The directory's number and the name."""
        return self.directory, self.name

    @property
    def file(self) -> str:
        """The absolute path."""
        return f"{self.path}/{self.name}"

    def index_of(self, holding: int) -> int:
        """Return the position of a holding's layer in the stack."""
        return next(number for number, layer in enumerate(self.stack) if layer.holding == holding)

    def layer_of(self, holding: int) -> Layer:
        """Return the layer that a holding has here."""
        return self.stack[self.index_of(holding)]


def untouched(
    directory: str, fingerprints: Iterable[Fingerprint], at: int | None = None
) -> tuple[list[str], list[str]]:
    """Return the names in a directory at which the very same files still are, by size, time and inode; and the others.

    `at`: the directory's descriptor, if it is open.
    """
    same: list[str] = []
    others: list[str] = []
    is_file, above = stat.S_ISREG, f"{directory}/" if at is None else ""
    lstat = os.lstat if at is None else partial(os.lstat, dir_fd=at)
    for name, size, modified, inode in fingerprints:
        try:
            found = lstat(above + name)
        except OSError:
            others.append(name)
            continue
        is_same = found.st_mtime_ns == modified and found.st_ino == inode and found.st_size == size
        (same if is_same and is_file(found.st_mode) else others).append(name)
    return same, others


def destinations_in(ledger: Ledger, directory: int, path: str, names: Iterable[str]) -> Iterator[Destination]:
    """Yield the destinations with these names in a recorded directory."""
    for name, stack in stacks_in(ledger, directory, names).items():
        yield Destination(directory, path, name, stack, state_at(f"{path}/{name}"))


def destinations_of(ledger: Ledger, holding: int) -> Iterator[Destination]:
    """Yield all destinations of a holding, by directory and name."""
    for directory, path in directories_of_holding(ledger, holding):
        for name, stack in stacks_of_holding(ledger, holding, directory).items():
            yield Destination(directory, path, name, stack, state_at(f"{path}/{name}"))
