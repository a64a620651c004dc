"""Find out which files of a holding make room when another takes its place, for a directory or the other way round."""

import os
import stat

from usufruct.files.looking import state_at, with_digest
from usufruct.ledger import Ledger
from usufruct.ledger.directories import directories_of_holding, directory_number, is_made
from usufruct.ledger.layers import stacks_in
from usufruct.planning.stacks import is_unchanged


class Going:
    """The destinations of one holding; each is looked at when it is asked for."""

    def __init__(self, ledger: Ledger, holding: int) -> None:
        self._ledger = ledger
        self._holding = holding

    def makes_way(self, path: str) -> bool:
        """Whether an absolute path is free without loss once the holding is removed.

        It is if there is only an unchanged file of the holding, or a directory that was made for such files.
        """
        found = os.lstat(path)
        if not stat.S_ISDIR(found.st_mode):
            directory, name = os.path.split(path)
            number = directory_number(self._ledger, directory)
            stack = stacks_in(self._ledger, number, [name]).get(name, ()) if number is not None else ()
            if len(stack) != 1 or stack[0].holding != self._holding:
                return False
            return is_unchanged(stack[0], with_digest(state_at(path), path))
        return is_made(self._ledger, path) and all(self.makes_way(f"{path}/{name}") for name in os.listdir(path))

    def has(self, path: str) -> bool:
        """Whether the holding has a file at an absolute path, or in a directory there or below."""
        directory, name = os.path.split(path)
        number = directory_number(self._ledger, directory)
        stack = stacks_in(self._ledger, number, [name]).get(name, ()) if number is not None else ()
        return any(layer.holding == self._holding for layer in stack) or any(
            other == path or other.startswith(f"{path}/")
            for _, other in directories_of_holding(self._ledger, self._holding)
        )
