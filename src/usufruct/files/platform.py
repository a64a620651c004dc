"""What differs between Linux, macOS and Windows, in one place, each with a fallback.

Nothing else in Usufruct asks which system it runs on. Tests build a `Platform` that lacks this or that.
"""

import ctypes
import errno
import os
import stat
import sys
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from functools import cache

_LINK_REFUSED = frozenset(
    {errno.EXDEV, errno.EPERM, errno.ENOTSUP, errno.EOPNOTSUPP, errno.EMLINK, errno.ENOSYS, errno.EACCES}
)


@dataclass(frozen=True, slots=True, kw_only=True)
class Platform:
    """The abilities of one operating system."""

    has_hard_links: bool = True
    """Whether a hard link is worth trying; a file system may still refuse it."""
    can_sync_directories: bool = True
    """Whether a directory can be opened and made durable."""
    has_open_desktop: bool = True
    """Whether user content lies where the desktop's open standards say."""
    has_windows_names: bool = False
    """Names are bound by Windows' rules: reserved names, characters, trailing dots."""
    can_fork: bool = False
    """Whether a process may go on as two without harm."""
    sync_file_system: Callable[[int], bool] | None = None
    """Given an open file's descriptor, makes its whole file system durable; None where there is no such call."""

    def link(self, source: str, destination: str) -> bool:
        """Give a file a second name; False where this file system or volume cannot."""
        if not self.has_hard_links:
            return False
        try:
            os.link(source, destination, follow_symlinks=False)
        except OSError as error:
            if error.errno in _LINK_REFUSED:
                return False
            raise
        except NotImplementedError:
            return False
        return True

    def make_durable(self, top: str) -> None:
        """Return once all that was written below `top`, and the names of it, would survive a power cut."""
        if self._sync_volume(top):
            return
        for directory, _, names in os.walk(top, topdown=False):
            for name in names:
                path = os.path.join(directory, name)
                if stat.S_ISREG(os.lstat(path).st_mode):
                    sync_file(path)
            self._sync_directory(directory)

    def sync_names(self, directories: Iterable[str]) -> None:
        """Return once the names in these directories would survive a power cut."""
        volumes: set[int] = set()
        for directory in directories:
            volume = os.stat(directory).st_dev
            if volume in volumes:
                continue
            if self._sync_volume(directory):
                volumes.add(volume)
            else:
                self._sync_directory(directory)

    def _sync_volume(self, path: str) -> bool:
        """Make the whole file system of `path` durable; False where there is no such call."""
        if not self.sync_file_system:
            return False
        descriptor = os.open(path, os.O_RDONLY)
        try:
            return self.sync_file_system(descriptor)
        finally:
            os.close(descriptor)

    def _sync_directory(self, path: str) -> None:
        if self.can_sync_directories:
            descriptor = os.open(path, os.O_RDONLY)
            try:
                os.fsync(descriptor)
            finally:
                os.close(descriptor)


def sync_file(path: str) -> None:
    """Make one file's bytes durable."""
    # Windows refuses to flush a descriptor that was opened for reading.
    descriptor = os.open(path, os.O_RDWR if os.name == "nt" else os.O_RDONLY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def _linux_sync_file_system(descriptor: int) -> bool:
    try:
        syncfs = ctypes.CDLL(None, use_errno=True).syncfs
    except (OSError, AttributeError):
        return False
    if syncfs(descriptor) != 0:
        # EIO here means that bytes were lost on the way to the disk: never carry on as if they were safe.
        number = ctypes.get_errno()
        if number in (errno.ENOSYS, errno.EBADF):
            return False
        raise OSError(number, os.strerror(number))
    return True


@cache
def this_platform() -> Platform:
    """The system Usufruct runs on."""
    if sys.platform == "win32":
        return Platform(can_sync_directories=False, has_open_desktop=False, has_windows_names=True)
    if sys.platform.startswith("linux"):
        return Platform(sync_file_system=_linux_sync_file_system, can_fork=True)
    return Platform(has_open_desktop=sys.platform != "darwin")
