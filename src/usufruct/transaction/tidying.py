"""Tidying after a change: staging directories, backups and notes that are no longer needed are removed."""

import logging
import os
import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress

from usufruct.errors import Interrupted, MachineError
from usufruct.files.staging import Staging, drop_staging, with_time_left
from usufruct.ledger import Ledger
from usufruct.ledger.changes import (
    clear_all_unneeded,
    clear_unneeded,
    clear_unneeded_notes,
    forget_staging,
    noted_backups,
    set_time_left,
    stagings_of_ended,
    unneeded_backups,
    unneeded_notes,
)
from usufruct.survey.drives import Presence, drive_of_staging, drives_of
from usufruct.transaction.work import Resources

_log = logging.getLogger(__name__)
_MANY, _LARGE = 500, 256 << 20
"""Files and bytes that take longer to remove than a process takes to start."""


def takes_long(resources: Resources) -> bool:
    """Whether so much is left to remove that nobody should wait for it."""
    unneeded = unneeded_backups(resources.ledger, _MANY + 1)
    size, files = 0, len(unneeded)
    if files > _MANY or resources.ledger.is_half_empty:
        return True
    for digest in unneeded:
        with suppress(OSError):
            size += resources.backups.size_of(digest)
    for staging in stagings_of_ended(resources.ledger):
        for directory, _, names in os.walk(staging.path):
            files += 1 + len(names)
            if files > _MANY:
                return True
            with suppress(OSError):
                size += sum(os.lstat(f"{directory}/{name}").st_size for name in names)
    return size > _LARGE


def tidy(resources: Resources) -> list[str]:
    """Remove what finished changes left: staging directories, backups and notes. May be repeated.

    Returns what could not be removed, in words: it is left for the next time, and nothing else waits for it.
    """
    ledger, drives = resources.ledger, drives_of(resources.ledger, resources.platform.identity_of_drive)
    recorded = [
        staging
        for staging in stagings_of_ended(ledger)
        if drives.presence(drive_of_staging(staging)) is not Presence.AWAY
    ]
    noted, notes, faults = noted_backups(ledger), unneeded_notes(ledger), _Faults()
    stagings = _with_times_left(ledger, recorded)
    resources.checkpoint("tidying")
    dropped = _drop_stagings(resources, stagings, faults)
    struck = _drop_backups(resources, noted, faults)
    forgotten = _drop_notes(resources, notes, faults)
    with faults.of(resources.backups.top):
        if noted:
            resources.backups.drop_empty()
        resources.backups.drop_partial()
        # A power cut may undo the removal, so the record must still have it.
        resources.backups.make_durable()
    with ledger.transaction():
        for staging in dropped:
            forget_staging(ledger, staging)
        if len(struck) == len(noted):
            clear_all_unneeded(ledger)
        else:
            clear_unneeded(ledger, struck)
        clear_unneeded_notes(ledger, forgotten)
    resources.checkpoint("tidied")
    if ledger.is_half_empty:
        with faults.of(str(ledger.path)):
            ledger.shrink()
    return faults.found


def _drop_stagings(resources: Resources, stagings: Sequence[Staging], faults: "_Faults") -> list[Staging]:
    """Remove staging directories durably; return those that are gone."""
    dropped = []
    for staging in stagings:
        with faults.of(staging.path):
            strangers = drop_staging(staging, resources.platform)
            for path in strangers:
                faults.say(path, "was put there by somebody else, and stays; move it away")
            if not strangers:
                dropped.append(staging)
        resources.checkpoint("staging-dropped")
    # A power cut may undo the removal, so the record must still have it.
    for parent in sorted({os.path.dirname(staging.path) for staging in dropped}):
        with faults.of(parent):
            if os.path.isdir(parent):
                resources.platform.sync_directory(parent)
    return dropped


def _drop_backups(resources: Resources, noted: Sequence[tuple[bytes, bool]], faults: "_Faults") -> list[bytes]:
    """Remove backups, or separate them from a restored file that shares their inode; return those that are finished."""
    struck = []
    for digest, is_needed in noted:
        try:
            if is_needed:
                # The backup file itself was restored, but another layer still needs the content.
                resources.backups.unshare(digest)
            else:
                resources.backups.drop(digest)
            struck.append(digest)
        except (OSError, MachineError) as error:
            faults.add(resources.backups.path_of(digest), error)
        resources.checkpoint("backup-dropped")
    return struck


def _drop_notes(resources: Resources, notes: Sequence[int], faults: "_Faults") -> list[int]:
    """Remove the notes of removed holdings; return the holdings' numbers."""
    forgotten = []
    for number in notes:
        kept = f"{resources.notes}/{number}"
        with faults.of(kept):
            if os.path.isdir(kept):
                resources.platform.remove_tree(kept)
            forgotten.append(number)
    return forgotten


def tidy_if_possible(resources: Resources) -> None:
    """Tidy; what cannot be removed now is removed by the next command.

    Raises Interrupted if the user does not want to wait for it.
    """
    try:
        tidy(resources)
    except KeyboardInterrupt as error:
        raise Interrupted(
            "Stopped while cleaning up; the next command cleans up the rest.",
            kept="Everything that was reported as done is done.",
            remedy="There is nothing to repeat.",
        ) from error
    except Exception as error:  # noqa: BLE001 - the change has ended, and nothing may make it look as if it had not
        _log.warning("tidying was put off: %s", error)


def _with_times_left(ledger: Ledger, stagings: Sequence[Staging]) -> list[Staging]:
    """Record the time that each parent gets before any of these is removed, unless it is recorded already."""
    found = [with_time_left(staging) for staging in stagings]
    if found != list(stagings):
        with ledger.transaction():
            for staging in found:
                set_time_left(ledger, staging)
    return found


class _Faults:
    """What could not be tidied; one failure does not stop the rest."""

    def __init__(self) -> None:
        self.found: list[str] = []

    @contextmanager
    def of(self, path: str) -> Iterator[None]:
        """Log and remember a failure inside as one about this path."""
        try:
            yield
        except (OSError, MachineError, sqlite3.Error) as error:
            self.add(path, error)

    def say(self, path: str, what: str) -> None:
        """Remember what is to be reported about a path."""
        self.found.append(f"{path}: {what}")
        _log.warning("%s %s", path, what)

    def add(self, path: str, error: OSError | MachineError | sqlite3.Error) -> None:
        """Remember what failed at a path."""
        said = error.message if isinstance(error, MachineError) else getattr(error, "strerror", None) or str(error)
        self.found.append(f"{path}: {said}")
        _log.warning("%s could not be tidied: %s", path, said)
