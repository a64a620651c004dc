"""Where downloads arrive, and what is remembered about each. Imports nothing that opens archives."""

import os
from pathlib import Path

import msgspec
from msgspec import Struct, field

from usufruct import __version__
from usufruct.actions.context import Context
from usufruct.files.paths import expanded
from usufruct.files.small_texts import small_file

_LARGEST = 64 << 20
"""Bytes of what is remembered."""
NEW, ADDED, NEWER, OLDER = "new", "added", "newer", "older"
ARRIVING, INCOMPLETE, DAMAGED, LOCKED, OTHER = "arriving", "incomplete", "damaged", "locked", "no archive"
UNSAFE = "unsafe"
"""How a download stands."""


class Seen(Struct):
    """What is known about one download."""

    size: int
    modified: int
    format: str = ""
    application: str = ""
    """The one it fits, if there is one."""
    state: str = ""
    detail: str = ""
    digest: str = ""
    asks: bool = False
    """A question comes first, though it is known which application it is for."""
    tried: list[str] = []
    """Applications that had a say in it."""
    words: str | None = ""
    """By which others could have had one, as numbers in base 64; None where that is not known."""


class SeenFile(Struct):
    """The file in which all of it is kept."""

    version: str = __version__
    """Of Usufruct, whose rules may change."""
    applications: dict[str, int] = field(default_factory=dict)
    """Name → a number that changes with the definition."""
    downloads: dict[str, Seen] = field(default_factory=dict)
    """By `key_of` its path."""

    def of(self, path: str | Path, size: int, modified: int) -> Seen | None:
        """Return what is known about a download with this size and time."""
        seen = self.downloads.get(key_of(path))
        return seen if seen and (seen.size, seen.modified) == (size, modified) else None


def seen_before(file: Path) -> SeenFile:
    """Return what is remembered; nothing if the file cannot be used or another version wrote it."""
    try:
        known = msgspec.json.decode(small_file(file, _LARGEST), type=SeenFile)
    except (OSError, msgspec.DecodeError, RecursionError):
        return SeenFile()
    return known if known.version == __version__ else SeenFile()


def key_of(path: str | Path) -> str:
    """Return a path as text for JSON, whatever bytes the name has."""
    return os.fsencode(path).decode("utf-8", "backslashreplace")


def folders_of(context: Context) -> list[Path]:
    """Return the directories in which downloads arrive."""
    if context.downloads:
        return [*context.downloads]
    named = context.settings().downloads
    if named:
        return [expanded(one).absolute() for one in named.split(os.pathsep) if one]
    import platformdirs

    return [Path(platformdirs.user_downloads_dir())]
