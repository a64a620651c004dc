"""Staging directories: where content waits, complete and checked, beside the place it goes to."""

import os
import re

from msgspec import Struct
from msgspec.structs import replace

from usufruct.errors import StoreError
from usufruct.files.attributes import set_times
from usufruct.files.paths import nearest
from usufruct.files.platform import Platform

_PREFIX = ".usufruct-"
_NAME = re.compile(r"\.usufruct-[0-9a-f]{12}")
_TICK = 10_000_000
"""Nanoseconds by which a system's clock for files may lag behind itself."""


class Staging(Struct, frozen=True):
    """One staging directory, on the volume of the destinations below `base`."""

    base: str
    """Absolute path of the directory whose inside is mirrored."""
    path: str
    """Absolute path of the staging directory itself."""
    parent_before: int
    """Time of the directory that holds it before it was made, nanoseconds."""
    parent_after: int = 0
    """The same once it was made: if nothing else changed the parent, its time is given back at the end."""
    volume: str = ""
    """What tells the volume from all others; empty where the system knows nothing that does."""
    is_beside: bool = False
    """It is on the volume that Usufruct's own data are on."""
    time_left: int | None = None
    """The time that the parent gets once the directory is removed; None as long as that was not begun."""

    def incoming(self, destination: str) -> str:
        """Where what will go to an absolute `destination` waits."""
        return f"{self.path}/in{destination[len(self.base) :]}"

    def outgoing(self, directory: int) -> str:
        """Where what is taken out of a directory waits until the change is done; `directory` is its ledger number."""
        return f"{self.path}/out/{directory}"


def staging_base(directory: str, destination: str) -> str:
    """The base to stage an absolute `directory` for: the outermost one on its volume that is not above `destination`.

    That is `destination` itself, unless a drive is mounted somewhere inside it; where it does not exist yet, the
    nearest directory above that does.
    """
    here = nearest(directory)
    volume = os.stat(here).st_dev
    while len(here) > len(destination) and os.stat(os.path.dirname(here)).st_dev == volume:
        here = os.path.dirname(here)
    return here


def staging_for(base: str) -> Staging:
    """A staging directory for destinations below `base`, an existing directory; it is not made yet.

    It stands beside `base` rather than in it, so that the application never sees half a thing; in `base` only
    where the parent is another volume or may not be written.
    """
    parent = os.path.dirname(base)
    same_volume = os.stat(parent).st_dev == os.stat(base).st_dev
    if not (same_volume and os.access(parent, os.W_OK | os.X_OK)):
        parent = base
    name = _PREFIX + os.urandom(6).hex()
    return Staging(base, os.path.join(parent, name), os.lstat(parent).st_mtime_ns)


def make_staging(staging: Staging) -> None:
    """Make the directory."""
    os.mkdir(staging.path, 0o700)
    os.mkdir(f"{staging.path}/in", 0o755)
    os.mkdir(f"{staging.path}/out", 0o700)


def made(staging: Staging) -> Staging:
    """The staging as it is to be recorded once its directory, and all others of its change, are made."""
    return replace(staging, parent_after=os.lstat(os.path.dirname(staging.path)).st_mtime_ns)


def with_time_left(staging: Staging) -> Staging:
    """The staging with the time that its parent is to have once it is removed: to be recorded before that is begun.

    A parent that nothing else touched gets the time it had before the staging directory was made.
    """
    parent = os.path.dirname(staging.path)
    if staging.time_left is not None and not os.path.lexists(staging.path):
        # Removed already, by a removal that was cut off before it was told.
        return staging
    try:
        modified = os.lstat(parent).st_mtime_ns
    except OSError:
        return staging
    return replace(staging, time_left=staging.parent_before if _is_ours(staging, modified) else modified)


def _is_ours(staging: Staging, modified: int) -> bool:
    """Nothing but the making of the staging directory gave its parent this time."""
    if staging.parent_after:
        return modified == staging.parent_after
    # It was made, and that was not recorded any more: what was made in it came right behind it.
    try:
        return modified <= os.lstat(staging.path).st_mtime_ns + _TICK
    except OSError:
        return False


def drop_staging(staging: Staging, platform: Platform) -> None:
    """Remove the directory with all that is left in it, and give its parent the time it is left with; may be repeated.

    Raises OSError where it cannot be removed.
    """
    if not _NAME.fullmatch(os.path.basename(staging.path)) or os.path.islink(staging.path):
        # A record that somebody else wrote could name any directory.
        raise StoreError(
            f"{staging.path} is on record as a staging directory and cannot be one.",
            remedy="It is left as it is. Where does this ledger come from?",
            path=staging.path,
        )
    parent = os.path.dirname(staging.path)
    if os.path.lexists(staging.path):
        platform.remove_tree(staging.path)
    elif not os.path.isdir(parent):
        return
    if staging.time_left is not None:
        set_time(parent, staging.time_left)


def set_time(path: str, modified: int) -> None:
    """Set a file's or directory's time of change, nanoseconds; its time of access stays."""
    set_times(path, os.stat(path).st_atime_ns, modified)
