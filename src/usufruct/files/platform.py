"""What differs between Linux, macOS and Windows, in one place, each with a fallback.

Nothing else in Usufruct asks which system it runs on. Tests build a `Platform` that lacks this or that.
"""

import errno
import os
import stat
import sys
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager, suppress
from functools import cache

from msgspec import Struct

from usufruct.files.attributes import CANNOT

_LINK_REFUSED = frozenset(
    {errno.EXDEV, errno.EPERM, errno.ENOTSUP, errno.EOPNOTSUPP, errno.EMLINK, errno.ENOSYS, errno.EACCES, errno.EINVAL}
)
_HERE = -100
"""AT_FDCWD of Linux: paths are taken as they are."""
_NO_REPLACE = 1
"""RENAME_NOREPLACE of Linux."""
_EXCLUSIVE = 4
"""RENAME_EXCL of macOS."""

RenameNew = Callable[[str, str, int | None], bool]
"""Renames unless the new name is taken, in which case it raises FileExistsError; False where it cannot tell.

Given the old path, the new path, and the descriptor of the directory that the new one is relative to, or None.
"""


class Platform(Struct, frozen=True, kw_only=True):
    """The abilities of one operating system."""

    has_hard_links: bool = True
    """Whether a hard link is worth trying; a file system may still refuse it."""
    can_sync_directories: bool = True
    """Whether a directory can be opened and made durable."""
    has_open_desktop: bool = True
    """Whether user content lies where the desktop's open standards say."""
    has_windows_names: bool = False
    """Names are bound by Windows' rules: reserved names, characters, trailing dots."""
    has_posix_shells: bool = True
    """The user's shells quote and expand as POSIX says."""
    archive_library: str = ""
    """The name by which the system's archive library can be loaded; empty where it must be searched for."""
    can_fork: bool = False
    """Whether a process may fork without harm."""
    has_directory_descriptors: bool = False
    """Whether names can be given relative to an open directory."""
    descriptors: str = ""
    """The directory in which a process finds its open descriptors by number, and paths may lead on; empty: none."""
    sync_file_system: Callable[[int], bool] | None = None
    """Given an open file's descriptor, makes its whole file system durable; None where there is no such call."""
    sync_descriptor: Callable[[int], None] = os.fsync
    """Makes what was written through a descriptor durable, on the medium itself."""
    mode_guards_names: bool = False
    """A file that may not be written can neither be removed nor replaced, nor its bytes be made durable."""
    flushes_by_itself: bool = True
    """Whether the record's library, left alone, gets what it writes onto the medium."""
    drop_typed: Callable[[int], None] = lambda _: None
    """Given a terminal's descriptor, forgets what was typed there and not read yet."""
    rename_unless_taken: RenameNew | None = None
    """None where there is no such call."""
    identity_of_drive: Callable[[str], str] = lambda _: ""
    """What tells the file system of an existing path from all others, wherever it is mounted; empty: nothing does."""

    def link(self, source: str, destination: str, source_at: int | None = None) -> bool:
        """Give a file a second name; False where this file system cannot.

        `source_at`: descriptor of the directory that `source` is relative to.
        """
        if not self.has_hard_links:
            return False
        if self.mode_guards_names and not os.lstat(source).st_mode & stat.S_IWRITE:
            # Both links share one mode: making one removable would unprotect the other.
            return False
        try:
            os.link(source, destination, src_dir_fd=source_at, follow_symlinks=False)
        except OSError as error:
            if error.errno in _LINK_REFUSED:
                return False
            raise
        except NotImplementedError:
            return False
        return True

    def rename_new(self, source: str, destination: str, at: int | None = None) -> None:
        """Rename to a name that nothing has; raises FileExistsError, with both as they were, where something has it.

        `at`: descriptor of the directory that `destination` is relative to.
        """
        if self.rename_unless_taken and self.rename_unless_taken(source, destination, at):
            return
        # Unlike a rename, a link fails if the name is taken.
        if self.has_hard_links and not stat.S_ISDIR(os.lstat(source).st_mode):
            try:
                os.link(source, destination, dst_dir_fd=at, follow_symlinks=False)
            except NotImplementedError:
                pass
            except OSError as error:
                if error.errno not in _LINK_REFUSED:
                    raise
            else:
                self.unlink(source)
                return
        if is_there(destination, at):
            raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), destination)
        os.rename(source, destination, dst_dir_fd=at)

    def sync_file(self, path: str) -> None:
        """Make one file's bytes durable."""
        if not self.mode_guards_names:
            self._sync(path, os.O_RDONLY)
            return
        # On Windows, only a writable descriptor can flush.
        with self._unguarded(path, stays=True):
            self._sync(path, os.O_RDWR)

    def replace(self, source: str, destination: str, at: int | None = None) -> None:
        """Rename a file to a name that something may have already; `at`: the directory that `destination` is in."""
        if not self.mode_guards_names:
            os.replace(source, destination, dst_dir_fd=at)
            return
        with self._unguarded(destination):
            os.replace(source, destination)

    def unlink(self, path: str, at: int | None = None) -> None:
        """Remove a file's or link's name; `at`: descriptor of the directory that it is in."""
        if not self.mode_guards_names:
            os.unlink(path, dir_fd=at)
            return
        with self._unguarded(path):
            os.unlink(path)

    def remove_tree(self, top: str) -> None:
        """Remove a directory with all that is in it."""
        if self.mode_guards_names:
            for directory, _, names in os.walk(top):
                for name in names:
                    _let_be_written(os.path.join(directory, name))
        import shutil  # imported here: few commands remove a tree

        shutil.rmtree(top)

    @contextmanager
    def _unguarded(self, path: str, *, stays: bool = False) -> Iterator[None]:
        """While inside, a file's mode keeps nobody from doing something to it; if that fails, it has its mode again.

        `stays`: it is there with its mode afterwards as well. Whoever is killed inside leaves a file that may be
        written: recovery looks at the mode, too.
        """
        mode = _let_be_written(path)
        try:
            yield
        except BaseException:
            stays = True
            raise
        finally:
            if mode is not None and stays:
                os.chmod(path, mode)

    def _sync(self, path: str, how: int) -> None:
        descriptor = os.open(path, how)
        try:
            self.sync_descriptor(descriptor)
        finally:
            os.close(descriptor)

    def make_durable(self, top: str) -> None:
        """Return once all that was written below `top`, and the names of it, would survive a power cut."""
        if self._sync_drive(top):
            return
        for directory, _, names in os.walk(top, topdown=False):
            for name in names:
                path = os.path.join(directory, name)
                if stat.S_ISREG(os.lstat(path).st_mode):
                    self.sync_file(path)
            self.sync_directory(directory)

    def sync_names(self, directories: Iterable[str]) -> None:
        """Return once the names in these directories would survive a power cut."""
        drives: set[int] = set()
        for directory in directories:
            drive = os.stat(directory).st_dev
            if drive in drives:
                continue
            if self._sync_drive(directory):
                drives.add(drive)
            else:
                self.sync_directory(directory)

    def sync_elsewhere(self, paths: Iterable[str]) -> None:
        """Return once whatever was written on the drives of these paths would survive a power cut.

        For what others wrote there for us, of which nobody tells where it lies.
        """
        for path in paths:
            if not self._sync_drive(path) and hasattr(os, "sync"):
                os.sync()

    def _sync_drive(self, path: str) -> bool:
        """Make the whole file system of `path` durable; False where there is no such call."""
        if not self.sync_file_system:
            return False
        descriptor = os.open(path, os.O_RDONLY)
        try:
            return self.sync_file_system(descriptor)
        finally:
            os.close(descriptor)

    def sync_directory(self, path: str) -> None:
        """Return once the names in one directory would survive a power cut, where the system can promise it."""
        if self.can_sync_directories:
            self._sync(path, os.O_RDONLY)


def _let_be_written(path: str) -> int | None:
    """Take a file's protection from it; gives the mode it had, None where it has none."""
    try:
        found = os.lstat(path)
    except FileNotFoundError:
        return None
    if not stat.S_ISREG(found.st_mode) or found.st_mode & stat.S_IWRITE:
        return None
    mode = stat.S_IMODE(found.st_mode)
    os.chmod(path, mode | stat.S_IWRITE)
    return mode


def is_there(name: str, at: int | None = None) -> bool:
    """Something has this name, a link that leads nowhere too; relative to an open directory where `at` is given."""
    try:
        os.lstat(name, dir_fd=at)
    except (FileNotFoundError, NotADirectoryError):
        return False
    return True


@cache
def _function_of_system(name: str) -> Callable[..., int] | None:
    """A function of the system's own library; None where it has none of this name."""
    import ctypes  # imported here: few commands need it

    try:
        found: Callable[..., int] = getattr(ctypes.CDLL(None, use_errno=True), name)
    except (OSError, AttributeError):
        return None
    return found


def _number_of_error() -> int:
    """Why the last of these functions failed."""
    import ctypes

    return ctypes.get_errno()


def _renamed(result: int, destination: str) -> bool:
    """What a call that renames unless the name is taken did: True once it renamed, False where it is not known."""
    if result == 0:
        return True
    number = _number_of_error()
    if number in CANNOT:
        return False
    raise OSError(number, os.strerror(number), destination)


def _linux_rename_unless_taken(source: str, destination: str, at: int | None) -> bool:
    if not (call := _function_of_system("renameat2")):
        return False
    there = _HERE if at is None else at
    return _renamed(call(_HERE, os.fsencode(source), there, os.fsencode(destination), _NO_REPLACE), destination)


def _mac_rename_unless_taken(source: str, destination: str, at: int | None) -> bool:
    if not (call := _function_of_system("renameatx_np")):
        return False
    here = -2  # AT_FDCWD of macOS
    there = here if at is None else at
    return _renamed(call(here, os.fsencode(source), there, os.fsencode(destination), _EXCLUSIVE), destination)


def _mac_sync_descriptor(descriptor: int) -> None:
    """Through the drive's own cache, which fsync there does not empty."""
    import fcntl

    try:
        fcntl.fcntl(descriptor, fcntl.F_FULLFSYNC)  # type: ignore[attr-defined,unused-ignore]
    except OSError:
        # A network file system may not support it.
        os.fsync(descriptor)


def _windows_rename_unless_taken(source: str, destination: str, at: int | None) -> bool:
    """Windows' own rename never replaces anything."""
    assert at is None, "names are never relative to an open directory there"
    os.rename(source, destination)
    return True


def _linux_sync_file_system(descriptor: int) -> bool:
    from usufruct.files.mounts import mounted_kind

    # For a FUSE file system, the kernel may flush only its own cache.
    if mounted_kind(os.fstat(descriptor).st_dev).startswith("fuse"):
        return False
    syncfs = _function_of_system("syncfs")
    if syncfs is None:
        return False
    if syncfs(descriptor) != 0:
        # EIO means that data was lost on its way to the disk: never continue as if it were safe.
        number = _number_of_error()
        if number in (errno.ENOSYS, errno.EBADF):
            return False
        raise OSError(number, os.strerror(number))
    return True


def _posix_drop_typed(descriptor: int) -> None:
    import termios

    with suppress(termios.error):
        termios.tcflush(descriptor, termios.TCIFLUSH)


def _windows_drop_typed(_: int) -> None:
    import msvcrt

    while msvcrt.kbhit():  # type: ignore[attr-defined,unused-ignore]
        msvcrt.getch()  # type: ignore[attr-defined,unused-ignore]


@cache
def this_platform() -> Platform:
    """The system Usufruct runs on."""
    from usufruct.files import mounts

    if sys.platform == "win32":
        return Platform(
            can_sync_directories=False,
            mode_guards_names=True,
            has_open_desktop=False,
            has_windows_names=True,
            has_posix_shells=False,
            archive_library="archiveint.dll",
            rename_unless_taken=_windows_rename_unless_taken,
            identity_of_drive=mounts.windows_identity,
            drop_typed=_windows_drop_typed,
        )
    if sys.platform.startswith("linux"):
        return Platform(
            archive_library="libarchive.so.13",
            can_fork=True,
            has_directory_descriptors=True,
            descriptors="/proc/self/fd" if os.path.isdir("/proc/self/fd") else "",
            sync_file_system=_linux_sync_file_system,
            rename_unless_taken=_linux_rename_unless_taken,
            identity_of_drive=mounts.linux_identity,
            drop_typed=_posix_drop_typed,
        )
    if sys.platform == "darwin":
        return Platform(
            has_open_desktop=False,
            archive_library="/usr/lib/libarchive.2.dylib",
            has_directory_descriptors=True,
            sync_descriptor=_mac_sync_descriptor,
            flushes_by_itself=False,
            rename_unless_taken=_mac_rename_unless_taken,
            identity_of_drive=mounts.mac_identity,
            drop_typed=_posix_drop_typed,
        )
    return Platform(has_directory_descriptors=os.open in os.supports_dir_fd)
