"""Reversing a change: at once if it fails, or in the next command if it was interrupted."""

import logging
from collections.abc import Iterator
from contextlib import contextmanager

from msgspec import Struct

from usufruct.errors import Interrupted, UsufructError
from usufruct.files.listing import forget_large_listings
from usufruct.files.refused import refusal_of
from usufruct.ledger.changes import begin_change, is_tidy, phase_of, stagings_of, unfinished_changes
from usufruct.model.changes import Change, ChangeKind, Phase
from usufruct.survey.drives import drive_of_staging, drives_of
from usufruct.transaction.finish import finish_reversed
from usufruct.transaction.switch import Stranger, switch_back
from usufruct.transaction.tidying import tidy, tidy_if_possible
from usufruct.transaction.work import Resources, Work

_log = logging.getLogger(__name__)
_AS_BEFORE = "What had begun was reversed; everything is as before."


class Recovered(Struct, frozen=True):
    """What a recovery did."""

    reversed: tuple[tuple[Change, tuple[Stranger, ...]], ...] = ()
    """Changes that were cut off, newest first, each with what somebody else changed meanwhile and was left."""
    waiting: tuple[tuple[Change, UsufructError], ...] = ()
    """Changes that cannot be reversed yet, and why: their drive is away, perhaps. Nothing else waits for them."""
    untidied: tuple[str, ...] = ()
    """What was to go and could not be removed, each with the reason."""


@contextmanager
def change_under_way(resources: Resources, kind: ChangeKind, about: str, *, root: int = 0) -> Iterator[Work]:
    """Run a change that is reversed if anything inside fails; the code inside must end with `finish`.

    Raises the same error again once everything is as it was before (OSError as MachineError, an interruption as
    Interrupted), and the error says so. If the change was already done by then, the error says that. What is left to be
    removed is left to the next change, or to the code that opened the ledger.
    """
    forget_large_listings()
    if not is_tidy(resources.ledger):
        tidy_if_possible(resources)
    # Need not wait for the disk: the first staging directory is recorded later, and that waits.
    with resources.ledger.transaction(waits=False):
        change = begin_change(resources.ledger, kind, about, resources.now(), root=root)
    resources.backups.begin(change)
    work = Work(resources, change, about)
    try:
        yield work
    except BaseException as error:
        if isinstance(error, OSError) and isinstance(error.filename, str):
            error.filename = work.shown(error.filename)
        work.let_go()
        if phase_of(resources.ledger, change) is Phase.DONE:
            kept = f"The {kind} of {about} was finished before; it stays."
            raise _told(error, kept, "There is nothing to repeat.") from error
        raise _told(error, *_undone(resources, change)) from error
    finally:
        work.let_go()
        resources.backups.end()


def reverse(resources: Resources, change: int, about: str = "") -> tuple[Stranger, ...]:
    """Reverse a change unless it is done, however far it came; return files that somebody else changed and that stay.

    Raises DriveAway if a drive on which it staged is not connected, and LeadsElsewhere or OSError if a directory
    cannot be reached. The change is then still to be reversed.
    """
    work = Work(resources, change, about, stagings=stagings_of(resources.ledger, change))
    drives_of(resources.ledger, resources.platform.identity_of_drive).refuse_away(
        f"The interrupted change ({about})", map(drive_of_staging, work.stagings)
    )
    is_switching = phase_of(resources.ledger, change) is Phase.SWITCHING
    if is_switching:
        work.hold_stagings()
    try:
        strangers = switch_back(work) if is_switching else []
        finish_reversed(work, strangers)
    finally:
        work.let_go()
    return tuple(strangers)


def recover(resources: Resources) -> Recovered:
    """Reverse every interrupted change as far as it can be reached, and tidy up after those that ended."""
    done: list[tuple[Change, tuple[Stranger, ...]]] = []
    waiting: list[tuple[Change, UsufructError]] = []
    for change in unfinished_changes(resources.ledger):
        try:
            done.append((change, reverse(resources, change.number, change.about)))
        except UsufructError as error:
            waiting.append((change, error))
        except OSError as error:
            waiting.append((change, refusal_of(error, "It stays as it is, to be reversed.")))
    for change, why in waiting:
        _log.warning("change %d of %s cannot be reversed yet: %s", change.number, change.about, why)
    return Recovered(tuple(done), tuple(waiting), tuple(tidy(resources)))


def _undone(resources: Resources, change: int) -> tuple[str, str]:
    """Reverse a change that failed; return what then holds, and what to do if not everything was restored."""
    try:
        strangers = reverse(resources, change)
    except (OSError, UsufructError) as error:
        _log.warning("change %d could not be reversed at once: %s", change, error)
        return f"What had begun could not be reversed yet: {error}", "`usufruct recover` reverses it."
    tidy_if_possible(resources)
    if not strangers:
        return _AS_BEFORE, ""
    changed = "; ".join(map(words_for, strangers))
    kept = f"What had begun was reversed, but another program changed something meanwhile, which was left: {changed}."
    return kept, "See what you want to keep of it, then try again."


def words_for(stranger: Stranger) -> str:
    """Describe one file that somebody else changed, and where the earlier version is."""
    if stranger.saved:
        return f"{stranger.path} (your earlier file is kept as {stranger.saved})"
    if stranger.lacking:
        return f"{stranger.path} (the earlier file is missing or damaged; it should be {stranger.lacking})"
    return stranger.path


def _told(error: BaseException, kept: str, remedy: str) -> BaseException:
    """Return the error as the user sees it; `remedy` if there is more to do than the error itself says."""
    if isinstance(error, UsufructError):
        if remedy:
            error.kept, error.remedy = kept, f"{error.remedy} {remedy}"
        return error
    if isinstance(error, KeyboardInterrupt):
        return Interrupted("Stopped.", kept=kept, remedy=remedy or "Run the command again when you like.")
    if isinstance(error, OSError):
        told = refusal_of(error, kept)
        told.remedy = remedy or told.remedy
        return told
    return error
