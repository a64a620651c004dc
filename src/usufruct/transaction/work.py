"""What one change works with."""

import os
from collections.abc import Callable, Iterable
from pathlib import Path

from msgspec import Struct, field
from msgspec.structs import replace

from usufruct.backups import Backups
from usufruct.files.directories import leads_elsewhere, reached
from usufruct.files.looking import state_at
from usufruct.files.paths import is_below, nearest
from usufruct.files.platform import Platform
from usufruct.files.staging import Staging, expecting, hold, let_go, made, make_staging, staging_base, staging_for
from usufruct.ledger import Ledger
from usufruct.ledger.changes import enter_staging
from usufruct.model.holdings import HeldDrive
from usufruct.model.progress import Watch, unwatched
from usufruct.model.records import FileKind
from usufruct.survey.drives import drives_of


def no_checkpoint(name: str) -> None:
    """Do nothing at a named point."""


class Resources(Struct, frozen=True, kw_only=True):
    """The outside world of a change, passed in so that tests can replace it."""

    ledger: Ledger
    backups: Backups
    notes: str
    """Absolute path of the directory that keeps notes."""
    saved: Path
    """The directory for files of the user's that have no other place any more."""
    platform: Platform
    now: Callable[[], int]
    """Nanoseconds since 1970 UTC."""
    watch: Watch = unwatched
    """Told how far a change has come, after each file."""
    checkpoint: Callable[[str], None] = no_checkpoint
    """Called at each named point of a change; a test may end the process there."""


class Work(Struct):
    """A change under way."""

    resources: Resources
    change: int
    about: str = ""
    """Names of the holdings concerned."""
    stagings: list[Staging] = field(default_factory=list)
    held: list[HeldDrive] = field(default_factory=list)
    """The drives that files change on, with the topmost directory on each."""
    totals: list[tuple[int, int, int, bool]] = field(default_factory=list)
    """Holdings with their files, bytes, and whether that is only a part, as they are once the change is done."""
    choices: list[tuple[int, str]] = field(default_factory=list)
    """Holdings with the choices that they have once the change is done, as text."""
    several: list[tuple[int, str, int]] = field(default_factory=list)
    """Where it takes several holdings: number and name of each, and the change that its going undoes or redoes. Once it
    is done, each is a change of its own."""
    revives: int | None = None
    """The holding taken by the change before, that is on record again once this one is done."""

    def staging_of(self, directory: str) -> Staging:
        """Return the staging directory for an absolute destination directory in which files change."""
        fitting = (staging for staging in self.stagings if is_below(directory, staging.base))
        return max(fitting, key=lambda staging: len(staging.base))

    def incoming(self, directory: str) -> str:
        """Return where files wait that will be moved into an absolute destination directory."""
        return self.staging_of(directory).incoming(directory)

    def outgoing(self, directory: str, number: int) -> str:
        """Return where files wait that were moved out of a destination directory; empty if nothing is staged for it."""
        if not any(is_below(directory, staging.base) for staging in self.stagings):
            return ""
        return self.staging_of(directory).outgoing(number)

    def waits(self, path: str) -> bool:
        """Whether the file for an absolute destination is still staged, so it was not moved there yet."""
        directory = os.path.dirname(path)
        return any(
            is_below(directory, staging.base) and os.path.lexists(staging.incoming(path)) for staging in self.stagings
        )

    def is_staged(self, directory: str) -> bool:
        """Whether something was staged for this whole directory."""
        return any(
            is_below(directory, staging.base) and os.path.isdir(staging.incoming(directory))
            for staging in self.stagings
        )

    def hold_stagings(self) -> None:
        """Open the existing staging directories and keep them open; raises StoreError if one is not ours any more."""
        stagings, self.stagings = self.stagings, []
        self.stagings = [hold(staging, self.resources.platform) for staging in stagings]

    def let_go(self) -> None:
        """Close the staging directories."""
        stagings, self.stagings = self.stagings, []
        for staging in stagings:
            let_go(staging)

    def shown(self, path: str) -> str:
        """Return a path as it is shown: not through a descriptor."""
        for staging in self.stagings:
            if staging.held and is_below(path, staging.held):
                return staging.path + path[len(staging.held) :]
        return path

    def stage_for(self, directories: Iterable[tuple[str, str]], names: Iterable[tuple[str, Iterable[str]]]) -> None:
        """Make the staging directories for these directories, each given with the destination it belongs to.

        `names`: everything that will wait in them, with the absolute directory that it goes to or comes from. Each is
        on record before it is made. Raises LeadsElsewhere if a destination is a link now.
        """
        resources, ledger = self.resources, self.resources.ledger
        drives = drives_of(ledger, resources.platform.identity_of_drive)
        stagings: list[Staging] = []
        for base in sorted({staging_base(*directory) for directory in set(directories)}):
            with reached(base, resources.platform):
                held = drives.held(base)
            stagings.append(replace(staging_for(base), identity=held.identity, is_beside=held.is_beside))
            self.held.append(held)
        if not stagings:
            return
        every = [(directory, list(here)) for directory, here in names]
        stagings = [expecting(staging, every) for staging in stagings]
        with ledger.transaction():
            for staging in stagings:
                enter_staging(ledger, self.change, staging)
        resources.checkpoint("staging-recorded")
        for staging in stagings:
            self.stagings.append(make_staging(staging, resources.platform))
        # Several may be in one directory, and making each changes its time.
        self.stagings = [made(staging) for staging in self.stagings]
        # If these times are lost, those of the new directories say the same.
        with ledger.transaction(waits=False):
            for staging in self.stagings:
                enter_staging(ledger, self.change, staging)
        resources.checkpoint("staging-made")


def chain_to_make(work: Work, directory: str) -> list[tuple[str, int | None]]:
    """Return the directories from the nearest existing one down to this, each with its time, None if missing.

    Raises LeadsElsewhere if one that may have to be made is a link by now, and DriveAway if none exists.
    """
    nearest(directory)
    # Making the staging directory may itself have changed the time of the directory it stands in.
    times = {os.path.dirname(staging.path): staging.parent_before for staging in work.stagings}
    chain: list[tuple[str, int | None]] = []
    while not chain or chain[0][1] is None:
        found = state_at(directory)
        if found.kind is FileKind.LINK:
            raise leads_elsewhere(directory)
        modified = times.get(directory, found.modified) if found.kind is FileKind.DIRECTORY else None
        chain.insert(0, (directory, modified))
        directory = os.path.dirname(directory)
    return chain
