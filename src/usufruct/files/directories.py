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
    """A directory that was reached without following a link; names are those of what is in it."""

    __slots__ = ("_platform", "at", "path")

    def __init__(self, path: str, at: int | None, platform: Platform) -> None:
        self.path = path
        """Absolute, as it was walked."""
        self.at = at
        """Its descriptor, where the system has them."""
        self._platform = platform

    def named(self, name: str) -> str:
        """The path by which the system's calls know a name here, beside the descriptor."""
        return name if self.at is not None else f"{self.path.rstrip('/')}/{name}"

    def state(self, name: str) -> FileState:
        """What has this name, links not followed; a file's digest is left out."""
        here = self.named(name)
        try:
            found = os.lstat(here, dir_fd=self.at)
        except (FileNotFoundError, NotADirectoryError):
            return ABSENT
        if stat.S_ISLNK(found.st_mode):
            return state_of(found, os.readlink(here, dir_fd=self.at))
        return state_of(found)

    def names(self) -> list[str]:
        """All names here."""
        if self.at is None:
            return os.listdir(self.path)
        listed = os.open(".", os.O_RDONLY, dir_fd=self.at)
        try:
            return os.listdir(listed)
        finally:
            os.close(listed)

    def link_out(self, name: str, path: str) -> bool:
        """Give a file here a second name at a path; False where the volume cannot."""
        return self._platform.link(self.named(name), path, self.at)

    def move_out(self, name: str, path: str) -> None:
        """Rename something here to a path."""
        os.rename(self.named(name), path, src_dir_fd=self.at)

    def bring(self, path: str, name: str, *, replaces: bool) -> None:
        """Rename something to a name here; raises FileExistsError where one is taken that may not be replaced."""
        if replaces:
            self._platform.replace(path, self.named(name), self.at)
        else:
            self._platform.rename_new(path, self.named(name), self.at)

    def make(self, name: str) -> None:
        """Make a directory here."""
        os.mkdir(self.named(name), dir_fd=self.at)

    def unlink(self, name: str) -> None:
        """Remove a file or link here."""
        self._platform.unlink(self.named(name), self.at)

    def drop(self, name: str) -> None:
        """Remove a directory here if it is empty; one in which the user put something stays."""
        try:
            os.rmdir(self.named(name), dir_fd=self.at)
        except OSError as error:
            if error.errno not in (errno.ENOTEMPTY, errno.EEXIST):
                raise

    def set_time(self, modified: int) -> None:
        """Set the directory's own time of change, nanoseconds; its time of access stays."""
        here = "." if self.at is not None else self.path
        found = os.stat(here, dir_fd=self.at)
        set_times(here, found.st_atime_ns, modified, at=self.at)

    @property
    def modified(self) -> int:
        """Its time of change, nanoseconds."""
        return os.stat("." if self.at is not None else self.path, dir_fd=self.at).st_mtime_ns


class Walk:
    """Reaches directories by their absolute paths, those above the last one being open already. Close it after use.

    What `reach` gave is good until the next directory is reached that does not lie below it.
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
        """Let go of all that is open."""
        self._keep(0)

    def _keep(self, count: int) -> None:
        while len(self._open) > count:
            os.close(self._open.pop()[1])

    def reach(self, path: str) -> Directory:
        """The directory at an absolute path of no links.

        Raises LeadsElsewhere where a step of it is a link, FileNotFoundError or NotADirectoryError where there is none.
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
        """A directory is at this path; raises LeadsElsewhere where a step of it is a link."""
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
    """What is told of a directory that is a link now."""
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
    """One directory, reached for as long as the block lasts; raises what `Walk.reach` raises."""
    with Walk(platform) as walk:
        yield walk.reach(path)
