"""One Usufruct writes at a time."""

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from filelock import FileLock, Timeout

from usufruct.errors import Busy


@contextmanager
def only_writer(lock: Path, doing: str, patience: float) -> Iterator[None]:
    """Hold the lock while inside; waits `patience` seconds for another, then raises Busy naming what it does.

    The lock is the operating system's, so it ends with the process that holds it, however that ends.
    """
    lock.parent.mkdir(parents=True, exist_ok=True)
    holder = lock.with_name(lock.name + "-holder")
    try:
        with FileLock(str(lock), timeout=patience):
            holder.write_text(f"{doing}, process {os.getpid()}\n", encoding="utf-8")
            try:
                yield
            finally:
                holder.unlink(missing_ok=True)
    except Timeout as error:
        try:
            other = holder.read_text(encoding="utf-8").strip()
        except OSError:
            other = "an unknown command"
        raise Busy(
            f"Another Usufruct is at work ({other}); waited {patience:g} seconds for it.",
            remedy="Try again once it is finished.",
            path=str(lock),
        ) from error
