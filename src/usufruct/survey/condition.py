"""Compare what a holding placed with what is on disk now."""

from collections.abc import Iterator
from enum import StrEnum
from typing import NamedTuple

from usufruct.files.looking import with_digest
from usufruct.ledger import Ledger
from usufruct.ledger.directories import directories_of_holding
from usufruct.ledger.layers import fingerprints_of_holding
from usufruct.model.records import FileKind, Layer
from usufruct.survey.holdings import Destination, destinations_in, destinations_of, untouched


class Condition(StrEnum):
    """The condition of one file of a holding."""

    FINE = "fine"
    CHANGED = "changed"
    """Somebody wrote it since."""
    DAMAGED = "damaged"
    """Its content is another, but size, time and inode say that nobody wrote it: the disk is at fault."""
    MISSING = "missing"
    REPLACED = "replaced"
    """Something else is there: a folder, a link, a device."""
    COVERED = "covered"
    """Another holding lies on top and answers for it."""


class Compared(NamedTuple):
    """One destination of a holding, and what was found there."""

    destination: Destination
    layer: Layer
    condition: Condition

    @property
    def path(self) -> str:
        """Absolute."""
        return self.destination.file


def condition_of(ledger: Ledger, holding: int, *, deep: bool) -> Iterator[Compared]:
    """Yield each destination of a holding with its condition.

    A file with the recorded size, time and inode is fine and is not read, unless `deep`.
    """
    for destination in destinations_of(ledger, holding):
        yield _examined(destination, holding, deep=deep)


def _examined(destination: Destination, holding: int, *, deep: bool) -> Compared:
    index = destination.index_of(holding)
    return Compared(destination, destination.stack[index], _compared(destination, index, deep=deep))


def untouched_of(ledger: Ledger, holding: int) -> tuple[int, list[Compared]]:
    """Count the files with the recorded size, time and inode, and return all other destinations with conditions.

    This is `condition_of` without `deep`, for holdings of which nearly every file is fine: no objects are made for
    these.
    """
    fine = 0
    others: list[Compared] = []
    for directory, path in directories_of_holding(ledger, holding):
        fingerprints, covered = fingerprints_of_holding(ledger, holding, directory, alone=False)
        same, changed = untouched(path, fingerprints)
        fine += len(same)
        destinations = destinations_in(ledger, directory, path, [*covered, *changed])
        others.extend(_examined(destination, holding, deep=False) for destination in destinations)
    return fine, others


def _compared(destination: Destination, index: int, *, deep: bool) -> Condition:
    mine, above = destination.stack[index], destination.stack[index + 1 :]
    if above:
        # The user's version, covered by another holding, reappears when that one is removed.
        return Condition.COVERED
    disk = destination.disk
    if disk.kind is FileKind.ABSENT:
        return Condition.MISSING
    if disk.kind is not mine.state.kind:
        return Condition.REPLACED
    is_same = mine.state.is_same_file(disk)
    if disk.kind is not FileKind.FILE:
        return Condition.FINE if is_same or mine.state.has_same_content(disk) else Condition.CHANGED
    if is_same and not deep:
        return Condition.FINE
    if disk.size != mine.state.size:
        return Condition.CHANGED
    if with_digest(disk, destination.file).has_same_content(mine.state):
        return Condition.FINE
    return Condition.DAMAGED if is_same else Condition.CHANGED
