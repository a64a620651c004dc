"""Find out whether recorded files are there, were deleted, or are on a drive that is not connected."""

import os
from collections.abc import Callable, Iterable
from enum import Enum
from typing import TYPE_CHECKING, NamedTuple

from usufruct.errors import DriveAway
from usufruct.files.mounts import mount_point, mounts
from usufruct.files.paths import nearest
from usufruct.files.shells import typed
from usufruct.ledger import Ledger
from usufruct.ledger.holdings import all_drives, drive_of_archive, drives_of_holdings, enter_archive_drive
from usufruct.model.holdings import HeldDrive, Holding

if TYPE_CHECKING:
    from usufruct.files.staging import Staging


Identity = Callable[[str], str]
"""Tells what sets the file system of an existing path apart: `Platform.identity_of_drive`."""


class Presence(Enum):
    """Whether a recorded directory is there."""

    HERE = "here"
    DELETED = "deleted"
    """Its drive is there, but the directory is not: somebody removed it."""
    AWAY = "away"
    """Its drive is not there, or another one is in its place: nothing may be done to it."""


class Drives(NamedTuple):
    """The drives that are mounted now; each path is looked at once."""

    own: str
    """A directory on the drive that Usufruct's own data are on."""
    identity: Identity

    def held(self, base: str) -> HeldDrive:
        """Return the drive of an existing directory, to be recorded."""
        return HeldDrive(
            base=base,
            mount=mount_point(base),
            identity=self.identity(base),
            is_beside=self._is_beside(base),
        )

    def presence(self, drive: HeldDrive) -> Presence:
        """How a recorded drive is found now."""
        if os.path.isdir(drive.base):
            return Presence.HERE if self._is_on(drive, drive.base) else Presence.AWAY
        try:
            near = nearest(drive.base)
        except DriveAway:
            # The whole drive is gone.
            return Presence.AWAY
        return Presence.DELETED if self._is_on(drive, near) else Presence.AWAY

    def now_at(self, drive: HeldDrive) -> str:
        """Return the path at which a drive is mounted now, if it is another; empty if nobody knows."""
        if not drive.identity:
            return ""
        kind = drive.identity.partition(":")[0]
        for mount in mounts():
            # A server that does not answer would block for ever; the type tells most of them apart.
            if mount.kind == kind and mount.at != drive.mount:
                try:
                    if self.identity(mount.at) == drive.identity:
                        return mount.at
                except OSError:
                    continue
        return ""

    def is_elsewhere(self, drive: HeldDrive, path: str) -> bool:
        """Whether a path is on another drive."""
        try:
            return not self._is_on(drive, nearest(path))
        except DriveAway:
            return True

    def _is_beside(self, path: str) -> bool:
        return os.stat(path).st_dev == os.stat(self.own).st_dev

    def _is_on(self, drive: HeldDrive, path: str) -> bool:
        """Whether an existing directory is on a drive, as far as can be known."""
        is_beside = self._is_beside(path)
        if drive.is_beside and is_beside:
            return True
        if drive.identity:
            return self.identity(path) == drive.identity
        # Of a drive without an identity, only this is known: it is not the one with our own data.
        return not drive.is_beside and not is_beside

    def refuse_away(self, about: str, drives: Iterable[HeldDrive]) -> None:
        """Raise DriveAway for the first of these drives that is away; `about` is what would be left as it is."""
        for drive in drives:
            if self.presence(drive) is Presence.AWAY:
                raise self.away(about, drive)

    def away(self, about: str, drive: HeldDrive) -> DriveAway:
        """Return the error for a drive that is not connected."""
        # If something is mounted over a path on the system's disk, the mount point says nothing.
        where = drive.mount if drive.mount.strip("/") else drive.base
        elsewhere = self.now_at(drive)
        is_taken = os.path.isdir(drive.base)
        said = f"{where} is something else now" if is_taken else f"there is no {where} now"
        moved = typed(["usufruct", "recover", "--moved", where, elsewhere or "NEW-PLACE"])
        if elsewhere:
            remedy = f"The drive is at {elsewhere}. Mount it where it was, or say that it stays there: `{moved}`."
        else:
            remedy = f"Connect the drive and try again. If its content is on another drive or folder now: `{moved}`."
        return DriveAway(
            f"{about} is on a drive that is not connected: {said}.",
            kept="Its files and its record were left as they are.",
            remedy=remedy,
            path=drive.base,
        )


def drives_of(ledger: Ledger, identity: Identity) -> Drives:
    """Return the drives as a ledger knows them."""
    return Drives(str(ledger.path.parent), identity)


def presences(ledger: Ledger, identity: Identity) -> dict[int, Presence]:
    """Return by number the holdings with a directory that is not there; away if a drive of it is."""
    drives = drives_of(ledger, identity)
    seen = {drive: drives.presence(drive) for drive in all_drives(ledger)}
    if all(presence is Presence.HERE for presence in seen.values()):
        return {}
    found: dict[int, Presence] = {}
    for number, drive in drives_of_holdings(ledger):
        if seen[drive] is Presence.AWAY or (seen[drive] is Presence.DELETED and number not in found):
            found[number] = seen[drive]
    return found


def enter_archive_drives(ledger: Ledger, identity: Identity, archives: Iterable[str]) -> None:
    """Record the drives that these archives are on, given by absolute paths."""
    drives = drives_of(ledger, identity)
    for directory in {os.path.dirname(path) for path in archives}:
        if os.path.isdir(directory):
            enter_archive_drive(ledger, drives.held(directory))


def archive_away(ledger: Ledger, identity: Identity, path: str) -> DriveAway | None:
    """Return the error for an archive that is missing because its drive is not connected."""
    drive = drive_of_archive(ledger, os.path.dirname(path))
    drives = drives_of(ledger, identity)
    if drive is None or drives.presence(drive) is not Presence.AWAY:
        return None
    return drives.away(f"The archive {path}", drive)


def refuse_away(ledger: Ledger, identity: Identity, holding: Holding) -> None:
    """Raise DriveAway if a drive that a holding lies on is away."""
    recorded = (drive for _, drive in drives_of_holdings(ledger, holding.number))
    drives_of(ledger, identity).refuse_away(holding.name, recorded)


def refuse_destination(ledger: Ledger, identity: Identity, destination: str) -> None:
    """Raise DriveAway if an absolute path is where a drive belongs that is away and that holdings lie on."""
    drives = drives_of(ledger, identity)
    for drive in all_drives(ledger):
        top = drive.mount if drive.mount and drive.mount != "/" else drive.base
        if destination != top and not destination.startswith(top.rstrip("/") + "/"):
            continue
        if drives.presence(drive) is Presence.AWAY and drives.is_elsewhere(drive, destination):
            raise drives.away(f"The folder {destination}", drive)


def drive_of_staging(staging: "Staging") -> HeldDrive:
    """Return the drive of a staging directory."""
    return HeldDrive(base=staging.base, mount="", identity=staging.identity, is_beside=staging.is_beside)
