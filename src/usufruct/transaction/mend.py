"""Repairing: missing or damaged files are written again, and removals and updates are undone."""

import os
from collections.abc import Iterable, Iterator, Sequence, Set

from msgspec import Struct
from msgspec.structs import replace

from usufruct.archives.reading import Archive
from usufruct.errors import DamagedArchive, MachineError
from usufruct.files.looking import state_at, with_digest
from usufruct.files.writing import write_link, write_new
from usufruct.ledger.altered import PastLayer
from usufruct.ledger.changes import set_partial
from usufruct.ledger.directories import directory_number, enter_directories, enter_holding_directories
from usufruct.ledger.holdings import enter_drives, mark_gone
from usufruct.ledger.layers import (
    NewLayer,
    enter_claims,
    enter_files,
    enter_layers,
    mark_layers_gone,
    set_backed,
    stacks_in,
)
from usufruct.model.changes import ChangeKind
from usufruct.model.holdings import Holding
from usufruct.model.records import FileKind, FileState, Layer
from usufruct.planning.stacks import laid_on
from usufruct.survey.condition import Compared
from usufruct.survey.going import Going
from usufruct.survey.holdings import Destination
from usufruct.transaction.detach import destination_of, enter_removal, removal_of
from usufruct.transaction.finish import execute, seal_intent
from usufruct.transaction.recover import change_under_way
from usufruct.transaction.renew import claim_shared, drop_staged, enter_renewal, hand_over
from usufruct.transaction.work import Resources, Work, chain_to_make


class Mending(Struct, frozen=True):
    """One layer that is to be restored where it was."""

    path: str
    """Absolute path of the directory."""
    name: str
    layer: Layer
    row: int | None
    """Where the archive has its content; None for what needs none."""
    is_claim: bool = False
    """The user's own lay there, and the holding had made it its own."""


def repair_holding(
    resources: Resources, holding: Holding, broken: Sequence[tuple[Compared, int | None]], archive: Archive
) -> int:
    """Write the broken files of a holding again, each given with its row in the archive; return how many.

    Nothing else is touched. Raises DamagedArchive if the archive has different content from what was placed.
    """
    mendings = [Mending(one.destination.path, one.destination.name, one.layer, row) for one, row in broken]
    destinations = {(one.destination.path, one.destination.name): one.destination for one, _ in broken}
    with change_under_way(resources, ChangeKind.REPAIR, holding.name) as work:
        work.stage_for(_destinations(resources, holding, mendings), _names(mendings))
        with resources.ledger.transaction():
            _enter_directories(work, mendings)
            for mending, state in _staged(work, mendings, archive):
                _renew(work, destinations[mending.path, mending.name], mending.layer, state)
            seal_intent(work)
        execute(work)
    return len(mendings)


def _renew(work: Work, destination: Destination, layer: Layer, state: FileState) -> None:
    """Record a layer again: its content is unchanged, and the file on disk is the wrong one."""
    ledger = work.resources.ledger
    disk = with_digest(destination.disk, destination.file)
    mark_layers_gone(ledger, work.change, [(*destination.key, layer.level)])
    told = NewLayer(*destination.key, Layer(layer.level + 1, None, disk))
    enter_layers(ledger, work.change, [told], gone=True)
    enter_layers(ledger, work.change, [NewLayer(*destination.key, layer._replace(state=state))])


def lay_back(
    resources: Resources,
    holding: Holding,
    past: Sequence[tuple[PastLayer, int | None]],
    archive: Archive,
    *,
    was_partial: bool,
    is_partial: bool = False,
    choices: str | None = None,
    root: int,
) -> int:
    """Undo a removal: restore everything it removed, each given with its row in the archive; return how many files.

    `was_partial`: a part of the holding is still there. `is_partial`: it will not be complete afterwards. `choices`:
    its choices afterwards, if they are recorded anew.

    Raises DamagedArchive if the archive has different content from what was placed.
    """
    mendings = [Mending(one.path, one.name, one.layer, row, one.is_claim) for one, row in past]
    with change_under_way(resources, ChangeKind.ADD, holding.name, root=root) as work:
        work.revives = None if was_partial else holding.number
        work.stage_for(_destinations(resources, holding, mendings), _names(mendings))
        with resources.ledger.transaction():
            _enter_directories(work, mendings)
            enter_drives(resources.ledger, holding.number, work.held)
            files, size = (holding.files, holding.size) if was_partial else (0, 0)
            staged: dict[str, list[tuple[Mending, FileState]]] = {}
            for mending, state in _staged(work, mendings, archive):
                staged.setdefault(mending.path, []).append((mending, state))
                if state.kind is not FileKind.DIRECTORY:
                    files, size = files + 1, size + state.size
            for path, here in staged.items():
                _lay_all(work, holding.number, path, here)
            work.totals.append((holding.number, files, size, is_partial))
            if was_partial:
                set_partial(resources.ledger, work.change, brought=holding.number)
            if choices is not None:
                work.choices.append((holding.number, choices))
            seal_intent(work)
        execute(work)
    return sum(mending.layer.state.kind is not FileKind.DIRECTORY for mending in mendings)


def put_before(
    resources: Resources,
    brought: Holding,
    taken: Holding,
    past: Sequence[tuple[PastLayer, int | None]],
    archive: Archive,
    *,
    root: int,
) -> tuple[int, tuple[str, ...]]:
    """Undo an update: the previous holding gets its layers back, and what the update brought is removed.

    Returns how many files it has, and the paths of files that the user changed since; these stay with it.
    """
    vacated = _vacated(resources, brought, past)
    going = removal_of(resources.ledger, brought.number, in_detail=True)
    known = {(one.path, one.name): one for one, _ in past}
    destinations = {(destination.path, destination.name): destination for destination, _ in going.takes}
    left = {(destination.path, destination.name) for destination, _ in going.leaves}
    takes = tuple(pair for pair in going.takes if (pair[0].path, pair[0].name) not in known)
    out = replace(going, takes=takes, whole=frozenset())
    mendings = [
        Mending(one.path, one.name, one.layer, row, one.is_claim)
        for one, row in past
        if (one.path, one.name) not in left
    ]
    with change_under_way(resources, ChangeKind.UPDATE, taken.name, root=root) as work:
        work.revives = taken.number
        work.stage_for(
            [*_destinations(resources, taken, mendings), *out.destinations(resources.ledger, brought)],
            [*_names(mendings), *out.names()],
        )
        with resources.ledger.transaction():
            mark_gone(resources.ledger, work.change, brought.number)
            enter_drives(resources.ledger, taken.number, work.held)
            _enter_directories(work, mendings)
            out = enter_removal(work, out)
            hand_over(work, out.leaves, brought.number, taken.number)
            files, size = len(out.leaves), sum(step.disk.size for _, step in out.leaves)
            for mending, state in _staged(work, mendings, archive):
                destination = destinations.get((mending.path, mending.name))
                if destination:
                    disk = with_digest(destination.disk, destination.file)
                    level = destination.layer_of(brought.number).level
                    destination = destination._replace(disk=disk)
                    enter_renewal(work, destination, level, taken.number, state, mending.layer.entry)
                    enter_holding_directories(resources.ledger, taken.number, [destination.directory])
                else:
                    _lay_all(work, taken.number, mending.path, [(mending, state)], vacated)
                if state.kind is not FileKind.DIRECTORY:
                    files, size = files + 1, size + state.size
            work.totals.append((taken.number, files, size, False))
            seal_intent(work)
        execute(work)
    return files, tuple(destination.file for destination, _ in out.leaves)


def _vacated(resources: Resources, brought: Holding, past: Iterable[tuple[PastLayer, int | None]]) -> set[str]:
    """Return the directories that are removed with an undone update, and whose places files take again.

    Raises MachineError if another directory or file is in such a place.
    """
    going = Going(resources.ledger, brought.number)
    vacated: set[str] = set()
    blocked: set[str] = set()
    for path in {one.path for one, _ in past}:
        here = path
        while not os.path.lexists(here) and os.path.dirname(here) != here:
            here = os.path.dirname(here)
        if os.path.lexists(here) and not os.path.isdir(here) and not going.makes_way(here):
            blocked.add(here)
    for one, _ in past:
        path = f"{one.path}/{one.name}"
        if one.layer.state.kind is FileKind.DIRECTORY or os.path.islink(path) or not os.path.isdir(path):
            continue
        (vacated if going.makes_way(path) else blocked).add(path)
    if blocked:
        path = min(blocked)
        raise MachineError(
            f"{path} is already there: a file and a folder cannot have the same name.",
            kept="Nothing was changed.",
            remedy="Move it away and try again.",
            path=path,
        )
    return vacated


def _destinations(resources: Resources, holding: Holding, mendings: Iterable[Mending]) -> Iterator[tuple[str, str]]:
    for path in {mending.path for mending in mendings}:
        yield path, destination_of(resources.ledger, path, holding)


def _names(mendings: Iterable[Mending]) -> Iterator[tuple[str, list[str]]]:
    for mending in mendings:
        yield mending.path, [mending.name]


def _enter_directories(work: Work, mendings: Iterable[Mending]) -> None:
    for path in dict.fromkeys(mending.path for mending in mendings):
        enter_directories(work.resources.ledger, work.change, chain_to_make(work, path))


def _staged(work: Work, mendings: Sequence[Mending], archive: Archive) -> Iterator[tuple[Mending, FileState]]:
    """Stage what is restored; return each with the state of its file."""
    by_row = {mending.row: mending for mending in mendings if mending.row is not None}
    for mending in mendings:
        if mending.row is not None:
            continue
        staged = _staged_path(work, mending)
        if mending.layer.state.kind is FileKind.LINK:
            yield mending, write_link(staged, mending.layer.state.target, mending.layer.state.modified)
        else:
            os.makedirs(staged, exist_ok=True)
            yield mending, state_at(staged)
        work.resources.checkpoint("staged-one")
    for row, blocks in archive.stream(sorted(by_row)):
        mending = by_row[row]
        wanted = mending.layer.state
        state = write_new(_staged_path(work, mending), blocks, wanted.modified, wanted.mode)
        if state.digest != wanted.digest:
            raise DamagedArchive(
                f"{mending.layer.entry} in {archive.name} is another file than the one that was placed.",
                remedy="Name the archive that it came from.",
                path=archive.path,
            )
        yield mending, state
        work.resources.checkpoint("staged-one")


def _staged_path(work: Work, mending: Mending) -> str:
    directory = work.staging_of(mending.path).incoming(mending.path)
    os.makedirs(directory, exist_ok=True)
    return f"{directory}/{mending.name}"


def _lay_all(
    work: Work,
    holding: int,
    path: str,
    staged: Sequence[tuple[Mending, FileState]],
    vacated: Set[str] = frozenset(),
) -> None:
    """Record the layers of one directory at their former levels; nearly all were alone in their stacks.

    `vacated`: directories that are removed in the same change, and whose places files take.
    """
    ledger = work.resources.ledger
    directory = directory_number(ledger, path)
    assert directory is not None, "the change entered its directories first"
    enter_holding_directories(ledger, holding, [directory])
    stacks = stacks_in(ledger, directory, [mending.name for mending, _ in staged])
    alone: list[tuple[int, str, FileState, str]] = []
    claims: list[str] = []
    for mending, state in staged:
        stack, layer = stacks.get(mending.name, ()), mending.layer
        here = f"{path}/{mending.name}"
        is_free = here in vacated or state_at(here).kind is FileKind.ABSENT
        if not stack and layer.level == 1 and is_free:
            alone.append((directory, mending.name, state, layer.entry))
        elif mending.is_claim and not stack and _claimed_again(work, holding, mending, state, directory):
            pass
        else:
            _lay(work, holding, mending, state, directory, stack)
            continue
        if mending.is_claim:
            claims.append(mending.name)
    enter_files(ledger, work.change, holding, alone)
    enter_claims(ledger, holding, [(directory, name) for name in claims])


def _claimed_again(work: Work, holding: int, mending: Mending, state: FileState, directory: int) -> bool:
    """Adopt a file of the user's again, if it still has the content it had then."""
    path = f"{mending.path}/{mending.name}"
    laid = laid_on((), with_digest(state_at(path), path), holding, state, mending.layer.entry)
    if not laid.is_shared:
        return False
    claim_shared(work, directory, mending.name, laid)
    drop_staged(work, work.staging_of(mending.path).incoming(mending.path) + f"/{mending.name}")
    return True


def _lay(
    work: Work, holding: int, mending: Mending, state: FileState, directory: int, stack: tuple[Layer, ...]
) -> None:
    """Record one layer at its former level, below the layers that lie higher."""
    resources, layer = work.resources, mending.layer
    staged = work.staging_of(mending.path).incoming(mending.path) + f"/{mending.name}"
    if any(other.level > layer.level for other in stack):
        is_backed = state.kind is FileKind.FILE
        if is_backed:
            resources.backups.keep(staged, state, about=f"{mending.path}/{mending.name}")
        drop_staged(work, staged)
        again = Layer(layer.level, holding, state, layer.entry, is_backed)
        enter_layers(resources.ledger, work.change, [NewLayer(directory, mending.name, again)])
        return
    path = f"{mending.path}/{mending.name}"
    disk = with_digest(state_at(path), path)
    laid = laid_on(stack, disk, holding, state, layer.entry, at_least=layer.level)
    enter_layers(resources.ledger, work.change, (NewLayer(directory, mending.name, one) for one in laid.layers))
    set_backed(resources.ledger, ((directory, mending.name, level) for level in laid.covered), is_backed=True)
    if laid.is_shared:
        drop_staged(work, staged)
        if laid.backs_up:
            resources.backups.keep(path, disk, stays=True)
    elif laid.backs_up and not resources.backups.is_beside(mending.path):
        resources.backups.keep(path, disk)
