"""Which holding put a file where it is, and how much of a directory is whose."""

import os
import stat
from collections.abc import Iterator
from pathlib import Path

from msgspec import Struct, field

from usufruct.actions.context import Context
from usufruct.errors import MachineError
from usufruct.files.paths import expanded, real_path
from usufruct.ledger import Ledger
from usufruct.ledger.holdings import name_of_holding
from usufruct.ledger.layers import directory_number, stacks_in
from usufruct.model.records import FileKind, Layer


class Owner(Struct, frozen=True):
    """What is stacked at one path."""

    path: str
    """Absolute, links in the directories above resolved."""
    holding: str | None
    """The holding on top; None where the file is nobody's, or the user's own."""
    beneath: tuple[str, ...]
    """What lies beneath, from the top down: holdings' names, `original` or `user` for the user's own."""


class Shares(Struct):
    """How much of a directory, with all below it, is whose."""

    path: str
    holdings: dict[str, tuple[int, int]] = field(default_factory=dict)
    """Holding → files that it has on top, and their bytes."""
    nobodys: list[str] = field(default_factory=list)
    """Absolute paths of the files that no holding put there."""
    nobodys_size: int = 0
    """Bytes of these."""


def whose(context: Context, path: Path) -> Owner:
    """Which holding a path is of, and what lies beneath it."""
    above, name = os.path.split(os.path.abspath(expanded(path)))
    directory = real_path(above)
    with context.reading() as ledger:
        stack = _stacks(ledger, directory, [name]).get(name, ())
        names = []
        for layer in reversed(stack):
            if layer.holding is not None:
                assert ledger, "the layer was found in it"
                names.append(name_of_holding(ledger, layer.holding))
            elif layer.state.kind is not FileKind.ABSENT:
                names.append("original" if layer.level == 0 else "user")
    where = f"{directory.rstrip('/')}/{name}"
    if not names or names[0] in ("original", "user"):
        return Owner(where, None, tuple(names))
    return Owner(where, names[0], tuple(names[1:]))


def shares_of(context: Context, path: Path) -> Shares:
    """How much of a directory is whose. Raises MachineError where it cannot be read."""
    shares = Shares(real_path(expanded(path)))
    names: dict[int, str] = {}
    with context.reading() as ledger:
        for above, files in _files_below(shares.path):
            stacks = _stacks(ledger, above)
            for name, size in files:
                top = stacks[name][-1] if name in stacks else None
                if ledger and top and top.holding is not None:
                    whom = names.setdefault(top.holding, name_of_holding(ledger, top.holding))
                    count, total = shares.holdings.get(whom, (0, 0))
                    shares.holdings[whom] = count + 1, total + size
                else:
                    shares.nobodys.append(f"{above.rstrip('/')}/{name}")
                    shares.nobodys_size += size
    return shares


def _stacks(ledger: Ledger | None, directory: str, names: list[str] | None = None) -> dict[str, tuple[Layer, ...]]:
    number = directory_number(ledger, directory) if ledger else None
    return stacks_in(ledger, number, names) if ledger and number is not None else {}


def _files_below(top: str) -> Iterator[tuple[str, list[tuple[str, int]]]]:
    """Each directory with the names and sizes of the files and links in it."""

    def told(error: OSError) -> None:
        raise MachineError(
            f"{error.filename} cannot be read: {error.strerror}.", remedy="Check its permissions.", path=top
        ) from error

    for here, directories, names in os.walk(top, onerror=told):
        found = []
        for name in (*names, *directories):
            try:
                state = os.lstat(f"{here}/{name}")
            except FileNotFoundError:
                continue  # another program has just removed it
            if not stat.S_ISDIR(state.st_mode):
                found.append((name, state.st_size))
        yield here, found
