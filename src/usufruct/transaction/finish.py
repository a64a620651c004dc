"""The two ends of a change, done or reversed; each is one commit."""

import logging
import os
import threading
from collections.abc import Sequence

from usufruct.errors import MachineError
from usufruct.files.directories import Walk
from usufruct.files.staging import with_time_left
from usufruct.ledger import Ledger
from usufruct.ledger.altered import (
    differences,
    forget_born,
    forget_gone,
    forget_past,
    forget_uncovered,
    keep_past,
    leaves_layers,
    surfacing,
    takes_layers,
)
from usufruct.ledger.changes import (
    clear_unneeded,
    enter_unneeded,
    others_touching,
    set_phase,
    set_time_left,
    split_change,
)
from usufruct.ledger.directories import (
    KnownDirectory,
    forget_directory,
    forget_touched,
    must_stay_on_record,
    set_left,
    touched_directories,
)
from usufruct.ledger.holdings import (
    forget_holdings_born,
    forget_past_holdings,
    keep_holdings,
    revive_holding,
    set_choices,
    set_totals,
)
from usufruct.ledger.layers import set_backed, stacks_in
from usufruct.model.changes import Phase
from usufruct.transaction.switch import Stranger, switch_in
from usufruct.transaction.work import Work

_log = logging.getLogger(__name__)
KEPT_CHANGES = 200
"""Changes that can be undone: what each took is on record as long as it is one of so many."""

Touched = tuple[KnownDirectory, int | None]
"""A directory of the change, and its time before it; None if it was not there."""


class MadeDurable:
    """Make staged files durable in a thread. Meanwhile the ledger may be written, but nothing may be staged."""

    def __init__(self, work: Work) -> None:
        self._work = work
        self._error: BaseException | None = None
        self._thread = threading.Thread(target=self._make, name="durable")
        self._thread.start()

    def _make(self) -> None:
        try:
            for staging in self._work.stagings:
                self._work.resources.platform.make_durable(staging.top)
        except BaseException as error:  # noqa: BLE001 - handed to the thread that waits
            self._error = error

    def wait(self) -> None:
        """Return when everything is durable; raises what failed."""
        self._thread.join()
        if self._error:
            raise self._error


def seal_intent(work: Work, durable: MadeDurable | None = None) -> None:
    """Make all staged files durable, and record in the open transaction that the intent is complete."""
    (durable or MadeDurable(work)).wait()
    _log.info("change %d of %s: staged and durable in %d places", work.change, work.about, len(work.stagings))
    work.resources.checkpoint("staged")
    refuse_waiting(work)
    work.resources.backups.seal()
    set_phase(work.resources.ledger, work.change, Phase.SWITCHING)


def refuse_waiting(work: Work) -> None:
    """Raise MachineError if an interrupted change that is still to be reversed touches the same directories."""
    if other := others_touching(work.resources.ledger, work.change):
        path, about = other
        raise MachineError(
            f"{path} is part of a change of {about} that was interrupted and could not be undone yet.",
            remedy="`usufruct recover` says what it waits for.",
            path=path,
        )


def execute(work: Work) -> None:
    """Carry out the committed intent, and commit that it is done."""
    work.resources.checkpoint("intent")
    switch_in(work)
    work.resources.checkpoint("switched-all")
    finish(work)


def finish(work: Work, *, touches_disk: bool = True) -> None:
    """Set directory times, make everything durable, and commit. The change is done from here on.

    `touches_disk`: if false, only the record changes, and no directory is removed or gets another time.
    """
    resources, ledger = work.resources, work.resources.ledger
    touched = touched_directories(ledger, work.change)
    lasting = _leave_directories(work, touched, touches_disk=touches_disk)
    if touches_disk:
        _make_names_durable(work, touched)
    resources.checkpoint("switched-durable")
    with ledger.transaction():
        enter_done(work, touched, lasting)
    _log.info("change %d of %s: done, in %d directories", work.change, work.about, len(touched))
    resources.checkpoint("done")


def enter_done(work: Work, touched: list[Touched], lasting: dict[int, int]) -> None:
    """Record in the open transaction that the change is done; `lasting` as `_leave_directories` returns it."""
    resources, ledger = work.resources, work.resources.ledger
    if work.revives is not None:
        revive_holding(ledger, work.change, work.revives)
    for holding, files, size, is_partial in work.totals:
        set_totals(ledger, holding, files, size, is_partial=is_partial)
    for holding, choices in work.choices:
        set_choices(ledger, holding, choices)
    forget_past(ledger, work.change - KEPT_CHANGES)
    forget_past_holdings(ledger, work.change - KEPT_CHANGES)
    for directory, _ in touched:
        keep_past(ledger, work.change, directory.number, directory.path)
        _close_stacks(ledger, work.change, directory.number)
    forget_touched(ledger, work.change)
    for directory, _ in touched:
        if directory.number in lasting:
            set_left(ledger, directory.number, lasting[directory.number])
        else:
            forget_directory(ledger, directory.number)
    for staging in work.stagings:
        set_time_left(ledger, with_time_left(staging))
    set_phase(ledger, work.change, Phase.DONE, resources.now())
    if work.several:
        split_change(ledger, work.change, work.several)


def _leave_directories(work: Work, touched: list[Touched], *, touches_disk: bool) -> dict[int, int]:
    """Remove empty directories that Usufruct made; return directory number → time for the others.

    If nothing of Usufruct's is left in a directory, it gets the time back that others gave it last.
    """
    lasting: dict[int, int] = {}
    needed: set[str] = set()
    with Walk(work.resources.platform) as walk:
        for directory, _ in reversed(touched):
            path = directory.path
            here = walk.reach(path) if walk.is_there(path) else None
            if path in needed or must_stay_on_record(work.resources.ledger, work.change, directory.number):
                if directory.is_made:
                    needed.add(os.path.dirname(path))
                lasting[directory.number] = here.modified if here else directory.left or 0
            elif not here or not touches_disk:
                continue
            elif directory.is_made:
                # A directory with files of the user's stays, and is theirs from now on.
                walk.reach(os.path.dirname(path)).drop(os.path.basename(path))
                work.resources.checkpoint("directory-dropped")
            elif directory.original is not None:
                here.set_time(directory.original)
    return lasting


def _make_names_durable(work: Work, touched: list[Touched]) -> None:
    """Return when the renames, and the backups made by them, would survive a power cut."""
    paths = [directory.path for directory, _ in touched]
    work.resources.platform.sync_names(path for path in paths if os.path.isdir(path))
    work.resources.backups.make_durable()


def _close_stacks(ledger: Ledger, change: int, directory: int) -> None:
    """Delete the layers that the change removed from a directory, and note backups that are no longer needed."""
    if not takes_layers(ledger, change, directory):
        # It only added layers on top, so no lower layer is uncovered.
        return
    surfaced = surfacing(ledger, change, directory) if leaves_layers(ledger, change, directory) else []
    enter_unneeded(ledger, forget_gone(ledger, change, directory))
    # Mostly the uncovered file is the user's own, which then leaves the record.
    enter_unneeded(ledger, forget_uncovered(ledger, directory))
    _surface(ledger, directory, surfaced)


def _surface(ledger: Ledger, directory: int, names: list[str]) -> None:
    """Note that the top layers of these stacks need no backup, because they are on disk."""
    tops = {name: stack[-1] for name, stack in stacks_in(ledger, directory, names).items() if stack[-1].is_backed}
    set_backed(ledger, [(directory, name, top.level) for name, top in tops.items()], is_backed=False)
    enter_unneeded(ledger, [top.state.digest for top in tops.values()])


def finish_reversed(work: Work, strangers: Sequence[Stranger] = ()) -> None:
    """Commit that a change never happened. Everything it switched must be switched back before.

    Damaged backups among `strangers` stay in the store, even if a part of the change had noted them as not needed.
    """
    resources, ledger, change = work.resources, work.resources.ledger, work.change
    touched = touched_directories(ledger, change)
    _make_names_durable(work, touched)
    lacking = {stranger.lacking for stranger in strangers if stranger.lacking}
    damaged: list[bytes] = []
    with ledger.transaction():
        for directory, _ in touched:
            found = [difference for difference in differences(ledger, change, directory.number) if difference.before]
            replaced = [d.before.state.digest for d in found if d.before and d.before.state.digest]
            if lacking:
                damaged += [digest for digest in replaced if resources.backups.path_of(digest) in lacking]
            enter_unneeded(ledger, replaced)
            enter_unneeded(ledger, forget_born(ledger, change, directory.number))
            _surface(ledger, directory.number, [difference.name for difference in found])
        # In this order, because a holding that goes may have the name of one that returns.
        forget_holdings_born(ledger, change)
        keep_holdings(ledger, change)
        forget_touched(ledger, change)
        for directory, _ in touched:
            if directory.left is None:
                forget_directory(ledger, directory.number)
        # Backups that it made before they were recorded; no others are touched.
        enter_unneeded(ledger, resources.backups.brought(change))
        clear_unneeded(ledger, damaged)
        for staging in work.stagings:
            set_time_left(ledger, with_time_left(staging))
        set_phase(ledger, change, Phase.REVERSED, resources.now())
    _log.info("change %d of %s: reversed, in %d directories", change, work.about, len(touched))
    resources.checkpoint("reversed")
