"""Directories that are walked to, not trusted: no link is followed on the way, and what is reached is kept hold of.

A path that was real when it was recorded may lead anywhere by now, and may change in the very moment in which it is
used. Where the system has descriptors of directories, each step of the way is opened in the one above it, and names
are given relative to the last: whatever becomes of the path then, nothing happens in another place. Elsewhere each
step is looked at, which leaves the moment between looking and acting.
"""

import errno
import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager
from types import TracebackType

from usufruct.errors import LeadsElsewhere
from usufruct.files.attributes import set_times
from usufruct.files.looking import state_of
from usufruct.files.paths import real_path
from usufruct.files.platform import Platform
from usufruct.files.shells import typed
from usufruct.model.records import ABSENT, FileState

_REACH = getattr(os, "O_PATH", os.O_RDONLY) | getattr(os, "O_DIRECTORY", 0) | getattr(os, "O_NOFOLLOW", 0)
"""A descriptor that only serves to name what is in a directory: even one that may not be listed has it."""


class Directory:
    """A directory that was reached without following a link. Names are relative to it."""

    __slots__ = ("_platform", "at", "path")

    def __init__(self, path: str, at: int | None, platform: Platform) -> None:
        self.path = path
        """Absolute, as it was walked."""
        self.at = at
        """Its descriptor, where the system has them."""
        self._platform = platform

    def named(self, name: str) -> str:
        """The path under which system calls know a name in this directory, for use with the descriptor."""
        return name if self.at is not None else f"{self.path.rstrip('/')}/{name}"

    def state(self, name: str) -> FileState:
        """The state of what has this name, without following links; a file's digest is left out."""
        here = self.named(name)
        try:
            found = os.lstat(here, dir_fd=self.at)
        except (FileNotFoundError, NotADirectoryError):
            return ABSENT
        if stat.S_ISLNK(found.st_mode):
            return state_of(found, os.readlink(here, dir_fd=self.at))
        return state_of(found)

    def names(self) -> list[str]:
        """All names in the directory."""
        if self.at is None:
            return os.listdir(self.path)
        listed = os.open(".", os.O_RDONLY, dir_fd=self.at)
        try:
            return os.listdir(listed)
        finally:
            os.close(listed)

    def link_out(self, name: str, path: str) -> bool:
        """Link a file to a path; False if the volume cannot."""
        return self._platform.link(self.named(name), path, self.at)

    def move_out(self, name: str, path: str) -> None:
        """Rename something in the directory to a path."""
        os.rename(self.named(name), path, src_dir_fd=self.at)

    def bring(self, path: str, name: str, *, replaces: bool) -> None:
        """Rename something to a name in the directory; raises FileExistsError if it exists and may not be replaced."""
        if replaces:
            self._platform.replace(path, self.named(name), self.at)
        else:
            self._platform.rename_new(path, self.named(name), self.at)

    def make(self, name: str) -> None:
        """Create a directory in it."""
        os.mkdir(self.named(name), dir_fd=self.at)

    def unlink(self, name: str) -> None:
        """Remove a file or link in it."""
        self._platform.unlink(self.named(name), self.at)

    def drop(self, name: str) -> None:
        """Remove a directory in it if it is empty; otherwise it stays."""
        try:
            os.rmdir(self.named(name), dir_fd=self.at)
        except OSError as error:
            if error.errno not in (errno.ENOTEMPTY, errno.EEXIST):
                raise

    def set_time(self, modified: int) -> None:
        """Set the directory's modification time in nanoseconds; its access time stays."""
        here = "." if self.at is not None else self.path
        found = os.stat(here, dir_fd=self.at)
        set_times(here, found.st_atime_ns, modified, at=self.at)

    @property
    def modified(self) -> int:
        """Its modification time in nanoseconds."""
        return os.stat("." if self.at is not None else self.path, dir_fd=self.at).st_mtime_ns


class Walk:
    """Reaches directories by absolute path, and keeps the parents of the last one open. Close it after use.

    A directory from `reach` is usable until the next one is reached that does not lie below it.
    """

    def __init__(self, platform: Platform) -> None:
        self._platform = platform
        self._open: list[tuple[str, int]] = []
        """The way to the last directory: each step's path and descriptor, outermost first."""

    def __enter__(self) -> "Walk":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        """Close everything that is open."""
        self._keep(0)

    def _keep(self, count: int) -> None:
        while len(self._open) > count:
            os.close(self._open.pop()[1])

    def reach(self, path: str) -> Directory:
        """Open the directory at an absolute path, without following links.

        Raises LeadsElsewhere if a step is a link, and FileNotFoundError or NotADirectoryError if there is none.
        """
        steps = _steps(path)
        if not self._platform.has_directory_descriptors:
            for step in steps:
                self._refuse_link(step, os.lstat(step))
            return Directory(path, None, self._platform)
        known = 0
        while known < min(len(steps), len(self._open)) and self._open[known][0] == steps[known]:
            known += 1
        self._keep(known)
        for step in steps[known:]:
            at = self._open[-1][1] if self._open else None
            name = os.path.basename(step) if at is not None else step
            try:
                descriptor = os.open(name or step, _REACH, dir_fd=at)
            except OSError as error:
                if error.errno in (errno.ELOOP, errno.ENOTDIR):
                    self._refuse_link(step, os.lstat(name or step, dir_fd=at))
                raise OSError(error.errno, os.strerror(error.errno or 0), step) from error
            self._open.append((step, descriptor))
        return Directory(path, self._open[-1][1], self._platform)

    def is_there(self, path: str) -> bool:
        """Whether there is a directory at this path; raises LeadsElsewhere if a step is a link."""
        try:
            self.reach(path)
        except (FileNotFoundError, NotADirectoryError):
            return False
        return True

    @staticmethod
    def _refuse_link(step: str, found: os.stat_result) -> None:
        is_junction = getattr(found, "st_reparse_tag", 0) == getattr(stat, "IO_REPARSE_TAG_MOUNT_POINT", -1)
        if stat.S_ISLNK(found.st_mode) or is_junction:
            raise leads_elsewhere(step)
        if not stat.S_ISDIR(found.st_mode):
            raise NotADirectoryError(errno.ENOTDIR, os.strerror(errno.ENOTDIR), step)


def leads_elsewhere(step: str) -> LeadsElsewhere:
    """The error for a directory that is a link now."""
    real = real_path(step)
    moved = typed(["usufruct", "recover", "--moved", step, real])
    return LeadsElsewhere(
        f"{step} was a folder when it was recorded and is a link now, to {real}. Nothing is done through it.",
        remedy=f"If you moved the folder there, say so: `{moved}`. If not, put the folder back and try again.",
        path=step,
    )


def _steps(path: str) -> list[str]:
    """Every directory on the way to an absolute path, outermost first, the path itself last."""
    steps = [path]
    while (above := os.path.dirname(steps[-1])) != steps[-1]:
        steps.append(above)
    return steps[::-1]


@contextmanager
def reached(path: str, platform: Platform) -> Iterator[Directory]:
    """One directory, open while the block lasts; raises what `Walk.reach` raises."""
    with Walk(platform) as walk:
        yield walk.reach(path)
