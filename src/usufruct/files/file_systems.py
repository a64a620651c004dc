"""What the file system of a path can hold."""

import os
from typing import TYPE_CHECKING

from msgspec import Struct

from usufruct.files.mounts import mounts
from usufruct.files.paths import nearest, real_path
from usufruct.model.name_rules import NameRules

if TYPE_CHECKING:
    from usufruct.files.platform import Platform

_WINDOWS_NAMES = frozenset({"vfat", "msdos", "exfat", "ntfs", "ntfs3", "fuseblk"})
_SMALL_FILES = frozenset({"vfat", "msdos"})
_SPARSE = frozenset({"ext2", "ext3", "ext4", "xfs", "btrfs", "f2fs", "tmpfs", "zfs", "bcachefs", "overlay"})
_FAT_LARGEST = (1 << 32) - 1


class FileSystem(Struct, frozen=True):
    """The limits of a file system."""

    kind: str
    """The system's name of it; empty where it does not say."""
    names: NameRules
    largest: int | None
    """Bytes of one file; None: no bound that matters."""

    @property
    def has_holes(self) -> bool:
        """Whether unwritten zeros take no space."""
        return self.kind in _SPARSE


def file_system_of(path: str, platform: "Platform") -> FileSystem:
    """The limits of the file system of an existing or future path."""
    here = nearest(real_path(path))
    kind = _kind_of(here)
    # For FAT, Linux gives the longest name in bytes, not in units.
    is_windows = platform.has_windows_names or kind in _WINDOWS_NAMES
    names = NameRules(is_windows=True) if is_windows else NameRules(longest=_longest_name(here))
    return FileSystem(kind, names, _FAT_LARGEST if kind in _SMALL_FILES else None)


def _kind_of(path: str) -> str:
    """The type of the mounted file system if the system can say; otherwise empty."""
    below = [mount for mount in mounts() if path == mount.at or path.startswith(mount.at.rstrip("/") + "/")]
    # Of two mounts at one path, the later covers the earlier.
    return max(enumerate(below), key=lambda pair: (len(pair[1].at), pair[0]))[1].kind if below else ""


def _longest_name(path: str) -> int:
    try:
        return os.pathconf(path, "PC_NAME_MAX")
    except (AttributeError, OSError, ValueError):
        return 255
