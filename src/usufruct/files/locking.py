"""One Usufruct writes at a time."""

import os
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from filelock import FileLock, Timeout

from usufruct.errors import Busy
from usufruct.files.printable import printable

_PAUSE = 0.02
"""Seconds between two looks at whether the helpers of an ended command have stopped."""


@contextmanager
def only_writer(lock: Path, doing: str, patience: float) -> Iterator[None]:
    """Hold the lock while inside; waits `patience` seconds for another, then raises Busy naming what it does.

    The lock is the operating system's, so it ends with the process that holds it, and with the last of the processes
    that this one started as its like, however they end.
    """
    lock.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    holder = lock.with_name(lock.name + "-holder")
    until = time.monotonic() + patience
    try:
        with FileLock(str(lock), timeout=patience), _no_helpers(lock.with_name(lock.name + "-helpers"), until):
            holder.write_text(f"{printable(doing)}, process {os.getpid()}\n", encoding="utf-8")
            try:
                yield
            finally:
                holder.unlink(missing_ok=True)
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
    """Wait for processes that a killed command left behind; those started inside hold this lock too.

    The library lets go of its own lock in a process that goes on as two. Raises Timeout at the time `until`.
    """
    try:
        import fcntl
    except ImportError:
        # Where no process goes on as two there are no helpers.
        yield
        return
    descriptor = os.open(lock, os.O_RDWR | os.O_CREAT, 0o600)
    try:
        while True:
            try:
                fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except BlockingIOError as error:
                if time.monotonic() > until:
                    raise Timeout(str(lock)) from error
                time.sleep(_PAUSE)
        yield
    finally:
        os.close(descriptor)
