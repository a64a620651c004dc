"""What the file system of a path can hold."""

import os
from dataclasses import dataclass
from pathlib import Path

from usufruct.files.platform import Platform
from usufruct.planning.spelling import NameRules

_MOUNTS = Path("/proc/self/mountinfo")
_WINDOWS_NAMES = frozenset({"vfat", "msdos", "exfat", "ntfs", "ntfs3", "fuseblk"})
_SMALL_FILES = frozenset({"vfat", "msdos"})
_FAT_LARGEST = (1 << 32) - 1


@dataclass(frozen=True, slots=True)
class Volume:
    """A file system's bounds."""

    kind: str
    """The system's name of it; empty where it does not say."""
    names: NameRules
    largest: int | None
    """Bytes of one file; None: no bound that matters."""


def volume_of(path: str, platform: Platform) -> Volume:
    """The bounds of the file system that a path is, or would be, on."""
    here = os.path.realpath(path)
    while not os.path.exists(here):
        here = os.path.dirname(here)
    kind = _kind_of(here)
    names = NameRules(is_windows=platform.has_windows_names or kind in _WINDOWS_NAMES, longest=_longest_name(here))
    return Volume(kind, names, _FAT_LARGEST if kind in _SMALL_FILES else None)


def _kind_of(path: str) -> str:
    """The type of the mounted file system, where the system tells it; empty elsewhere."""
    try:
        lines = _MOUNTS.read_text(encoding="utf-8", errors="surrogateescape").splitlines()
    except OSError:
        return ""
    best, kind = -1, ""
    for line in lines:
        fields, _, rest = line.partition(" - ")
        mounted = fields.split(" ")[4].replace("\\040", " ")
        if len(mounted) > best and (path == mounted or path.startswith(mounted.rstrip("/") + "/")):
            best, kind = len(mounted), rest.split(" ")[0]
    return kind


def _longest_name(path: str) -> int:
    try:
        return os.pathconf(path, "PC_NAME_MAX")
    except (AttributeError, OSError, ValueError):
        return 255
