"""Staging over a few threads: reading and unpacking go on while what was unpacked is hashed and written.

The libraries that unpack, hash and write let other threads run meanwhile; the rest of the work on each file does not.
"""

import queue
import threading
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import closing
from itertools import chain
from typing import Any

from usufruct.archives.reading import Archive
from usufruct.files.ahead import ahead
from usufruct.transaction.jobs import Jobs, Staged, portions_of, written

SMALL = 256 << 10
"""Bytes up to which a file is read and written in one go."""
_AHEAD = 8
"""Blocks that are unpacked before they are written, at most."""
_MOMENT = 0.2
"""Seconds after which whoever watches hears of files that are not finished yet."""


def by_threads(archive: Archive, jobs: Jobs, workers: int, tell: Callable[[int], None]) -> Iterator[Staged]:
    """The calling thread and some more each read and write whole files of their own.

    That the caller works too, between taking what was done, spares a thread that only waits for its turn.
    """
    portions: queue.SimpleQueue[Sequence[int]] = queue.SimpleQueue()
    for one in portions_of(jobs, workers):
        portions.put(one)
    done: queue.Queue[Any] = queue.Queue(4 * workers)
    is_over = threading.Event()
    unfinished = [0] * workers

    def told(blocks: Iterable[bytes], number: int) -> Iterator[bytes]:
        for block in blocks:
            if is_over.is_set():
                raise _Stopped
            yield block
            unfinished[number] += len(block)
            if not number:
                tell(sum(unfinished))

    def staged_by(number: int) -> Iterator[Staged]:
        while not is_over.is_set():
            try:
                portion = portions.get_nowait()
            except queue.Empty:
                return
            staged = []
            for row, blocks in archive.stream(portion):
                job = jobs.make(row)
                # Of a small file there is no second block to stop before or to tell of.
                staged.append(written(job, told(blocks, number) if job.size > SMALL else blocks))
            unfinished[number] = 0
            yield staged

    def work(number: int) -> None:
        try:
            for staged in staged_by(number):
                _put(done, staged, is_over)
        except BaseException as error:  # noqa: BLE001 - handed to the thread that waits
            _put(done, error, is_over)
        _put(done, None, is_over)

    threads = [threading.Thread(target=work, args=[number], name=f"stage-{number}") for number in range(1, workers)]
    for thread in threads:
        thread.start()
    try:
        running, own = len(threads), staged_by(0)
        while True:
            if (mine := next(own, None)) is not None:
                yield mine
            elif not running:
                return
            while running:
                try:
                    found = done.get_nowait() if mine else done.get(timeout=_MOMENT)
                except queue.Empty:
                    if not mine:
                        tell(sum(unfinished))
                    break
                if found is None:
                    running -= 1
                elif isinstance(found, BaseException):
                    raise found
                else:
                    yield found
    finally:
        is_over.set()
        for thread in threads:
            thread.join()


class _Stopped(Exception):
    """Nobody waits for the rest any more."""


def _put(done: "queue.Queue[Any]", item: object, is_over: threading.Event) -> None:
    """Hand over, unless nobody waits any more."""
    while not is_over.is_set():
        try:
            done.put(item, timeout=0.1)
        except queue.Full:
            continue
        return


_END = object()
"""Stands behind the last block of a file."""


def read_ahead(archive: Archive, rows: Sequence[int]) -> Iterator[tuple[int, Iterator[bytes]]]:
    """What `Archive.stream` gives, read by a thread of its own a few blocks ahead."""
    with closing(ahead(_portions(archive, rows), _AHEAD)) as portions:
        items = chain.from_iterable(portions)
        for row in items:
            yield row, _one_file(items)


def _portions(archive: Archive, rows: Sequence[int]) -> Iterator[list[Any]]:
    """Rows, each with its blocks and `_END` behind it; many small files are handed over together."""
    small: list[Any] = []
    weight = 0
    for row, blocks in archive.stream(rows):
        small.append(row)
        for block in blocks:
            small.append(block)
            weight += len(block)
            if weight >= SMALL:
                yield small
                small, weight = [], 0
        small.append(_END)
    yield small


def _one_file(items: Iterator[Any]) -> Iterator[bytes]:
    for item in items:
        if item is _END:
            return
        yield item
