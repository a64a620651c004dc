"""Write staged files in the way that is fastest for the archive: in order, by threads, or by processes."""

import os
import threading
from collections.abc import Callable, Iterator

from usufruct.archives.reading import Archive
from usufruct.transaction.by_processes import by_processes
from usufruct.transaction.by_threads import SMALL, by_threads, read_ahead
from usufruct.transaction.jobs import Jobs, Staged, told, written

_MOST_WORKERS = 4
_MANY = 1000
"""Small files for which it is worth while to start another process."""
_FEW = 50
"""Small files that are written before a thread has started."""


def _untold(size: int) -> None:
    """Tell nobody."""


def stage_files(
    archive: Archive, jobs: Jobs, tell: Callable[[int], None] = _untold, *, may_fork: bool = False
) -> Iterator[Staged]:
    """Write these files, checked and hashed, and yield them in small groups as they are finished.

    `tell` is called now and then with the bytes written of unfinished files. Raises what reading raises, or OSError; no
    thread and no process keeps running then.
    """
    count = len(jobs.rows)
    if not count:
        return
    is_little = count <= _FEW and jobs.size <= 2 * SMALL and not archive.facts.is_slow
    workers = 1 if is_little else min(_MOST_WORKERS, os.cpu_count() or 1)
    are_small = jobs.size < SMALL * count
    if workers > 1 and archive.is_divisible and count > 1:
        # For small files, Python takes most of the time, and only processes run it in parallel.
        is_worth_it = archive.facts.is_slow or (are_small and count >= _MANY)
        if may_fork and is_worth_it and threading.active_count() == 1:
            yield from by_processes(archive, jobs, workers, tell)
        else:
            yield from by_threads(archive, jobs, 2 if are_small else workers, tell)
        return
    stream = archive.stream(jobs.rows)
    if workers > 1:
        stream = read_ahead(archive, jobs.rows)
    for row, blocks in stream:
        yield [written(jobs.make(row), told(blocks, tell))]
