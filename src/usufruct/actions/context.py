"""What every action needs: Usufruct's own directories, the system, the clock."""

import os
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct, field

from usufruct.errors import UsufructError
from usufruct.files.state_paths import StatePaths
from usufruct.ledger import Ledger, read_ledger
from usufruct.model.progress import Watch, unwatched

if TYPE_CHECKING:
    from usufruct.files.platform import Platform
    from usufruct.model.settings import Settings
    from usufruct.transaction.recover import Recovered
    from usufruct.transaction.work import Resources


def ignore_recovery(recovered: "Recovered") -> None:
    """Report nothing."""


def ignore_waiting() -> None:
    """Report nothing."""


def ignore_lost(count: int) -> None:
    """Report nothing."""


def ignore_fault(fault: UsufructError) -> None:
    """Report nothing."""


class Context(Struct, frozen=True):
    """The outside world, passed to every action."""

    paths: StatePaths = field(default_factory=StatePaths.found)
    platform: "Platform | None" = None
    """None: the one Usufruct runs on."""
    now: Callable[[], int] = time.time_ns
    """Nanoseconds since 1970 UTC."""
    checkpoint: Callable[[str], None] | None = None
    watch: Watch = unwatched
    """Told how far changes have come."""
    downloads: tuple[Path, ...] = ()
    """Absolute paths of directories in which downloads are looked for instead of those of the settings."""
    command: list[int] | None = None
    """Where given, all that is changed in this context is one change of the history; it holds the first."""
    on_recovery: Callable[["Recovered"], None] = ignore_recovery
    """Told, before a writing command does its work, what it had to put right first."""
    on_lost: Callable[[int], None] = ignore_lost
    """Told of backups that the ledger does not know of, where it was lost or is an older one: how many there are."""
    on_waiting: Callable[[], None] = ignore_waiting
    """Told where a writing command waits for what the one before it left to be removed."""
    on_fault: Callable[[UsufructError], None] = ignore_fault
    """Told of a definition or a setting that cannot be used and stands aside."""

    def system(self) -> "Platform":
        """The system that Usufruct works on."""
        if self.platform:
            return self.platform
        from usufruct.files.platform import this_platform

        return this_platform()

    def identity_of_drive(self, path: str) -> str:
        """Return what identifies a path's file system; the system is asked only when that is needed."""
        return self.system().identity_of_drive(path)

    def settings(self) -> "Settings":
        """Return what the user has set."""
        from usufruct.definitions.settings import load_settings

        return load_settings(self.paths.settings, self.on_fault)

    @contextmanager
    def reading(self) -> Iterator[Ledger | None]:
        """Open the ledger for reading; None if nothing was ever recorded."""
        with read_ledger(self.paths.ledger) as ledger:
            self._look_for_lost(ledger)
            yield ledger

    def _look_for_lost(self, ledger: Ledger | None) -> None:
        """Report if backups were recorded by another ledger, or by this one in a later state."""
        store = str(self.paths.backups)
        if not os.path.isdir(store):
            return
        from usufruct.files.noted import is_noted_elsewhere
        from usufruct.ledger.changes import last_change

        identity, last = (ledger.identity, last_change(ledger)) if ledger else ("", 0)
        if not is_noted_elsewhere(store, identity, last):
            return
        from usufruct.backups import Backups
        from usufruct.ledger.layers import needed_backups

        needed = needed_backups(ledger) if ledger else set()
        if count := sum(1 for digest in Backups(self.paths.backups, self.system()).digests() if digest not in needed):
            self.on_lost(count)

    @contextmanager
    def writing(self, doing: str, *, recovers: bool = True) -> Iterator["Resources"]:
        """Get the right to change things; interrupted changes are reversed first, unless they must wait.

        At the end, what is no longer needed is removed, by a separate process if that would take long.
        """
        # Imported here: commands that only read the ledger start without the code for changes.
        from usufruct.files.locking import only_writer
        from usufruct.ledger.changes import is_tidy
        from usufruct.transaction.recover import recover
        from usufruct.transaction.tidying import takes_long, tidy_if_possible

        lock, patience = self.paths.lock, self.settings().patience
        with (
            only_writer(lock, doing, patience, self.on_waiting) as turn,
            self._reserve(),
            self._resources() as resources,
        ):
            ledger = resources.ledger
            self._look_for_lost(ledger)
            if recovers and not is_tidy(ledger):
                self.on_recovery(recover(resources))
            ledger.command = self.command[0] if self.command else 0
            try:
                yield resources
            finally:
                if self.command is not None:
                    self.command[:] = [ledger.command] if ledger.command else []
                if not is_tidy(ledger):
                    if resources.platform.can_fork and takes_long(resources):
                        turn.behind = self._tidy_behind
                    else:
                        tidy_if_possible(resources)

    @contextmanager
    def _reserve(self) -> Iterator[None]:
        """Use the reserved space if the disk is full."""
        from usufruct.files.reserve import Reserve

        reserve = Reserve(self.paths.reserve, self.paths.ledger)
        reserve.release()
        try:
            yield
        finally:
            reserve.restore()

    @contextmanager
    def _resources(self) -> Iterator["Resources"]:
        """Return what changes work with, with the ledger open."""
        from usufruct.backups import Backups
        from usufruct.ledger import open_ledger
        from usufruct.transaction.work import Resources, no_checkpoint

        platform = self.system()
        with open_ledger(self.paths.ledger, flushes_by_itself=platform.flushes_by_itself) as ledger:
            yield Resources(
                ledger=ledger,
                backups=Backups(self.paths.backups, platform, ledger.identity),
                notes=str(self.paths.notes),
                saved=self.paths.saved,
                platform=platform,
                now=self.now,
                watch=self.watch,
                checkpoint=self.checkpoint or no_checkpoint,
            )

    def _tidy_behind(self) -> None:
        from usufruct.transaction.tidying import tidy_if_possible

        with self._resources() as resources:
            tidy_if_possible(resources)
