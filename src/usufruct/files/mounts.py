"""What is mounted where, and what identifies a file system."""

import os
from collections.abc import Sequence
from functools import lru_cache
from pathlib import Path
from typing import NamedTuple

_MOUNTS = Path("/proc/self/mountinfo")


class Mount(NamedTuple):
    """One mounted file system, on systems that list them."""

    device: int
    """As `stat` tells it."""
    at: str
    """Absolute path."""
    kind: str
    """The system's name of the file system's type."""
    source: str
    """What is mounted: a device's path, or a server's and its folder's name."""


def mounts() -> Sequence[Mount]:
    """All mounted file systems; empty if the system does not list them."""
    try:
        return _listed(_MOUNTS.read_text(encoding="utf-8", errors="surrogateescape"))
    except OSError:
        return ()


@lru_cache(maxsize=1)
def _listed(text: str) -> tuple[Mount, ...]:
    """The list as text, taken apart; a command asks several times and hardly ever gets another one."""
    found = []
    for line in text.splitlines():
        fields, _, rest = line.partition(" - ")
        of_mount, of_system = fields.split(" "), rest.split(" ")
        major, _, minor = of_mount[2].partition(":")
        device = os.makedev(int(major), int(minor))
        found.append(Mount(device, _unescaped(of_mount[4]), of_system[0], _unescaped(of_system[1])))
    return tuple(found)


def _unescaped(text: str) -> str:
    for escaped, plain in (("\\040", " "), ("\\011", "\t"), ("\\012", "\n"), ("\\134", "\\")):
        text = text.replace(escaped, plain)
    return text


def mounted_kind(device: int) -> str:
    """The type of a mounted file system, by its device number; empty if unknown."""
    return next((mount.kind for mount in mounts() if mount.device == device), "")


def mount_point(path: str) -> str:
    """The topmost directory on the file system of an existing path; by device numbers, which works everywhere."""
    here = os.path.realpath(path)
    device = os.stat(here).st_dev
    while (above := os.path.dirname(here)) != here and os.stat(above).st_dev == device:
        here = above
    return here


def is_read_only(path: str) -> bool:
    """Whether the whole file system of an existing path is read-only, if the system can say."""
    try:
        return bool(os.statvfs(path).f_flag & os.ST_RDONLY)
    except (AttributeError, OSError):
        return False


_BY_UUID = Path("/dev/disk/by-uuid")
_NAMED_BY_CONTENT = frozenset({"ext2", "ext3", "ext4", "btrfs", "tmpfs", "bcachefs", "f2fs", "zfs", "erofs"})
"""Types of which the kernel makes the number of a file system from what is written on it, not from its device."""


def linux_identity(path: str) -> str:
    """What identifies the file system of a path: the identifier written on it, or the server's name for it."""
    device = os.stat(path).st_dev
    mount = next((one for one in mounts() if one.device == device), None)
    if mount is None:
        return ""
    if mount.kind in _NAMED_BY_CONTENT and (number := os.statvfs(path).f_fsid):
        return f"{mount.kind}:{number:x}"
    if mount.source.startswith("/"):
        return f"{mount.kind}:{uuid}" if (uuid := _uuid_of(mount.source)) else ""
    # For network file systems, only the server's name is known.
    return f"{mount.kind}:{mount.source}" if ":" in mount.source or mount.source.startswith("//") else ""


def _uuid_of(device: str) -> str:
    """The identifier written on a device, if the system lists it; otherwise empty."""
    try:
        number = os.stat(device).st_rdev
        return next((link.name for link in sorted(_BY_UUID.iterdir()) if os.stat(link).st_rdev == number), "")
    except OSError:
        return ""


def windows_identity(path: str) -> str:
    """The serial number that a drive got when it was formatted."""
    serial = os.stat(path).st_dev
    return f"serial:{serial:x}" if serial else ""


_UUID_OF_VOLUME = 0x80000000 | 0x00040000
"""ATTR_VOL_INFO and ATTR_VOL_UUID of macOS' `getattrlist`."""


def mac_identity(path: str) -> str:
    """The identifier written on a drive."""
    import ctypes  # imported here: other systems tell it otherwise

    class Wanted(ctypes.Structure):
        """`struct attrlist` of <sys/attr.h>."""

        _fields_ = (
            ("count", ctypes.c_ushort), ("reserved", ctypes.c_ushort), ("common", ctypes.c_uint32),
            ("volume", ctypes.c_uint32), ("directory", ctypes.c_uint32), ("file", ctypes.c_uint32),
            ("fork", ctypes.c_uint32),
        )  # fmt: skip

    answer = ctypes.create_string_buffer(4 + 16)
    wanted = Wanted(count=5, volume=_UUID_OF_VOLUME)
    try:
        top = os.fsencode(mount_point(path))
        failed = ctypes.CDLL(None).getattrlist(top, ctypes.byref(wanted), answer, len(answer), 0)
    except (OSError, AttributeError):
        return ""
    return "" if failed else f"uuid:{answer.raw[4:].hex()}"
