"""Find out which holding put a file where it is, and how much of a directory is whose."""

import os
from collections.abc import Iterator
from pathlib import Path

from msgspec import Struct, field

from usufruct.actions.context import Context
from usufruct.errors import MachineError
from usufruct.files.paths import expanded, real_path
from usufruct.ledger import Ledger
from usufruct.ledger.directories import directory_number
from usufruct.ledger.holdings import name_of_holding
from usufruct.ledger.layers import stacks_in, tops_in
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
    """How much of a directory, with everything below it, is whose."""

    path: str
    holdings: dict[str, tuple[int, int]] = field(default_factory=dict)
    """Holding → files that it has on top, and their bytes."""
    nobodys: tuple[int, int] = (0, 0)
    """Files that no holding put there, and their bytes."""
    nobodys_paths: list[str] = field(default_factory=list)
    """Absolute paths of these, where they were asked for."""


def whose(context: Context, path: Path) -> Owner:
    """Return the holding that a path belongs to, and what is below it in the stack."""
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


def shares_of(context: Context, path: Path, *, with_paths: bool = False) -> Shares:
    """Return how much of a directory is whose. Raises MachineError if it cannot be read.

    `with_paths`: also return the paths of the files that are nobody's.
    """
    shares = Shares(real_path(expanded(path)))
    counted: dict[int | None, tuple[int, int]] = {}
    with context.reading() as ledger:
        for above, files in _files_below(shares.path):
            number = directory_number(ledger, above) if ledger else None
            tops = tops_in(ledger, number) if ledger and number is not None else {}
            for name, size in files:
                holding = tops.get(name)
                count, total = counted.get(holding, (0, 0))
                counted[holding] = count + 1, total + size
                if with_paths and holding is None:
                    shares.nobodys_paths.append(f"{above.rstrip('/')}/{name}")
        shares.nobodys = counted.pop(None, (0, 0))
        for holding, counts in counted.items():
            assert ledger and holding is not None, "it was found on record"
            shares.holdings[name_of_holding(ledger, holding)] = counts
    return shares


def _stacks(ledger: Ledger | None, directory: str, names: list[str] | None = None) -> dict[str, tuple[Layer, ...]]:
    number = directory_number(ledger, directory) if ledger else None
    return stacks_in(ledger, number, names) if ledger and number is not None else {}


def _files_below(top: str) -> Iterator[tuple[str, Iterator[tuple[str, int]]]]:
    """Yield each directory with the names and sizes of its files and links; they are read before the next one."""
    left = [top]
    while left:
        below: list[str] = []
        here = left.pop()
        yield here, _files_in(here, below)
        left.extend(reversed(below))


def _files_in(here: str, below: list[str]) -> Iterator[tuple[str, int]]:
    """Return the files and links in a directory, with their sizes; its directories are added to `below`."""
    try:
        with os.scandir(here) as entries:
            for entry in entries:
                if entry.is_dir(follow_symlinks=False):
                    below.append(entry.path)
                    continue
                try:
                    size = entry.stat(follow_symlinks=False).st_size
                except FileNotFoundError:
                    continue  # another program has just removed it
                yield entry.name, size
    except OSError as error:
        raise MachineError(
            f"{error.filename} cannot be read: {error.strerror}.", remedy="Check its permissions.", path=here
        ) from error
