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
from usufruct.ledger.holdings import all_places, archive_place, enter_archive_place, places_of_holdings
from usufruct.model.holdings import UNRECORDED, HeldVolume, Holding

if TYPE_CHECKING:
    from usufruct.files.staging import Staging


Identity = Callable[[str], str]
"""Tells what sets the file system of an existing path apart: `Platform.identity_of_volume`."""


class Presence(Enum):
    """Whether a recorded place is there."""

    HERE = "here"
    DELETED = "deleted"
    """Its volume is there, but the directory is not: somebody removed it."""
    AWAY = "away"
    """Its volume is not there, or another one is in its place: nothing may be done to it."""


class Drives(NamedTuple):
    """The volumes that are mounted now; each path is looked at once."""

    own: str
    """A directory on the volume that Usufruct's own data are on."""
    identity: Identity

    def held(self, base: str) -> HeldVolume:
        """Return the place of an existing directory, to be recorded."""
        return HeldVolume(
            base=base,
            mount=mount_point(base),
            volume=self.identity(base),
            is_beside=self._is_beside(base),
        )

    def presence(self, place: HeldVolume) -> Presence:
        """How a recorded place is found now."""
        if os.path.isdir(place.base):
            return Presence.HERE if self._is_on(place, place.base) else Presence.AWAY
        try:
            near = nearest(place.base)
        except DriveAway:
            # The whole drive is gone.
            return Presence.AWAY
        return Presence.DELETED if self._is_on(place, near) else Presence.AWAY

    def now_at(self, place: HeldVolume) -> str:
        """Return the path at which the volume of a place is mounted now, if it is another; empty if nobody knows."""
        if place.volume in ("", UNRECORDED):
            return ""
        kind = place.volume.partition(":")[0]
        for mount in mounts():
            # A server that does not answer would block for ever; the type tells most of them apart.
            if mount.kind == kind and mount.at != place.mount:
                try:
                    if self.identity(mount.at) == place.volume:
                        return mount.at
                except OSError:
                    continue
        return ""

    def is_elsewhere(self, place: HeldVolume, path: str) -> bool:
        """Whether a path is on another volume than a place."""
        try:
            return not self._is_on(place, nearest(path))
        except DriveAway:
            return True

    def _is_beside(self, path: str) -> bool:
        return os.stat(path).st_dev == os.stat(self.own).st_dev

    def _is_on(self, place: HeldVolume, path: str) -> bool:
        """Whether an existing directory is on the volume of a place, as far as can be known."""
        is_beside = self._is_beside(path)
        if place.volume == UNRECORDED or (place.is_beside and is_beside):
            return True
        if place.volume:
            return self.identity(path) == place.volume
        # Of a volume without an identity, only this is known: it is not the one with our own data.
        return not place.is_beside and not is_beside

    def refuse_away(self, about: str, places: Iterable[HeldVolume]) -> None:
        """Raise DriveAway for the first of these places that is away; `about` is what would be left as it is."""
        for place in places:
            if self.presence(place) is Presence.AWAY:
                raise self.away(about, place)

    def away(self, about: str, place: HeldVolume) -> DriveAway:
        """Return the error for a place whose drive is not connected."""
        # If something is mounted over a path on the system's disk, the mount point says nothing.
        where = place.mount if place.mount.strip("/") else place.base
        elsewhere = self.now_at(place)
        is_taken = os.path.isdir(place.base)
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
            path=place.base,
        )


def drives_of(ledger: Ledger, identity: Identity) -> Drives:
    """Return the volumes as a ledger knows them."""
    return Drives(str(ledger.path.parent), identity)


def presences(ledger: Ledger, identity: Identity) -> dict[int, Presence]:
    """Return by number the holdings with a place that is not there; away if a drive of it is."""
    drives = drives_of(ledger, identity)
    seen = {place: drives.presence(place) for place in all_places(ledger)}
    if all(presence is Presence.HERE for presence in seen.values()):
        return {}
    found: dict[int, Presence] = {}
    for number, place in places_of_holdings(ledger):
        if seen[place] is Presence.AWAY or (seen[place] is Presence.DELETED and number not in found):
            found[number] = seen[place]
    return found


def enter_archive_places(ledger: Ledger, identity: Identity, archives: Iterable[str]) -> None:
    """Record the volumes that these archives are on, given by absolute paths."""
    drives = drives_of(ledger, identity)
    for directory in {os.path.dirname(path) for path in archives}:
        if os.path.isdir(directory):
            enter_archive_place(ledger, drives.held(directory))


def archive_away(ledger: Ledger, identity: Identity, path: str) -> DriveAway | None:
    """Return the error for an archive that is missing because its drive is not connected."""
    place = archive_place(ledger, os.path.dirname(path))
    drives = drives_of(ledger, identity)
    if place is None or drives.presence(place) is not Presence.AWAY:
        return None
    return drives.away(f"The archive {path}", place)


def refuse_away(ledger: Ledger, identity: Identity, holding: Holding) -> None:
    """Raise DriveAway if a volume that a holding lies on is away."""
    places = [place for _, place in places_of_holdings(ledger, holding.number)]
    if not places and not os.path.isdir(holding.root):
        # Its location was not recorded, and nothing is there: it may well be on a drive.
        place = HeldVolume(base=holding.root, mount="", volume=UNRECORDED, is_beside=False)
        raise drives_of(ledger, identity).away(holding.name, place)
    drives_of(ledger, identity).refuse_away(holding.name, places)


def refuse_destination(ledger: Ledger, identity: Identity, destination: str) -> None:
    """Raise DriveAway if an absolute path is where a drive belongs that is away and that holdings lie on."""
    drives = drives_of(ledger, identity)
    for place in all_places(ledger):
        top = place.mount if place.mount and place.mount != "/" else place.base
        if destination != top and not destination.startswith(top.rstrip("/") + "/"):
            continue
        if drives.presence(place) is Presence.AWAY and drives.is_elsewhere(place, destination):
            raise drives.away(f"The folder {destination}", place)


def place_of_staging(staging: "Staging") -> HeldVolume:
    """Return the volume of a staging directory as a place."""
    return HeldVolume(base=staging.base, mount="", volume=staging.volume, is_beside=staging.is_beside)
