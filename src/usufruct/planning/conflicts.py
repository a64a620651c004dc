"""From a Layout and a Snapshot of the disk to a Plan: what each placement meets and does."""

from collections.abc import Iterable, Mapping, Set
from functools import cached_property
from itertools import chain
from typing import assert_never

from usufruct.errors import MachineError
from usufruct.model.choices import Choices, OnClash
from usufruct.model.entries import EntryKind
from usufruct.model.layout import Layout, Skipped
from usufruct.model.plan import Conflict, Plan
from usufruct.model.records import FileKind, Layer
from usufruct.model.rulings import SkippedKind
from usufruct.model.snapshot import Found, Snapshot
from usufruct.planning.names import free_name, spelling_key, without_number
from usufruct.planning.stacks import is_unchanged

_NOT_THERE = "no file of this name is there (--on-clash existing)"
NONE_SAME: frozenset[int] = frozenset()
_TIME_STEP = 2_000_000_000
"""Nanoseconds: FAT keeps times in steps of two seconds, so a smaller difference says nothing."""


def may_be_same(layout: Layout, snapshot: Snapshot) -> list[tuple[int, str]]:
    """Return the rows whose destination may have the same content already, with the path of that destination.

    The sizes are equal; only reading the content tells whether it is the same.
    """
    kinds, sizes, there = layout.listing.kinds, layout.listing.sizes, snapshot.found
    rows = [row for row, size in zip(there.plain_rows, there.plain_sizes, strict=True) if size == sizes[row]]
    rows += [row for row, (_, state, _) in there.others() if state.size == sizes[row] and state.kind is FileKind.FILE]
    return [
        (row, f"{snapshot.surveyed(layout.home_of[row]).path}/{there[row].name}")
        for row in rows
        if kinds[row] == EntryKind.FILE
    ]


def plan_of(
    layout: Layout,
    snapshot: Snapshot,
    choices: Choices,
    same: Set[int] = NONE_SAME,
    updating: int | None = None,
) -> Plan:
    """What each placement does on this disk.

    `same` are the rows whose destination holds the very same content; `updating` is the holding that the archive
    takes the place of. Raises MachineError, naming all of them, if a directory is in the way of a file, or the
    reverse.
    """
    return _Meeting(layout, snapshot, choices, same, updating).plan()


class _Meeting:
    """The placements of one layout meeting what is on disk."""

    def __init__(
        self, layout: Layout, snapshot: Snapshot, choices: Choices, same: Set[int], updating: int | None
    ) -> None:
        self._layout = layout
        self._snapshot = snapshot
        self._on_clash = choices.on_clash
        self._answers: Mapping[str, OnClash] = dict(choices.on_clash_of)
        self._same = same
        self._updating = updating
        self._plan = Plan(layout, snapshot)
        self._taken: dict[str, set[str]] = {}
        """Spelling key of a directory's path → those of the names that are taken there, once one was looked for."""

    def plan(self) -> Plan:
        layout, plan, blocked = self._layout, self._plan, []
        there, home_of, kinds = self._snapshot.found, layout.home_of, layout.listing.kinds
        if self._on_clash is OnClash.EXISTING:
            for row in layout.placed_rows():
                if row not in there:
                    self._leave_out(row, _NOT_THERE)
        # By far most conflicts are files that simply replace a file.
        is_simple = self._on_clash is OnClash.REPLACE and self._updating is None and not self._answers
        rest: Iterable[tuple[int, Found]] = there.items()
        if is_simple:
            simple = [row for row in there.plain_rows if kinds[row] == EntryKind.FILE]
            for row in simple:
                plan.conflict_of[row] = Conflict.REPLACES
            for row in filter(self._same.__contains__, simple) if self._same else ():
                plan.conflict_of[row] = Conflict.SAME
            odd = ((row, there[row]) for row in there.plain_rows if kinds[row] != EntryKind.FILE)
            rest = chain(odd, there.others())
        for row, found in rest:
            if is_simple and found.state.kind is FileKind.FILE and kinds[row] == EntryKind.FILE:
                plan.conflict_of[row] = Conflict.SAME if row in self._same else Conflict.REPLACES
            elif _is_blocked(layout, row, found):
                path = f"{self._snapshot.surveyed(home_of[row]).path}/{found.name}"
                if path in self._snapshot.kept:
                    self._place_beside(row)
                else:
                    blocked.append(path)
            elif (mine := _layer_of(found, self._updating)) is not None:
                self._renew(row, found, mine)
            else:
                self._meet(row, found)
        if blocked:
            raise in_the_way(blocked)
        plan.skipped.sort()
        plan.open_conflicts.sort()
        return plan

    def _renew(self, row: int, found: Found, mine: Layer) -> None:
        """Decide about a file of the updated holding: it gets the new content, but an edited file stays."""
        if is_users_now(found, mine):
            self._place_beside(row)
            return
        if row in self._same:
            self._plan.conflict_of[row] = Conflict.SAME
        elif found.state.kind is not FileKind.ABSENT:
            self._plan.conflict_of[row] = Conflict.REPLACES
        self._plan.level_of[row] = mine.level

    def _meet(self, row: int, found: Found) -> None:
        """Decide what becomes of a row whose destination has a file or a record."""
        layout, plan = self._layout, self._plan
        if found.state.kind is FileKind.ABSENT:
            if self._on_clash is OnClash.EXISTING:
                self._leave_out(row, _NOT_THERE)
            return
        is_same = row in self._same
        if layout.listing.kinds[row] == EntryKind.LINK:
            is_same = found.state.kind is FileKind.LINK and found.state.target == layout.listing.targets[row]
        if is_same or layout.listing.kinds[row] == EntryKind.DIRECTORY:
            plan.conflict_of[row] = Conflict.SAME
            return
        self._decide(row, found, self._answers.get(layout.listing.path(row), self._on_clash))

    def _decide(self, row: int, found: Found, on_clash: OnClash) -> None:
        match on_clash:
            case OnClash.REPLACE | OnClash.EXISTING:
                self._replace(row)
            case OnClash.KEEP:
                self._leave_out(row, "a file of this name is there and stays (--on-clash keep)")
            case OnClash.NEWER:
                time = self._layout.listing.modified(row)
                if time is not None and time > found.state.modified + _TIME_STEP:
                    self._replace(row)
                else:
                    self._leave_out(row, "the file that is there is as new, or newer (--on-clash newer)")
            case OnClash.BOTH:
                self._place_beside(row)
            case OnClash.ASK:
                self._plan.open_conflicts.append(row)
                self._replace(row)
            case _:
                assert_never(on_clash)

    def _replace(self, row: int) -> None:
        self._plan.conflict_of[row] = Conflict.REPLACES

    def _leave_out(self, row: int, reason: str) -> None:
        self._plan.skipped.append(Skipped(row, SkippedKind.CLASH, reason))

    def _place_beside(self, row: int) -> None:
        """Place a row under a free name, beside the file that is there."""
        number = self._layout.home_of[row]
        path = spelling_key(self._layout.homes[number].path)
        if path not in self._taken:
            taken = self._snapshot.surveyed(number).taken
            if taken is None:
                self._plan.unnamed.add(number)
            self._taken[path] = {*(taken or ()), *self._wanted[path]}
        own = without_number(self._layout.name(row), self._layout.listing.names[row])
        name = free_name(own, self._taken[path])
        self._taken[path].add(spelling_key(name))
        self._plan.conflict_of[row] = Conflict.STAYS
        self._plan.beside[row] = name

    @cached_property
    def _wanted(self) -> dict[str, set[str]]:
        """Return the names that are to be placed in each directory, by the spelling key of its path."""
        names = self._layout.names
        wanted: dict[str, set[str]] = {}
        for home, rows in zip(self._layout.homes, self._layout.rows_by_home(), strict=True):
            wanted.setdefault(spelling_key(home.path), set()).update(spelling_key(names[row]) for row in rows)
        return wanted


def pieces_beside(plan: Plan) -> set[str]:
    """Return the paths of pieces that need another name, because one of their files cannot have its own."""
    layout = plan.layout
    homes = {layout.homes[layout.home_of[row]] for row in plan.beside}
    return {home.piece for home in homes if home.piece}


def _layer_of(found: Found, holding: int | None) -> Layer | None:
    """Return the layer of a holding at a destination."""
    if holding is None:
        return None
    return next((layer for layer in found.stack if layer.holding == holding), None)


def is_users_now(found: Found, mine: Layer) -> bool:
    """Whether a placed file is the user's own now: edited, or edited and then replaced by another holding."""
    above = found.stack[found.stack.index(mine) + 1 :]
    if above:
        return above[0].holding is None and above[0].state.kind is not FileKind.ABSENT
    return found.state.kind is not FileKind.ABSENT and not is_unchanged(mine, found.state)


def in_the_way(paths: list[str]) -> MachineError:
    """Return the error for files where directories are needed, directories where files are needed, and devices."""
    are, them = (f"and {len(paths) - 1} more are", "them") if len(paths) > 1 else ("is", "it")
    return MachineError(
        f"{paths[0]} {are} already there: a file and a folder cannot have the same name.",
        remedy=f"Move {them} away, or leave the entry out with --skip.",
        path=paths[0],
    )


def _is_blocked(layout: Layout, row: int, found: Found) -> bool:
    is_directory = layout.listing.kinds[row] == EntryKind.DIRECTORY
    if found.state.kind is FileKind.ABSENT:
        return False
    return is_directory != (found.state.kind is FileKind.DIRECTORY) or found.state.kind is FileKind.OTHER
