"""Adding: the planned entries of an archive become a holding, possibly in place of an earlier version."""

import mmap
import os
from array import array
from collections.abc import Callable, Iterator, Sequence
from typing import assert_never

from msgspec import Struct
from msgspec.structs import replace

from usufruct.archives.reading import Archive
from usufruct.errors import DecisionNeeded
from usufruct.files.looking import state_at, with_digest
from usufruct.files.writing import FILE_MODE, PROGRAM_MODE, write_link, write_new
from usufruct.ledger.directories import enter_directories, enter_holding_directories
from usufruct.ledger.holdings import Note, enter_drives, enter_holding, enter_note, enter_volumes, mark_gone
from usufruct.ledger.layers import NewLayer, enter_claims, enter_files, enter_layers, set_backed
from usufruct.model.changes import ChangeKind
from usufruct.model.entries import EntryKind, Listing
from usufruct.model.holdings import Holding, Volume
from usufruct.model.plan import Place, PlacingStep, Plan, Renew, Replace
from usufruct.model.progress import Progress
from usufruct.model.records import FileKind, FileState
from usufruct.model.rulings import SkippedKind
from usufruct.planning.junk import HEAD, begins_program, can_be_read, only_content_tells
from usufruct.planning.stacks import laid_on
from usufruct.survey.drives import enter_archive_drives
from usufruct.survey.holdings import Destination
from usufruct.transaction.detach import Removal, enter_removal, removal_of
from usufruct.transaction.finish import MadeDurable, execute, seal_intent
from usufruct.transaction.jobs import Job, Jobs, Staged
from usufruct.transaction.recover import change_under_way
from usufruct.transaction.renew import drop_staged, enter_renewal, hand_over
from usufruct.transaction.stage import stage_files
from usufruct.transaction.work import Resources, Work, chain_to_make

_BATCH = 10_000
"""Rows entered into the ledger at once."""
_LARGEST_NOTE = 1 << 20
"""Bytes; larger notes are not kept with the record."""
_MOST_NOTES = 20 << 20
"""Bytes of all notes of a holding."""


class Placed(Struct, frozen=True):
    """What an addition did."""

    files: int
    size: int
    shared: frozenset[int]
    """Rows whose content was there already."""
    replaced: frozenset[int]
    """Rows that replaced a file, which is backed up."""
    notes: tuple[Note, ...]
    renewed: int
    """Files of the holding before it that were replaced; of these no backup is kept."""
    taken: int = 0
    """Files of the holding before it that are no longer shipped and went."""
    kept: tuple[str, ...] = ()
    """Paths of its files that the user changed: they stay, with the new holding."""
    claimed: int = 0
    """Files of the user's that are the holding's own now."""


class _Contents:
    """Where each row of a plan is staged, and what it is placed over."""

    def __init__(self, work: Work, plan: Plan, *, claims: bool) -> None:
        self.work = work
        self.plan = plan
        self.claims = claims
        """Files of the user's with the same content become the holding's own."""
        self.listing = plan.layout.listing
        self.home_of = plan.layout.home_of
        self.names = plan.layout.names
        self.found = plan.snapshot.found
        self._staged: dict[int, str] = {}
        """Home → the directory in which its content is staged."""

    def names_by_home(self) -> Iterator[tuple[str, list[str]]]:
        """Names of everything that will be staged, with the absolute path of each directory."""
        names: dict[int, list[str]] = {}
        for row in self.plan.rows():
            name = self.plan.name(row) if row in self.found else self.names[row]
            names.setdefault(self.home_of[row], []).append(name)
        for home, here in names.items():
            yield self.plan.snapshot.surveyed(home).path, here

    def staged_path(self, row: int) -> str:
        """Return where a row is staged, and make the directory for it."""
        home = self.home_of[row]
        directory = self._staged.get(home)
        if directory is None:
            path = self.plan.snapshot.surveyed(home).path
            directory = self.work.staging_of(path).incoming(path)
            # Several threads ask: none may get a directory before it exists.
            os.makedirs(directory, exist_ok=True)
            self._staged[home] = directory
        return f"{directory}/{self.plan.name(row) if row in self.found else self.names[row]}"


class ToPlace(Struct, frozen=True, kw_only=True):
    """A plan and what the holding needs besides."""

    plan: Plan
    holding: Holding
    volumes: Sequence[Volume]
    """The files of the archives that it comes from."""
    updates: Holding | None
    """The one whose place it takes."""
    programs_allowed: bool
    """Files that can run keep that ability."""
    claims: bool
    """Files of the user's with the same content become the holding's own."""
    refuse_written: Callable[[], None]
    """Raises if anybody wrote to the archive since it was listed: what was unpacked may be another one then."""


def place_holding(resources: Resources, archive: Archive, wanted: ToPlace) -> Placed:
    """Carry out a plan and record it as a holding.

    In an update, new files are added, files that are no longer shipped are removed, layers keep their order, and files
    that the user changed stay. After an error everything is as it was before, and the error says so. Raises
    DecisionNeeded if the plan places nothing. The archive is closed after it was read.
    """
    plan, holding, updates = wanted.plan, wanted.holding, wanted.updates
    if next(plan.rows(), None) is None:
        raise DecisionNeeded("Nothing is left to place.", remedy="Look at the archive with `usufruct look`.")
    out = _going(resources, plan, updates) if updates else Removal()
    kind = ChangeKind.UPDATE if updates else ChangeKind.ADD
    with change_under_way(resources, kind, holding.name) as work:
        contents = _Contents(work, plan, claims=wanted.claims)
        homes = [(home.path, home.base) for home in plan.snapshot.homes if home]
        going = out.destinations(resources.ledger, updates) if updates else ()
        work.stage_for([*homes, *going], [*contents.names_by_home(), *out.names()])
        with resources.ledger.transaction():
            if updates:
                mark_gone(resources.ledger, work.change, updates.number)
            number = enter_holding(resources.ledger, work.change, holding)
            enter_drives(resources.ledger, number, work.held)
            enter_volumes(resources.ledger, number, wanted.volumes)
            archives = [volume.path for volume in wanted.volumes]
            enter_archive_drives(resources.ledger, resources.platform.identity_of_drive, archives)
            layers = _Layers(work, contents, number, _enter_directories(work, contents))
            _enter_staged(work, contents, layers, archive, programs_allowed=wanted.programs_allowed)
            notes = tuple(_keep_notes(work, plan, archive, number))
            # Reading is finished; close it so that its spool need not be flushed to disk.
            archive.close()
            wanted.refuse_written()
            # An update also stages restored files, after all its layers are entered.
            durable = None if updates else MadeDurable(work)
            placed = layers.complete()
            for note in notes:
                enter_note(resources.ledger, number, note)
            out = enter_removal(work, out)
            hand_over(work, out.leaves, out.holding, number)
            stay = [destination.layer_of(out.holding) for destination, _ in out.leaves]
            files, size = placed.files + len(stay), placed.size + sum(layer.state.size for layer in stay)
            work.totals.append((number, files, size, holding.is_partial))
            seal_intent(work, durable)
        execute(work)
    kept = tuple(destination.file for destination, _ in out.leaves)
    return replace(placed, notes=notes, taken=out.files, kept=kept)


def _going(resources: Resources, plan: Plan, updates: Holding) -> Removal:
    """Return what happens at the destinations of the holding that is updated, except those that get a new version."""
    renewed = {(plan.snapshot.surveyed(plan.layout.home_of[row]).path, plan.name(row)) for row in plan.level_of}
    return removal_of(resources.ledger, updates.number, lambda _, path: lambda name: (path, name) not in renewed)


def _enter_staged(
    work: Work, contents: _Contents, layers: "_Layers", archive: Archive, *, programs_allowed: bool
) -> None:
    """Stage every file of the plan and record its layers."""
    rows = array("I", contents.plan.rows())
    of_files, of_size = len(rows), sum(map(contents.listing.sizes.__getitem__, rows))
    done = size = 0

    def tell(unfinished: int) -> None:
        work.resources.watch(Progress(work.about, "unpacking", done, of_files, size + unfinished, of_size))

    programs = None if programs_allowed else _ProgramsSeen(contents.listing)
    for staged in _staged(contents, rows, archive, tell, programs):
        for row, state in staged:
            layers.enter(row, state)
            size += state.size
            work.resources.checkpoint("staged-one")
        done += len(staged)
        tell(0)
    if programs:
        programs.refuse()


class ProgramsFound(DecisionNeeded):
    """Files turned out to be programs when their content was read."""

    def __init__(self, entries: Sequence[str]) -> None:
        more = f" and {len(entries) - 1} more" if len(entries) > 1 else ""
        super().__init__(
            f"{entries[0]}{more} can run, which only the content tells.",
            remedy="Say `--programs refuse` to leave such files out, or `--programs allow` to place them.",
        )
        self.entries = frozenset(entries)


class _ProgramsSeen:
    """Detects, while files are written, programs that their names do not show."""

    def __init__(self, listing: Listing) -> None:
        self._listing = listing
        # Shared memory: each process records what it writes.
        self._found = mmap.mmap(-1, max(1, len(listing)))

    def look_at(self, row: int) -> Callable[[int, bytes], None] | None:
        """Return what is to be called with the first bytes of a file; None if its name is enough."""
        return self._look if only_content_tells(self._listing.names[row]) else None

    def _look(self, row: int, first: bytes) -> None:
        if begins_program(first[:HEAD]):
            self._found[row] = 1

    def refuse(self) -> None:
        """Raise ProgramsFound if there are any."""
        if found := [self._listing.path(row) for row, is_program in enumerate(self._found[:]) if is_program]:
            raise ProgramsFound(found)


class _Layers:
    """Records the layers of staged files, many at once."""

    def __init__(self, work: Work, contents: _Contents, holding: int, directories: dict[int, int]) -> None:
        self._work, self._contents, self._holding, self._directories = work, contents, holding, directories
        self._new: list[tuple[int, str, FileState, str]] = []
        self._batch: list[NewLayer] = []
        self._covered: list[tuple[int, str, int]] = []
        self._shared: set[int] = set()
        self._replaced: set[int] = set()
        self._renewed = 0
        self._beside: dict[str, bool] = {}
        self._claims: list[tuple[int, str]] = []
        self._told: list[NewLayer] = []
        self._files = self._size = 0

    def enter(self, row: int, state: FileState) -> None:
        """Record the layer of one staged row."""
        # Keep the last ones to be entered while the disk is flushing.
        if len(self._new) + len(self._batch) >= _BATCH:
            self._enter_batch()
        contents = self._contents
        entry = contents.listing.path(row)
        if row not in contents.found:
            self._new.append((self._directories[contents.home_of[row]], contents.names[row], state, entry))
        else:
            self._enter_step(contents.plan.step(row), state, entry)
        if state.kind is not FileKind.DIRECTORY:
            self._files, self._size = self._files + 1, self._size + state.size

    def _enter_step(self, step: PlacingStep, state: FileState, entry: str) -> None:
        match step:
            case Place(home=home, name=name):
                self._new.append((self._directories[home], name, state, entry))
            case Replace():
                self._lay(step, state, entry)
            case Renew():
                self._renew(step, state, entry)
            case _:
                assert_never(step)

    def _enter_batch(self) -> None:
        ledger, change = self._work.resources.ledger, self._work.change
        enter_files(ledger, change, self._holding, self._new)
        enter_layers(ledger, change, self._batch)
        enter_layers(ledger, change, self._told, gone=True)
        self._new.clear()
        self._batch.clear()
        self._told.clear()

    def _lay(self, step: Replace, state: FileState, entry: str) -> None:
        backups, name = self._work.resources.backups, step.found.name
        above = self._contents.plan.snapshot.surveyed(step.home).path
        path, directory = f"{above}/{name}", self._directories[step.home]
        disk = _disk_state(path, step)
        laid = laid_on(step.found.stack, disk, self._holding, state, entry)
        if self._contents.claims and laid.is_shared and not step.found.stack:
            # The user's file is entered only as a record; nothing is underneath the holding's.
            own, mine = laid.layers
            self._told.append(NewLayer(directory, name, own._replace(is_backed=False)))
            self._batch.append(NewLayer(directory, name, mine))
            self._claims.append((directory, name))
            self._shared.add(step.row)
            drop_staged(self._contents.work, self._contents.staged_path(step.row))
            return
        self._batch.extend(NewLayer(directory, name, layer) for layer in laid.layers)
        self._covered.extend((directory, name, level) for level in laid.covered)
        if laid.is_shared:
            self._shared.add(step.row)
            drop_staged(self._contents.work, self._contents.staged_path(step.row))
            if laid.backs_up:
                backups.keep(path, disk, stays=True)
        elif disk.kind is not FileKind.ABSENT:
            self._replaced.add(step.row)
            if laid.backs_up and not self._is_beside(above):
                # The copy must be whole and durable before its original loses its name.
                backups.keep(path, disk)

    def _is_beside(self, directory: str) -> bool:
        """Whether the backups are on the drive of this directory; checked once for each."""
        found = self._beside.get(directory)
        if found is None:
            found = self._beside[directory] = self._work.resources.backups.is_beside(directory)
        return found

    def _renew(self, step: Renew, state: FileState, entry: str) -> None:
        above, name = self._contents.plan.snapshot.surveyed(step.home).path, step.found.name
        disk = _disk_state(f"{above}/{name}", step)
        destination = Destination(self._directories[step.home], above, name, step.found.stack, disk)
        renewed = enter_renewal(self._work, destination, step.level, self._holding, state, entry)
        if renewed.is_same:
            self._shared.add(step.row)
        else:
            self._renewed += 1

    def complete(self) -> Placed:
        """Record what is left, and return what was placed."""
        self._enter_batch()
        resources = self._work.resources
        set_backed(resources.ledger, self._covered, is_backed=True)
        enter_holding_directories(resources.ledger, self._holding, self._directories.values())
        enter_claims(resources.ledger, self._holding, self._claims)
        return Placed(
            files=self._files,
            size=self._size,
            shared=frozenset(self._shared),
            replaced=frozenset(self._replaced),
            notes=(),
            renewed=self._renewed,
            claimed=len(self._claims),
        )


def _enter_directories(work: Work, contents: _Contents) -> dict[int, int]:
    """Record every directory that the plan touches or makes; return home number → ledger number."""
    homes: dict[int, int] = {}
    for number in sorted({*map(contents.plan.layout.home_of.__getitem__, contents.plan.rows())}):
        chain = chain_to_make(work, contents.plan.snapshot.surveyed(number).path)
        homes[number] = enter_directories(work.resources.ledger, work.change, chain)
    return homes


def _staged(
    contents: _Contents,
    placed: Sequence[int],
    archive: Archive,
    tell: Callable[[int], None],
    programs: _ProgramsSeen | None,
) -> Iterator[Staged]:
    """Stage what is placed; yield each row with the state at its destination before and after the change.

    `programs` sees everything that is written; None if programs are allowed.
    """
    listing = contents.listing
    rows = array("I")
    for row in placed:
        if listing.kinds[row] == EntryKind.FILE:
            rows.append(row)
        elif listing.kinds[row] == EntryKind.LINK:
            yield [(row, write_link(contents.staged_path(row), listing.targets[row], listing.modified(row)))]
        else:
            os.makedirs(contents.staged_path(row), exist_ok=True)
            yield [(row, state_at(contents.staged_path(row)))]

    def make(row: int) -> Job:
        mode = PROGRAM_MODE if programs is None and row in listing.runnable else FILE_MODE
        look = programs.look_at(row) if programs else None
        return Job(row, contents.staged_path(row), listing.sizes[row], listing.modified(row), mode, look)

    jobs = Jobs(rows, listing.sizes, make)
    yield from stage_files(archive, jobs, tell, may_fork=contents.work.resources.platform.can_fork)


def _disk_state(path: str, step: Replace | Renew) -> FileState:
    """Return what the survey found, with its digest: from the ledger if the file is unchanged, else computed."""
    found = step.found.state
    if step.found.stack and step.found.stack[-1].state.is_same_file(found):
        return found._replace(digest=step.found.stack[-1].state.digest)
    if found.kind is not FileKind.FILE:
        return found
    return with_digest(found, path)


def _keep_notes(work: Work, plan: Plan, archive: Archive, holding: int) -> Iterator[Note]:
    """Keep the archive's notes with the record."""
    listing = plan.layout.listing
    rows, size = [], 0
    for kind in (SkippedKind.NOTES, SkippedKind.NOT_TAKEN):
        for row in plan.layout.rows_skipped(kind):
            # Readable files and pictures without a place may explain the rest, so keep them.
            is_kept = kind is SkippedKind.NOTES or can_be_read(listing.names[row])
            if is_kept and listing.kinds[row] == EntryKind.FILE and listing.sizes[row] <= _LARGEST_NOTE:
                size += listing.sizes[row]
                if size <= _MOST_NOTES:
                    rows.append(row)
    if not rows:
        return
    top = f"{work.resources.notes}/{holding}"
    if os.path.isdir(top):
        # From an interrupted addition whose number was not recorded.
        work.resources.platform.remove_tree(top)
    os.makedirs(top)
    for number, (row, blocks) in enumerate(archive.stream(rows)):
        suffix = os.path.splitext(listing.names[row])[1]
        name = f"{number}{suffix if suffix.isascii() else ''}"
        state = write_new(f"{top}/{name}", blocks, listing.modified(row), FILE_MODE)
        yield Note(listing.path(row), name, state.size)
    work.resources.platform.make_durable(top)
