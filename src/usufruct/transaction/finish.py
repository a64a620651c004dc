"""The two ends of a change: done or reversed, each one commit, and the tidying that follows either."""

import logging
import os
import shutil
import threading

from usufruct.files.looking import state_at
from usufruct.files.staging import drop_staging, set_time
from usufruct.ledger import Ledger
from usufruct.ledger.changes import (
    clear_unneeded,
    enter_unneeded,
    forget_staging,
    noted_backups,
    set_phase,
    stagings_of,
)
from usufruct.ledger.holdings import (
    forget_holdings_born,
    forget_past_holdings,
    keep_holdings,
    known_holdings,
    revive_holding,
)
from usufruct.ledger.layers import (
    KnownDirectory,
    differences,
    forget_born,
    forget_directory,
    forget_gone,
    forget_past,
    forget_touched,
    forget_uncovered,
    keep_past,
    leaves_layers,
    must_stay_on_record,
    needed_backups,
    set_backed,
    settle_directory,
    stacks_in,
    surfacing,
    takes_layers,
    touched_directories,
)
from usufruct.model.changes import Phase
from usufruct.transaction.switch import drop_directory, switch_in
from usufruct.transaction.work import Edges, Work

_log = logging.getLogger(__name__)

Touched = tuple[KnownDirectory, int | None]
"""A directory of the change, and its time before it; None if it was not there."""


class MadeDurable:
    """Makes what was staged durable, in a thread: the ledger may be written meanwhile, but nothing may be staged."""

    def __init__(self, work: Work) -> None:
        self._work = work
        self._error: BaseException | None = None
        self._thread = threading.Thread(target=self._make, name="durable")
        self._thread.start()

    def _make(self) -> None:
        try:
            for staging in self._work.stagings:
                self._work.edges.platform.make_durable(staging.path)
        except BaseException as error:  # noqa: BLE001 - handed to the thread that waits
            self._error = error

    def wait(self) -> None:
        """Return once it is; raises what went wrong."""
        self._thread.join()
        if self._error:
            raise self._error


def seal_intent(work: Work, durable: MadeDurable | None = None) -> None:
    """Make all that was staged durable, and say in the transaction that is open that the intent is complete."""
    (durable or MadeDurable(work)).wait()
    _log.info("change %d of %s: staged and durable in %d places", work.change, work.about, len(work.stagings))
    work.edges.checkpoint("staged")
    set_phase(work.edges.ledger, work.change, Phase.SWITCHING)


def carry_out(work: Work) -> None:
    """Switch in what the committed intent says, and commit that it is done."""
    work.edges.checkpoint("intent")
    switch_in(work)
    work.edges.checkpoint("switched-all")
    finish(work)


def finish(work: Work) -> None:
    """Give directories their times, make all durable, and commit: from here on the change is done."""
    edges, ledger = work.edges, work.edges.ledger
    touched = touched_directories(ledger, work.change)
    lasting = _settle_directories(work, touched)
    _make_names_durable(work, touched)
    edges.checkpoint("switched-durable")
    with ledger.transaction():
        if work.revives is not None:
            revive_holding(ledger, work.change, work.revives)
        forget_past(ledger, work.change)
        forget_past_holdings(ledger, work.change)
        for directory, _ in touched:
            keep_past(ledger, work.change, directory.number, directory.path)
            _settle_stacks(ledger, work.change, directory.number)
        forget_touched(ledger, work.change)
        for directory, _ in touched:
            if directory.number in lasting:
                settle_directory(ledger, directory.number, lasting[directory.number])
            else:
                forget_directory(ledger, directory.number)
        set_phase(ledger, work.change, Phase.DONE, edges.now())
    _log.info("change %d of %s: done, in %d directories", work.change, work.about, len(touched))
    edges.checkpoint("done")


def _settle_directories(work: Work, touched: list[Touched]) -> dict[int, int]:
    """Drop emptied directories that Usufruct made; directory number → time, of those that stay on record.

    A directory in which nothing of Usufruct's is left gets its first time back, if nobody else changed it.
    """
    lasting: dict[int, int] = {}
    needed: set[str] = set()
    for directory, modified in reversed(touched):
        path = directory.path
        is_there = os.path.isdir(path)
        if path in needed or must_stay_on_record(work.edges.ledger, work.change, directory.number):
            if directory.is_made:
                needed.add(os.path.dirname(path))
            lasting[directory.number] = state_at(path).modified if is_there else directory.left or 0
        elif is_there and directory.is_made:
            # One in which the user keeps something stays, and is theirs from now on.
            drop_directory(path)
            work.edges.checkpoint("directory-dropped")
        elif is_there and directory.original is not None and modified == directory.left:
            set_time(path, directory.original)
    return lasting


def _make_names_durable(work: Work, touched: list[Touched]) -> None:
    """Return once the renames, and the backups they made, would survive a power cut."""
    paths = [directory.path for directory, _ in touched]
    work.edges.platform.sync_names(path for path in paths if os.path.isdir(path))
    work.edges.backups.make_durable()


def _settle_stacks(ledger: Ledger, change: int, directory: int) -> None:
    """Strike what the change took from a directory's stacks, and note the backups that nobody needs any more."""
    if not takes_layers(ledger, change, directory):
        # It only brought layers, on top of what was there: nothing comes to lie higher by it.
        return
    surfaced = surfacing(ledger, change, directory) if leaves_layers(ledger, change, directory) else []
    enter_unneeded(ledger, forget_gone(ledger, change, directory))
    # Nearly always what surfaces is the user's own, which is then no longer on record at all.
    enter_unneeded(ledger, forget_uncovered(ledger, directory))
    _surface(ledger, directory, surfaced)


def _surface(ledger: Ledger, directory: int, names: list[str]) -> None:
    """Note that what is on top of these stacks needs no backup: it is on disk."""
    tops = {name: stack[-1] for name, stack in stacks_in(ledger, directory, names).items() if stack[-1].is_backed}
    set_backed(ledger, [(directory, name, top.level) for name, top in tops.items()], is_backed=False)
    enter_unneeded(ledger, [top.state.digest for top in tops.values()])


def finish_reversed(work: Work) -> None:
    """Commit that a change never was; what it had switched must be switched back before."""
    edges, ledger, change = work.edges, work.edges.ledger, work.change
    touched = touched_directories(ledger, change)
    _make_names_durable(work, touched)
    with ledger.transaction():
        for directory, _ in touched:
            found = [difference for difference in differences(ledger, change, directory.number) if difference.before]
            enter_unneeded(ledger, (d.before.state.digest for d in found if d.before and d.before.state.digest))
            enter_unneeded(ledger, forget_born(ledger, change, directory.number))
            _surface(ledger, directory.number, [difference.name for difference in found])
        # In this order, for the name of one that goes may be that of one which comes.
        forget_holdings_born(ledger, change)
        keep_holdings(ledger, change)
        forget_touched(ledger, change)
        for directory, _ in touched:
            if directory.left is None:
                forget_directory(ledger, directory.number)
        # A change cut off while it staged may have put bytes into the backups that nothing on record tells of.
        needed = needed_backups(ledger)
        enter_unneeded(ledger, (digest for digest in edges.backups.digests() if digest not in needed))
        set_phase(ledger, change, Phase.REVERSED, edges.now())
    _log.info("change %d of %s: reversed, in %d directories", change, work.about, len(touched))
    edges.checkpoint("reversed")


def tidy(edges: Edges) -> None:
    """Remove what finished changes left: staging directories, backups and notes that nobody needs. May be repeated."""
    ledger = edges.ledger
    for staging in stagings_of(ledger):
        drop_staging(staging)
        with ledger.transaction():
            forget_staging(ledger, staging)
        edges.checkpoint("staging-dropped")
    noted = noted_backups(ledger)
    for digest, is_needed in noted:
        if is_needed:
            # It was given back as the very same file, and something else needs the content still.
            edges.backups.part(digest)
        else:
            edges.backups.drop(digest)
        edges.checkpoint("backup-dropped")
    if noted:
        edges.backups.drop_empty()
    edges.backups.drop_partial()
    with ledger.transaction():
        clear_unneeded(ledger)
    if os.path.isdir(edges.notes):
        known = {str(number) for number in known_holdings(ledger)}
        for kept in os.scandir(edges.notes):
            if kept.name not in known:
                shutil.rmtree(kept.path)
    edges.checkpoint("tidied")
