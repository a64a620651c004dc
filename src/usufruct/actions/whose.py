"""Which holding put a file where it is."""

import os
from dataclasses import dataclass
from pathlib import Path

from usufruct.actions.surroundings import Surroundings
from usufruct.ledger.holdings import name_of_holding
from usufruct.ledger.layers import directory_number, stacks_in
from usufruct.model.records import FileKind


@dataclass(frozen=True, slots=True)
class Owner:
    """What is stacked at one path."""

    path: str
    """Absolute, links in the directories above resolved."""
    holding: str | None
    """The holding on top; None where the file is nobody's, or the user's own."""
    beneath: tuple[str, ...]
    """What lies beneath, from the top down: holdings' names, `original` or `user` for the user's own."""


def whose(surroundings: Surroundings, path: Path) -> Owner:
    """Which holding a path is of, and what lies beneath it."""
    above, name = os.path.split(os.path.abspath(path.expanduser()))
    directory = os.path.realpath(above)
    with surroundings.reading() as ledger:
        number = directory_number(ledger, directory) if ledger else None
        stack = stacks_in(ledger, number, [name]).get(name, ()) if ledger and number is not None else ()
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
