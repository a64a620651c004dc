"""Absolute paths as Usufruct writes them: with `/` on every system, and never above their drive."""

import os
from functools import lru_cache
from pathlib import Path

from usufruct.errors import DriveAway


def real_path(path: str | os.PathLike[str]) -> str:
    """The absolute path without links. Windows accepts `/` as well as its own separator."""
    real = os.path.realpath(path)
    return real if os.sep == "/" else real.replace(os.sep, "/")


def expanded(path: str | os.PathLike[str]) -> Path:
    """A path with `~` replaced by the user's home; unchanged for a user whom the system does not know."""
    return Path(os.path.expanduser(path))


def searched_directories() -> frozenset[str]:
    """The absolute directories in which the user's commands are searched for."""
    return _absolute(os.environ.get("PATH", ""))


@lru_cache(maxsize=1)
def _absolute(listed: str) -> frozenset[str]:
    """The absolute directories in a list like PATH, without links; asked again for each archive."""
    return frozenset(real_path(one) for one in listed.split(os.pathsep) if os.path.isabs(one))


def is_below(path: str, base: str) -> bool:
    """Whether a path is `base` or lies below it; by components, so `/env2` is not below `/env`."""
    return path == base or path.startswith(base.rstrip("/") + "/")


def nearest(path: str) -> str:
    """The directory at an absolute path, or the nearest existing one above it.

    Raises DriveAway if there is none: drives of Windows have nothing in common above them.
    """
    here = path
    while not os.path.isdir(here):
        above = os.path.dirname(here)
        if above == here:
            raise DriveAway(
                f"{here} is not there, and {path} would be on it.",
                remedy="Connect the drive, then try again.",
                path=path,
            )
        here = above
    return here
