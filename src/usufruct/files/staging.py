"""Staging directories: where content waits, complete and checked, beside the place it goes to."""

import os
import shutil
from dataclasses import dataclass

_PREFIX = ".usufruct-"


@dataclass(frozen=True, slots=True)
class Staging:
    """One staging directory, on the volume of the destinations below `base`."""

    base: str
    """Absolute path of the directory whose inside is mirrored."""
    path: str
    """Absolute path of the staging directory itself."""
    parent_before: int
    """Time of the directory that holds it before it was made, nanoseconds."""
    parent_after: int = 0
    """The same once it was made: if nothing else changed the parent, its time is given back at the end."""

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
    here = directory
    while not os.path.isdir(here):
        here = os.path.dirname(here)
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


def make_staging(staging: Staging) -> Staging:
    """Make the directory; gives the staging as it is to be recorded."""
    os.mkdir(staging.path, 0o700)
    os.mkdir(f"{staging.path}/in", 0o755)
    os.mkdir(f"{staging.path}/out", 0o700)
    after = os.lstat(os.path.dirname(staging.path)).st_mtime_ns
    return Staging(staging.base, staging.path, staging.parent_before, after)


def drop_staging(staging: Staging) -> None:
    """Remove the directory with all that is left in it, and let its parent keep its time; may be repeated.

    A parent that nothing else touched gets the time it had before the staging directory was made.
    """
    parent = os.path.dirname(staging.path)
    if not os.path.lexists(staging.path):
        return
    modified = os.lstat(parent).st_mtime_ns
    shutil.rmtree(staging.path)
    set_time(parent, staging.parent_before if modified == staging.parent_after else modified)


def set_time(path: str, modified: int) -> None:
    """Set a file's or directory's time of change, nanoseconds; its time of access stays."""
    os.utime(path, ns=(os.stat(path).st_atime_ns, modified))
