"""Only one Usufruct writes at a time."""

import logging
import os
import signal
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from filelock import FileLock, Timeout

from usufruct.errors import Busy
from usufruct.files.attributes import FULL
from usufruct.files.printable import printable
from usufruct.files.private import make_private, private_opener

_PAUSE = 0.02
"""Seconds between two looks at whether somebody else is ready."""
_SOON = 1.0
"""Seconds before it is told that somebody else is waited for."""
_log = logging.getLogger(__name__)


def _untold() -> None:
    """Report nothing."""


class Turn:
    """The right to write, while it lasts."""

    def __init__(self) -> None:
        self.behind: Callable[[], None] | None = None
        """What is done at its end, with nothing of this process in use: by one that goes on behind it, where the system
        can do that."""


@contextmanager
def only_writer(lock: Path, doing: str, patience: float, tell_waiting: Callable[[], None] = _untold) -> Iterator[Turn]:
    """Hold the lock while inside; wait `patience` seconds for another, then raise Busy, which names what that one does.

    The lock is the operating system's, so it ends with the process that holds it and with the last helper process that
    this one started, however they end. If an earlier command left work to be done behind it, wait for that as long as
    it takes, and report the wait.
    """
    make_private(lock.parent)
    holder = lock.with_name(lock.name + "-holder")
    until = time.monotonic() + patience
    turn = Turn()
    try:
        with FileLock(str(lock), timeout=patience, mode=0o600, poll_interval=_PAUSE):
            try:
                with _no_helpers(lock, until):
                    _write_anew(holder, f"{printable(doing)}, process {os.getpid()}\n")
                    try:
                        _wait_for_what_goes_on_behind(lock, tell_waiting)
                        yield turn
                    finally:
                        holder.unlink(missing_ok=True)
            finally:
                if turn.behind and not _goes_on_behind(lock, turn.behind):
                    turn.behind()
    except Timeout as error:
        try:
            other = holder.read_text(encoding="utf-8", errors="replace").strip()
        except OSError:
            other = "an unknown command"
        raise Busy(
            f"Another Usufruct is at work ({other}); waited {patience:g} seconds for it.",
            remedy="Try again once it is finished.",
            path=str(lock),
        ) from error


@contextmanager
def _no_helpers(lock: Path, until: float) -> Iterator[None]:
    """Wait for helper processes of a killed command; helpers started inside hold this lock too.

    The library releases its own lock in a forked process, for both. Raises Timeout at the time `until`.
    """
    descriptor = _opened(lock, "-helpers")
    if descriptor is None:
        yield
        return
    try:
        while not _is_got(descriptor):
            if time.monotonic() > until:
                raise Timeout(str(lock))
            time.sleep(_PAUSE)
        yield
    finally:
        os.close(descriptor)


def _wait_for_what_goes_on_behind(lock: Path, tell: Callable[[], None]) -> None:
    descriptor = _opened(lock, "-behind")
    if descriptor is None:
        return
    try:
        soon, is_told = time.monotonic() + _SOON, False
        while not _is_got(descriptor):
            if not is_told and time.monotonic() > soon:
                is_told = True
                tell()
            time.sleep(_PAUSE)
    finally:
        os.close(descriptor)


def _opened(lock: Path, behind_name: str) -> int | None:
    """A second lock beside the first, for forked processes; None if the system cannot fork."""
    try:
        import fcntl  # noqa: F401 - whether it is there is all that is asked
    except ImportError:
        return None
    return os.open(lock.with_name(lock.name + behind_name), os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW, 0o600)


def _write_anew(path: Path, text: str) -> None:
    """Write a file of our own; anything else of its name, links included, is replaced instead of written through."""
    path.unlink(missing_ok=True)
    try:
        with open(path, "x", encoding="utf-8", opener=private_opener) as file:
            file.write(text)
    except OSError as error:
        # On a full disk, other commands cannot see who is at work; the lock itself needs no space.
        if error.errno not in FULL:
            raise


def _is_got(descriptor: int) -> bool:
    """Note that the lock is ours from now on."""
    import fcntl

    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    return True


def _goes_on_behind(lock: Path, task: Callable[[], None]) -> bool:
    """Let another process do something while this one, which must hold the lock, continues and ends.

    That process holds a lock by a descriptor of its own until it ends. It keeps no terminal and no output open, so that
    nobody waits for it, and its working directory is on no drive that could be removed. Returns False if no process can
    be forked; nothing was done then.
    """
    if threading.active_count() > 1:
        return False
    descriptor = _opened(lock, "-behind")
    if descriptor is None:
        return False
    try:
        if not _is_got(descriptor):
            return False
        first = os.fork()
    except OSError:
        os.close(descriptor)
        return False
    if first:
        # Closed here, only the other process holds it; that is nobody's child, so nobody waits for it.
        os.close(descriptor)
        os.waitpid(first, 0)
        return True
    try:
        os.setsid()
        if not os.fork():
            _leave_everything()
            task()
    except BaseException as error:  # noqa: BLE001 - nobody is there to be told; the next command does what was not done
        _log.warning("what went on behind a command failed: %s", error)
    finally:
        os._exit(0)


def _leave_everything() -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    os.chdir("/")
    nothing = os.open(os.devnull, os.O_RDWR)
    for stream in range(3):
        os.dup2(nothing, stream)
