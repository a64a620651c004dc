"""Removing a holding: its files are removed, and what they replaced is restored."""

import os
from collections.abc import Callable, Iterable, Iterator, Mapping, Set
from types import MappingProxyType
from typing import NamedTuple

from msgspec import Struct
from msgspec.structs import replace

from usufruct.errors import UnsoundBackup
from usufruct.files.looking import with_digest
from usufruct.files.paths import is_below
from usufruct.files.writing import write_link
from usufruct.ledger import Ledger
from usufruct.ledger.altered import what_stays
from usufruct.ledger.changes import set_partial
from usufruct.ledger.directories import directories_of_holding, enter_directories, is_made
from usufruct.ledger.holdings import mark_gone
from usufruct.ledger.layers import (
    NewLayer,
    enter_layers,
    fingerprints_of_holding,
    mark_files_gone,
    mark_layers_gone,
    set_inodes,
    shared_backups,
)
from usufruct.model.changes import ChangeKind
from usufruct.model.holdings import Holding
from usufruct.model.plan import Detach, Leave, RemovalStep
from usufruct.model.progress import Progress
from usufruct.model.records import ABSENT, FileKind, Layer
from usufruct.planning.stacks import needs_digest, out_of
from usufruct.survey.holdings import Destination, destinations_in, untouched
from usufruct.transaction.finish import execute, seal_intent
from usufruct.transaction.recover import change_under_way
from usufruct.transaction.work import Resources, Work, chain_to_make

_TOLD = 32
"""Files after which whoever watches hears of it again."""


class Removed(Struct, frozen=True):
    """What a removal did."""

    taken: int
    """Files that went."""
    given_back: tuple[str, ...]
    """Paths at which an earlier file is on disk again."""
    left: tuple[str, ...]
    """Paths of files that were changed since and stay, with the holding."""
    unbacked: tuple[str, ...] = ()
    """Paths of files that stay because the backup of what they replaced is missing or damaged."""
    rest: int = 0
    """Files of the holding that were not to be taken."""


class Plain(NamedTuple):
    """Files of one directory that are unchanged and alone in their stacks, so they can simply be removed."""

    directory: int
    """Ledger number."""
    path: str
    names: list[str]


class Removal(Struct, frozen=True):
    """What removing a holding does at each destination."""

    holding: int = 0
    plain: tuple[Plain, ...] = ()
    """Nearly all of most holdings, and therefore no objects of their own."""
    takes: tuple[tuple[Destination, Detach], ...] = ()
    leaves: tuple[tuple[Destination, Leave], ...] = ()
    whole: frozenset[int] = frozenset()
    """Numbers of the directories of which all that the holding has goes."""

    @property
    def files(self) -> int:
        """Number of files and links that are removed from disk."""
        changed = sum(step.changes_disk and step.disk.kind is not FileKind.DIRECTORY for _, step in self.takes)
        return changed + sum(len(one.names) for one in self.plain)

    @property
    def back(self) -> list[tuple[Destination, Detach]]:
        """Destinations at which an earlier version is restored."""
        return [(destination, step) for destination, step in self.takes if step.changes_disk and step.gives_back]

    def leaving(self, unsound: Set[tuple[int, str]]) -> "Removal":
        """The removal but for these destinations (directory and name), whose backups are missing or damaged."""
        going, staying = [], []
        for destination, step in self.takes:
            is_sound = destination.key not in unsound
            if is_sound:
                going.append((destination, step))
            else:
                staying.append((destination, Leave(*destination.key, destination.disk, damaged=True)))
        whole = self.whole - {directory for directory, _ in unsound}
        return replace(self, takes=tuple(going), leaves=(*self.leaves, *staying), whole=whole)

    def afterwards(self) -> Iterator[Destination]:
        """The destinations that other holdings have too, as they are once this removal is done."""
        for destination, step in self.takes:
            if stack := tuple(layer for layer in destination.stack if layer.level not in step.levels):
                now = step.gives_back.state if step.gives_back else ABSENT
                yield destination._replace(stack=stack, disk=now if step.changes_disk else destination.disk)

    def told(self) -> Removed:
        """The removal by paths, for reports."""
        return Removed(
            self.files,
            tuple(destination.file for destination, _ in self.back),
            tuple(destination.file for destination, leave in self.leaves if not leave.damaged),
            tuple(destination.file for destination, leave in self.leaves if leave.damaged),
        )

    def names(self) -> Iterator[tuple[str, list[str]]]:
        """Names of everything that is removed or restored, with the absolute path of each directory."""
        for one in self.plain:
            yield one.path, one.names
        for destination, _ in self.takes:
            yield destination.path, [destination.name]

    def destinations(self, ledger: Ledger, holding: Holding) -> Iterator[tuple[str, str]]:
        """Directories in which files change, each with the destination that it belongs to."""
        changed = (destination.path for destination, step in self.takes if step.changes_disk)
        for path in dict.fromkeys((*(one.path for one in self.plain), *changed)):
            yield path, destination_of(ledger, path, holding)


def removal_of(
    ledger: Ledger,
    holding: int,
    is_meant: Callable[[int, str], Callable[[str], bool]] | None = None,
    *,
    gives_back_changed: bool = False,
    in_detail: bool = False,
    earlier: Mapping[tuple[int, str], Destination] = MappingProxyType({}),
) -> Removal:
    """Return what removing a holding would do.

    If not all of it is meant, `is_meant` returns for a directory, by number and path, which names in it are.
    `gives_back_changed`: changed files are removed too, because the caller has saved them. `in_detail`: every file is
    among the steps, none is `plain`. `earlier`: destinations as removals that come before this one will leave them.
    """
    plain, takes, leaves, partly = [], [], [], set()
    for directory, path in directories_of_holding(ledger, holding):
        fingerprints, stacked = fingerprints_of_holding(ledger, holding, directory, alone=True)
        if is_meant:
            is_one = is_meant(directory, path)
            fingerprints = [fingerprint for fingerprint in fingerprints if is_one(fingerprint[0])]
            stacked = list(filter(is_one, stacked))
        same, changed = untouched(path, fingerprints) if not in_detail else ([], [name for name, *_ in fingerprints])
        others = [*stacked, *changed]
        if same:
            plain.append(Plain(directory, path, same))
        for destination in destinations_in(ledger, directory, path, others):
            destination = earlier.get((directory, destination.name), destination)
            step = _step_for(destination, holding, gives_back_changed=gives_back_changed)
            if isinstance(step, Leave):
                leaves.append((destination, step))
                partly.add(directory)
            else:
                takes.append((destination, step))
    going = {one.directory for one in plain} | {destination.directory for destination, _ in takes}
    whole = frozenset() if is_meant else frozenset(going - partly)
    return Removal(holding, tuple(plain), tuple(takes), tuple(leaves), whole)


def within(part: Mapping[int, Set[str]] | None) -> Callable[[int, str], Callable[[str], bool]] | None:
    """Return `is_meant` for these names, given by directory number; None if all are meant."""
    return None if part is None else lambda directory, _: part.get(directory, frozenset()).__contains__


def enter_removal(work: Work, removal: Removal) -> Removal:
    """Stage what a removal restores, record what it removes, and return the removal as it can be carried out.

    If a backup is missing or damaged, the file above it stays where it is.
    """
    ledger = work.resources.ledger
    _enter_directories(
        work, (*(one.path for one in removal.plain), *(destination.path for destination, _ in removal.takes))
    )
    removal, inodes = _stage_all_back(work, removal)
    for directory in removal.whole:
        mark_files_gone(ledger, work.change, removal.holding, directory, None)
    for one in removal.plain:
        if one.directory not in removal.whole:
            mark_files_gone(ledger, work.change, removal.holding, one.directory, one.names)
    _enter_steps(work, removal)
    set_inodes(ledger, inodes)
    return removal


def _stage_all_back(work: Work, removal: Removal) -> tuple[Removal, list[tuple[int, int, str, int]]]:
    """Stage everything that a removal restores.

    Returns the removal without what cannot be restored, and the new inodes of files that had to be copied.
    """
    back = removal.back
    shared = shared_backups(work.resources.ledger) if back else set()
    inodes: list[tuple[int, int, str, int]] = []
    unsound: set[tuple[int, str]] = set()
    of_size = sum(step.gives_back.state.size for _, step in back if step.gives_back)
    size = 0
    incoming: dict[str, str] = {}
    for done, (destination, step) in enumerate(back, 1):
        assert step.gives_back, "only replaced files come back"
        if destination.path not in incoming:
            incoming[destination.path] = work.incoming(destination.path)
            os.makedirs(incoming[destination.path], exist_ok=True)
        try:
            inode = _stage_back(work, incoming[destination.path], destination, step.gives_back, shared)
        except UnsoundBackup:
            unsound.add(destination.key)
            continue
        if inode not in (None, step.gives_back.state.inode):
            inodes.append((inode, *destination.key, step.gives_back.level))
        size += step.gives_back.state.size
        if not done % _TOLD or done == len(back):
            work.resources.watch(Progress(work.about, "giving back", done, len(back), size, of_size))
    return (removal.leaving(unsound) if unsound else removal), inodes


def remove_holding(
    resources: Resources,
    holding: Holding,
    *,
    only: Mapping[int, Set[str]] | None = None,
    gives_back_changed: bool = False,
    is_partial: bool = True,
    keeps: Mapping[int, Set[str]] | None = None,
    choices_without: Callable[[Set[tuple[int, str]]], str] | None = None,
    root: int = 0,
) -> Removed:
    """Remove a holding. After an error everything is as it was before, and the error says so.

    Files that the user changed stay in the holding, unless `gives_back_changed`: then the caller has saved them. `only`
    names what is to be removed, by directory, if that is not everything. If files are left, the holding `is_partial`
    afterwards, and `choices_without` gives its choices for what is left, by directory and name. Files that it `keeps`
    stay on disk as the user's own. `root` is the change that this one undoes or redoes.
    """
    removal = removal_of(
        resources.ledger,
        holding.number,
        within(only),
        gives_back_changed=gives_back_changed,
        in_detail=bool(keeps),
    )
    removal, own = _kept(removal, keeps or {})
    with change_under_way(resources, ChangeKind.REMOVE, holding.name, root=root) as work:
        work.stage_for(removal.destinations(resources.ledger, holding), removal.names())
        with resources.ledger.transaction():
            removal = enter_removal(work, removal)
            enter_layers(resources.ledger, work.change, own)
            may_stay = bool(removal.leaves) or only is not None
            stay, files, size = what_stays(resources.ledger, holding.number, work.change) if may_stay else (0, 0, 0)
            if stay:
                work.totals.append((holding.number, files, size, is_partial))
                set_partial(resources.ledger, work.change, took=holding.number, is_named=bool(choices_without))
                if choices_without:
                    left = {destination.key for destination, _ in removal.leaves}
                    work.choices.append((holding.number, choices_without(left)))
            else:
                mark_gone(resources.ledger, work.change, holding.number)
            seal_intent(work)
        execute(work)
    return replace(removal.told(), rest=files - len(removal.leaves) if only is not None and stay else 0)


def _kept(removal: Removal, keeps: Mapping[int, Set[str]]) -> tuple[Removal, list[NewLayer]]:
    """Return the removal without files that were the user's before they were adopted, and the state of these files."""
    takes, own = [], []
    for destination, step in removal.takes:
        is_kept = destination.name in keeps.get(destination.directory, ()) and step.changes_disk and not step.gives_back
        if is_kept and destination.disk.kind is not FileKind.ABSENT:
            mine = destination.layer_of(removal.holding)
            own.append(NewLayer(*destination.key, mine._replace(holding=None, entry="", is_backed=False)))
            step = step._replace(changes_disk=False)
        takes.append((destination, step))
    return replace(removal, takes=tuple(takes)), own


def _step_for(destination: Destination, holding: int, *, gives_back_changed: bool) -> RemovalStep:
    disk = destination.disk
    if gives_back_changed or needs_digest(destination.stack, holding, disk):
        disk = with_digest(disk, destination.file)
    return out_of(destination.stack, holding, *destination.key, disk, gives_back_changed=gives_back_changed)


def destination_of(ledger: Ledger, directory: str, holding: Holding) -> str:
    """Return the destination of a directory: the holding's root, or the directory itself if it lies elsewhere.

    For a directory that Usufruct made, it is the one above: a staging directory must not lie in a directory that is
    removed.
    """
    destination = holding.root if is_below(directory, holding.root) else directory
    while is_made(ledger, destination):
        destination = os.path.dirname(destination)
    return destination


def _enter_directories(work: Work, directories: Iterable[str]) -> None:
    """Record every directory that the removal touches: those with files, and parents that may become empty."""
    ledger = work.resources.ledger
    for path in dict.fromkeys(directories):
        chain = chain_to_make(work, path)
        while is_made(ledger, chain[0][0]):
            chain = chain_to_make(work, os.path.dirname(chain[0][0])) + chain
        enter_directories(ledger, work.change, chain)


def _enter_steps(work: Work, removal: Removal) -> None:
    ledger, change, steps = work.resources.ledger, work.change, [step for _, step in removal.takes]
    # The first level of each is the holding's own.
    levels = ((step, level) for step in steps for level in step.levels[step.directory in removal.whole :])
    mark_layers_gone(ledger, change, ((step.directory, step.name, level) for step, level in levels))
    told = (NewLayer(step.directory, step.name, step.documented) for step in steps if step.documented)
    enter_layers(ledger, change, told, gone=True)


def _stage_back(work: Work, incoming: str, destination: Destination, layer: Layer, shared: Set[bytes]) -> int | None:
    """Stage one file that is restored, with its former mode and time, and return its inode.

    `shared`: digests that other layers also need from the backups.
    """
    resources, state = work.resources, layer.state
    if state.kind not in (FileKind.FILE, FileKind.LINK):
        return None
    path = f"{incoming}/{destination.name}"
    if state.kind is FileKind.LINK:
        now = write_link(path, state.target, state.modified)
    else:
        now = resources.backups.give(state, path, is_last=state.digest not in shared)
    resources.checkpoint("staged-back")
    return now.inode
