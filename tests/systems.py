"""Other systems, simulated in a process: `python -m tests --on SYSTEM`, or the environment variable that it sets.

What a file system does differently (spellings, times, modes) is so for everyone in the process. What a system's calls
cannot do is so for Usufruct alone: the tests look at the disk, and end processes, by the means of the system at hand.
Paths keep their `/`; what Windows' own paths need is tested where paths are made.
"""

import builtins
import errno
import fcntl
import functools
import io
import os
import re
import shutil
import stat
import sys
import unicodedata
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any
from unittest import mock

VARIABLE = "USUFRUCT_TESTS_ON"
_PASSED_OVER = ("pathlib", "os", "posixpath", "genericpath", __name__)
"""Modules that call the system for whoever called them."""


@dataclass(frozen=True, slots=True, kw_only=True)
class System:
    """What is different there."""

    name: str
    """As Python's `sys.platform` has it."""
    tick: int
    """Nanoseconds that times of files are rounded down to."""
    fold: Callable[[str], str]
    """What two spellings of one name have in common."""
    is_windows: bool = False
    """Modes are one bit, open files stay where they are, names are bound, nothing is relative to a descriptor."""
    has_links: bool = True
    """The file system holds symbolic links and second names."""


SYSTEMS = {
    # As an account without developer's rights has it: no symbolic links.
    "windows": System(name="win32", tick=100, fold=str.upper, is_windows=True),
    "macos": System(name="darwin", tick=1, fold=lambda name: unicodedata.normalize("NFD", name).casefold()),
    # A stick with the oldest of file systems, at a machine as most of our users have it.
    "stick": System(name="win32", tick=2_000_000_000, fold=str.upper, is_windows=True, has_links=False),
}

_ONLY_POSIX = (
    "chown", "fdatasync", "forkpty", "fstatvfs", "lchown", "mkfifo", "mknod", "pathconf", "posix_fadvise", "pread",
    "preadv", "pwrite", "pwritev", "setsid", "statvfs", "sync",
)  # fmt: skip
_ONLY_POSIX_MODULES = ("fcntl", "grp", "pwd", "resource", "termios")
_RESERVED = re.compile(r"(?i)(con|prn|aux|nul|conin\$|conout\$|(com|lpt)[0-9¹²³])(\..*)?")
_FORBIDDEN = re.compile(r'[<>:"|?*\\\x00-\x1f]|[. ]$')


def current() -> str:
    """The system that is simulated in this process; empty: none."""
    return os.environ.get(VARIABLE, "")


def is_windows() -> bool:
    """Windows is simulated: it keeps one bit of a mode, gives an account no symbolic links, and has no forks."""
    return bool(current()) and SYSTEMS[current()].is_windows


def simulate(name: str) -> None:
    """Make this process run on another system, from now to its end."""
    system = SYSTEMS[name]
    _Simulation(system).begin()


def _caller_is_ours() -> bool:
    """Whether Usufruct makes the call that is being made, rather than a test or a library."""
    frame = sys._getframe(1)
    while frame.f_back and frame.f_globals.get("__name__") in _PASSED_OVER:
        frame = frame.f_back
    return str(frame.f_globals.get("__name__")).startswith("usufruct.")


def _usage(statvfs: Callable[[Any], os.statvfs_result], path: Any) -> Any:
    """What `shutil.disk_usage` tells, without the call that the system at hand has and the other does not."""
    found = statvfs(path)
    total, free = found.f_blocks * found.f_frsize, found.f_bavail * found.f_frsize
    return shutil._ntuple_diskusage(total, total - free, free)  # type: ignore[attr-defined]


class _Entry:
    """An entry of a directory as `os.scandir` gives it, with times as the file system has them."""

    def __init__(self, entry: "os.DirEntry[str]", rounded: Callable[[os.stat_result], os.stat_result]) -> None:
        self._entry, self._rounded = entry, rounded

    def stat(self, *, follow_symlinks: bool = True) -> os.stat_result:
        return self._rounded(self._entry.stat(follow_symlinks=follow_symlinks))

    def __getattr__(self, name: str) -> Any:
        return getattr(self._entry, name)

    def __fspath__(self) -> str:
        return self._entry.path


class _Scan:
    """What `os.scandir` gives."""

    def __init__(self, entries: Any, rounded: Callable[[os.stat_result], os.stat_result]) -> None:
        self._entries, self._rounded = entries, rounded

    def __iter__(self) -> "Iterator[_Entry]":
        return (_Entry(entry, self._rounded) for entry in self._entries)

    def __next__(self) -> _Entry:
        return _Entry(next(self._entries), self._rounded)

    def __enter__(self) -> "_Scan":
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        self._entries.close()


class _Simulation:
    def __init__(self, system: System) -> None:
        self.system = system
        self.real: dict[str, Any] = {}

    def begin(self) -> None:
        for name in ("stat", "lstat", "access", "chmod", "chdir", "listdir", "scandir", "rmdir", "unlink", "remove"):
            self._replace(name, self._with_path)
        for name in ("readlink", "utime", "open", "mkdir", "symlink"):
            self._replace(name, self._with_path)
        for name in ("rename", "replace", "link"):
            self._replace(name, self._with_two_paths)
        self.open_file = io.open
        builtins.open = io.open = self._opened  # type: ignore[assignment]
        fstat = os.fstat
        os.fstat = lambda descriptor: self._rounded(fstat(descriptor))
        self.real["fork"] = os.fork
        self.real["fsync"] = os.fsync
        if self.system.is_windows:
            free = functools.partial(_usage, os.statvfs)
            shutil.disk_usage = free  # type: ignore[assignment]
            for name in _ONLY_POSIX:
                if hasattr(os, name):
                    delattr(os, name)
            os.supports_fd.discard(self.real["utime"])
            os.supports_follow_symlinks.discard(self.real["utime"])
            os.fsync = self._fsync
            self.imported = builtins.__import__
            builtins.__import__ = self._import  # type: ignore[assignment]
        else:
            # A number that the system at hand does not know, as a network's file system does not.
            fcntl.F_FULLFSYNC = 51  # type: ignore[attr-defined]
        os.fork = self._fork
        from usufruct.files import platform

        with mock.patch.object(sys, "platform", self.system.name):
            platform.this_platform()

    def _replace(self, name: str, make: Callable[[str, Any], Any]) -> None:
        real = self.real[name] = getattr(os, name)
        replacement = functools.wraps(real)(make(name, real))
        setattr(os, name, replacement)
        for ability in (os.supports_fd, os.supports_dir_fd, os.supports_follow_symlinks, os.supports_effective_ids):
            if real in ability and not (self.system.is_windows and name == "utime"):
                ability.add(replacement)

    def _with_path(self, name: str, real: Any) -> Any:
        """One of the calls that take a path first; of `symlink` it is the second."""

        def call(path: Any = ".", *words: Any, **options: Any) -> Any:
            ours = _caller_is_ours()
            if self.system.is_windows and ours:
                self._refuse_descriptors(name, path, options)
            if name == "symlink":
                if self.system.is_windows and ours:
                    raise OSError(errno.EINVAL, "A required privilege is not held by the client", words[0])
                return real(path, self._actual(words[0], options.get("dir_fd")), *words[1:], **options)
            if isinstance(path, int):
                return self._done(name, real, path, words, options)
            path = self._actual(path, options.get("dir_fd"))
            if name == "open" and ours:
                words = self._checked_open(path, words, options)
            if name == "mkdir" and ours:
                self._check_name(path)
            if name == "chmod" and self.system.is_windows and ours:
                # All that is kept is whether it may be written.
                now = stat.S_IMODE(self.real["stat"](path).st_mode)
                words = ((now | 0o200 if words[0] & 0o200 else now & ~0o222),)
            if name in ("unlink", "remove", "rmdir") and self.system.is_windows and ours:
                self._refuse_held(path)
                if name != "rmdir":
                    self._refuse_read_only(path)
            return self._done(name, real, path, words, options)

        return call

    def _done(self, name: str, real: Any, path: Any, words: Any, options: dict[str, Any]) -> Any:
        if name == "utime" and (times := options.get("ns")):
            options["ns"] = tuple(time // self.system.tick * self.system.tick for time in times)
        found = real(path, *words, **options)
        if name in ("stat", "lstat"):
            return self._rounded(found)
        return _Scan(found, self._rounded) if name == "scandir" else found

    def _rounded(self, found: os.stat_result) -> os.stat_result:
        """What a file system tells that keeps no finer times."""
        _, (fields, more) = found.__reduce__()  # type: ignore[misc]
        for name in ("st_mtime_ns", "st_atime_ns"):
            more[name] -= more[name] % self.system.tick
        return os.stat_result(fields, more)

    def _with_two_paths(self, name: str, real: Any) -> Any:
        def call(source: Any, destination: Any, **options: Any) -> None:
            ours = _caller_is_ours()
            if self.system.is_windows and ours:
                self._refuse_descriptors(name, source, options)
                options.pop("follow_symlinks", None)
                if name == "link" and not self.system.has_links:
                    raise OSError(errno.EINVAL, "The request is not supported", source)
            spelled, above = os.fspath(destination), options.get("dst_dir_fd")
            source = self._actual(source, options.get("src_dir_fd"))
            there = self._actual(spelled, above)
            if there == source and name != "link":
                # Only the spelling changes.
                there = os.path.join(os.path.dirname(there), os.path.basename(spelled))
            if self.system.is_windows and ours:
                self._check_name(spelled)
                if name != "link":
                    self._refuse_held(source)
                if there != source and os.path.lexists(there):
                    if name != "replace" or os.path.isdir(there):
                        raise FileExistsError(errno.EEXIST, "Cannot create a file when that file exists", there)
                    self._refuse_held(there)
                    self._refuse_read_only(there)
            real(source, there, **options)
            is_respelled = os.path.basename(there) != os.path.basename(spelled)
            if is_respelled and name != "link":
                last = os.path.join(os.path.dirname(there), os.path.basename(spelled))
                self.real["rename"](there, last, src_dir_fd=above, dst_dir_fd=above)

        return call

    def _opened(self, file: Any, mode: str = "r", *words: Any, **options: Any) -> Any:
        if not isinstance(file, int):
            file = self._actual(file, None)
        return self.open_file(file, mode, *words, **options)

    def _actual(self, path: Any, at: int | None) -> Any:
        """The path by which the disk at hand knows a name, however it is spelled."""
        spelled = os.fspath(path)
        if not isinstance(spelled, str) or spelled in ("", "."):
            return path
        if self._is_there(spelled, at):
            return spelled
        above, name = os.path.split(spelled)
        if not name:
            return spelled
        above = self._actual(above, at) if above and above != "/" else above
        try:
            names = self.real["listdir"](above or (at if at is not None else "."))
        except OSError:
            return spelled
        wanted = self.system.fold(name)
        found = next((one for one in names if self.system.fold(one) == wanted), name)
        return os.path.join(above, found)

    def _is_there(self, path: str, at: int | None) -> bool:
        try:
            self.real["lstat"](path, dir_fd=at)
        except (OSError, ValueError):
            return False
        return True

    def _refuse_descriptors(self, name: str, path: Any, options: dict[str, Any]) -> None:
        for option in ("dir_fd", "src_dir_fd", "dst_dir_fd"):
            if options.get(option) is not None:
                raise NotImplementedError(f"{name}: {option} unavailable on this platform")
        if isinstance(path, int) and name in ("utime", "chmod", "listdir", "scandir"):
            raise TypeError(f"{name}: path should be string, bytes or os.PathLike, not int")
        if name in ("utime", "chmod") and options.get("follow_symlinks") is False:
            raise NotImplementedError(f"{name}: follow_symlinks unavailable on this platform")

    def _checked_open(self, path: str, words: Any, options: dict[str, Any]) -> Any:
        flags, *rest = words or (options["flags"],)
        is_new = flags & os.O_CREAT and not os.path.lexists(path)
        if is_new:
            self._check_name(path)
        if self.system.is_windows:
            if os.path.isdir(path):
                raise PermissionError(errno.EACCES, "Permission denied", path)
            if flags & (os.O_WRONLY | os.O_RDWR) and not is_new:
                self._refuse_read_only(path)
            if is_new and rest:
                rest = [0o644 if rest[0] & 0o200 else 0o444]
        return (flags, *rest)

    def _check_name(self, path: str) -> None:
        name = os.path.basename(path)
        if self.system.is_windows and (_FORBIDDEN.search(name) or _RESERVED.fullmatch(name)):
            raise OSError(errno.EINVAL, "The filename, directory name, or volume label syntax is incorrect", path)

    def _refuse_read_only(self, path: str) -> None:
        if os.path.lexists(path) and not self.real["lstat"](path).st_mode & 0o200:
            raise PermissionError(errno.EACCES, "Access is denied", path)

    def _refuse_held(self, path: str) -> None:
        """An open file keeps its name there, and so does every directory above it."""
        real = os.path.abspath(path)
        for number in self.real["listdir"]("/proc/self/fd"):
            try:
                held = self.real["readlink"](f"/proc/self/fd/{number}")
            except OSError:
                continue
            if held == real or held.startswith(f"{real}/"):
                raise PermissionError(errno.EACCES, "The process cannot access the file: it is in use", path)

    def _fsync(self, descriptor: int) -> None:
        if _caller_is_ours() and not fcntl.fcntl(descriptor, fcntl.F_GETFL) & (os.O_WRONLY | os.O_RDWR):
            raise OSError(errno.EBADF, "Bad file descriptor")
        self.real["fsync"](descriptor)

    def _fork(self) -> int:
        if _caller_is_ours():
            raise AttributeError("module 'os' has no attribute 'fork'")
        process: int = self.real["fork"]()
        return process

    def _import(self, name: str, space: Any = None, *words: Any, **options: Any) -> Any:
        caller = str((space or {}).get("__name__", ""))
        if name in _ONLY_POSIX_MODULES and caller.startswith("usufruct."):
            raise ImportError(f"No module named {name!r}")
        return self.imported(name, space, *words, **options)
