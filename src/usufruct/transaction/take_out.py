"""The story of removing: a holding's files go, what they replaced comes back."""

import os
from collections.abc import Iterable, Iterator, Set
from dataclasses import dataclass

from usufruct.files.looking import with_digest
from usufruct.files.writing import restore_attributes, write_link
from usufruct.ledger import Ledger
from usufruct.ledger.holdings import mark_gone, set_totals
from usufruct.ledger.layers import (
    NewLayer,
    backed_layers,
    enter_directories,
    enter_layers,
    is_made,
    mark_layers_gone,
    set_inode,
)
from usufruct.model.changes import ChangeKind
from usufruct.model.holdings import Holding
from usufruct.model.plan import Leave, RemovalStep, TakeOut
from usufruct.model.progress import Progress
from usufruct.model.records import FileKind, Layer
from usufruct.planning.stacks import needs_digest, out_of
from usufruct.survey.holdings import HeldPlace, places_of
from usufruct.transaction.finish import carry_out, seal_intent
from usufruct.transaction.recover import change_under_way
from usufruct.transaction.work import Edges, Work, chain_to_make, is_below


@dataclass(frozen=True, slots=True)
class Removed:
    """What a removal did."""

    taken: int
    """Files that went."""
    given_back: tuple[str, ...]
    """Paths at which an earlier file is on disk again."""
    left: tuple[str, ...]
    """Paths of files that were changed since and stay, with the holding."""


@dataclass(frozen=True, slots=True)
class Removal:
    """What taking a holding out does at each of its destinations."""

    holding: int = 0
    takes: tuple[tuple[HeldPlace, TakeOut], ...] = ()
    leaves: tuple[tuple[HeldPlace, Leave], ...] = ()

    @property
    def back(self) -> list[tuple[HeldPlace, TakeOut]]:
        """The destinations at which something earlier comes back."""
        return [(place, step) for place, step in self.takes if step.changes_disk and step.gives_back]

    def destinations(self, ledger: Ledger, holding: Holding) -> Iterator[tuple[str, str]]:
        """The directories in which files change, each with the destination that it is part of."""
        for path in dict.fromkeys(place.path for place, step in self.takes if step.changes_disk):
            yield path, destination_of(ledger, path, holding)


def removal_of(
    ledger: Ledger, holding: int, *, without: Set[tuple[str, str]] = frozenset(), gives_back_changed: bool = False
) -> Removal:
    """What taking a holding out would do, at all its destinations but these, given by directory and name.

    `gives_back_changed`: what the user changed goes too, once it was saved.
    """
    takes, leaves = [], []
    for place in places_of(ledger, holding):
        if (place.path, place.name) in without:
            continue
        step = _step_for(place, holding, gives_back_changed=gives_back_changed)
        if isinstance(step, Leave):
            leaves.append((place, step))
        else:
            takes.append((place, step))
    return Removal(holding, tuple(takes), tuple(leaves))


def enter_removal(work: Work, removal: Removal) -> None:
    """Enter in the ledger what a removal takes, and stage what it gives back."""
    _enter_directories(work, (place.path for place, _ in removal.takes))
    _enter_steps(work, [step for _, step in removal.takes])
    back = removal.back
    of_size = sum(step.gives_back.state.size for _, step in back if step.gives_back)
    size = 0
    incoming: dict[str, str] = {}
    for done, (place, step) in enumerate(back, 1):
        assert step.gives_back, "only such are given back"
        if place.path not in incoming:
            incoming[place.path] = work.staging_of(place.path).incoming(place.path)
            os.makedirs(incoming[place.path], exist_ok=True)
        _stage_back(work, incoming[place.path], place, step.gives_back)
        size += step.gives_back.state.size
        work.edges.watch(Progress(work.about, "giving back", done, len(back), size, of_size))


def remove_holding(
    edges: Edges, holding: Holding, *, gives_back_changed: bool = False, is_undo: bool = False
) -> Removed:
    """Take a holding out; on any error everything is as it was before, and the error says so.

    Files that the user changed stay, with the holding, unless `gives_back_changed`: who calls has saved them then.
    """
    removal = removal_of(edges.ledger, holding.number, gives_back_changed=gives_back_changed)
    with change_under_way(edges, ChangeKind.REMOVE, holding.name, is_undo=is_undo) as work:
        work.stage_for(removal.destinations(edges.ledger, holding))
        with edges.ledger.transaction():
            enter_removal(work, removal)
            if removal.leaves:
                size = sum(step.disk.size for _, step in removal.leaves)
                set_totals(edges.ledger, holding.number, len(removal.leaves), size, is_partial=True)
            else:
                mark_gone(edges.ledger, work.change, holding.number)
            seal_intent(work)
        carry_out(work)
    return Removed(
        sum(step.changes_disk and step.disk.kind is not FileKind.DIRECTORY for _, step in removal.takes),
        tuple(f"{place.path}/{place.name}" for place, _ in removal.back),
        tuple(f"{place.path}/{place.name}" for place, _ in removal.leaves),
    )


def _step_for(place: HeldPlace, holding: int, *, gives_back_changed: bool) -> RemovalStep:
    disk = place.disk
    if gives_back_changed or needs_digest(place.stack, holding, disk):
        disk = with_digest(disk, f"{place.path}/{place.name}")
    return out_of(place.stack, holding, place.directory, place.name, disk, gives_back_changed=gives_back_changed)


def destination_of(ledger: Ledger, directory: str, holding: Holding) -> str:
    """The destination that a directory is part of: the holding's root, or itself where it lies elsewhere.

    Of directories that Usufruct made, the one above: a staging directory must not stand in one that is to go.
    """
    destination = holding.root if is_below(directory, holding.root) else directory
    while is_made(ledger, destination):
        destination = os.path.dirname(destination)
    return destination


def _enter_directories(work: Work, directories: Iterable[str]) -> None:
    """Record every directory the removal touches: those with files, and those above that may become empty."""
    ledger = work.edges.ledger
    for path in dict.fromkeys(directories):
        chain = chain_to_make(work, path)
        while is_made(ledger, chain[0][0]):
            chain = chain_to_make(work, os.path.dirname(chain[0][0])) + chain
        enter_directories(ledger, work.change, chain)


def _enter_steps(work: Work, steps: list[TakeOut]) -> None:
    ledger, change = work.edges.ledger, work.change
    mark_layers_gone(ledger, change, ((step.directory, step.name, level) for step in steps for level in step.levels))
    told = (NewLayer(step.directory, step.name, step.documented) for step in steps if step.documented)
    enter_layers(ledger, change, told, gone=True)


def _stage_back(work: Work, incoming: str, place: HeldPlace, layer: Layer) -> None:
    """Put what is given back into a staging directory, with the mode and time it had."""
    edges, state = work.edges, layer.state
    if state.kind not in (FileKind.FILE, FileKind.LINK):
        return
    path = f"{incoming}/{place.name}"
    if state.kind is FileKind.LINK:
        now = write_link(path, state.target, state.modified)
    else:
        edges.backups.give(state.digest, path, is_last=backed_layers(edges.ledger, state.digest) <= 1)
        now = restore_attributes(path, state)
    set_inode(edges.ledger, place.directory, place.name, layer.level, now.inode)
    edges.checkpoint("staged-back")
