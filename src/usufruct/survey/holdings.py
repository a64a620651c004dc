"""Surveying what a holding has on disk."""

from collections.abc import Iterator
from typing import NamedTuple

from usufruct.files.looking import state_at
from usufruct.ledger import Ledger
from usufruct.ledger.layers import directories_of_holding, stacks_of_holding
from usufruct.model.records import FileState, Layer


class HeldPlace(NamedTuple):
    """One destination of a holding."""

    directory: int
    """Ledger number."""
    path: str
    """Absolute path of the directory."""
    name: str
    stack: tuple[Layer, ...]
    disk: FileState
    """What is there now, without digest."""


def places_of(ledger: Ledger, holding: int) -> Iterator[HeldPlace]:
    """All destinations of a holding, by directory and name."""
    for directory, path in directories_of_holding(ledger, holding):
        for name, stack in stacks_of_holding(ledger, holding, directory).items():
            yield HeldPlace(directory, path, name, stack, state_at(f"{path}/{name}"))
