"""Stage files with several threads: one reads and unpacks, the others hash and write."""

import queue
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import closing
from functools import partial
from itertools import chain
from typing import Any

from usufruct.archives.reading import Archive
from usufruct.files.ahead import END, NOTHING, HandOver, Pump, Stopped, ahead
from usufruct.transaction.jobs import Jobs, Staged, portions_of, written

SMALL = 256 << 10
"""Bytes up to which a file is read and written in one go."""
_AHEAD = 8
"""Blocks that are unpacked before they are written, at most."""
_MOMENT = 0.2
"""Seconds after which whoever watches hears of files that are not finished yet."""


def by_threads(archive: Archive, jobs: Jobs, workers: int, tell: Callable[[int], None]) -> Iterator[Staged]:
    """Stage files in the calling thread and several others, each of which reads and writes whole files.

    `tell` is called now and then with the bytes written of unfinished files.
    """
    return _Sharing(archive, jobs, workers, tell).all()


class _Sharing:
    """The work that several threads share."""

    def __init__(self, archive: Archive, jobs: Jobs, workers: int, tell: Callable[[int], None]) -> None:
        self._archive, self._jobs, self._tell = archive, jobs, tell
        self._portions: queue.SimpleQueue[Sequence[int]] = queue.SimpleQueue()
        for one in portions_of(jobs, workers):
            self._portions.put(one)
        self._others = Pump([partial(self._work, number) for number in range(1, workers)], 4 * workers)
        self._unfinished = [0] * workers
        """Thread → bytes of the file that it is at."""

    def all(self) -> Iterator[Staged]:
        """Yield everything that was staged.

        The calling thread works too, between taking results. A thread that only waits would cost more.
        """
        with self._others as others:
            own = self._staged_by(0)
            while True:
                if (mine := next(own, None)) is not None:
                    yield mine
                found = others.take(_MOMENT if mine is None else 0)
                while found is not NOTHING and found is not END:
                    yield found
                    found = others.take(_MOMENT if mine is None else 0)
                if mine is None:
                    if found is END:
                        return
                    self._tell(sum(self._unfinished))

    def _work(self, number: int, hand_over: HandOver) -> None:
        for staged in self._staged_by(number):
            hand_over(staged)

    def _staged_by(self, number: int) -> Iterator[Staged]:
        while not self._others.is_over:
            try:
                portion = self._portions.get_nowait()
            except queue.Empty:
                return
            staged = []
            for row, blocks in self._archive.stream(portion):
                job = self._jobs.make(row)
                # A small file has no second block, so there is nothing to stop or report.
                staged.append(written(job, self._told(blocks, number) if job.size > SMALL else blocks))
            self._unfinished[number] = 0
            yield staged

    def _told(self, blocks: Iterable[bytes], number: int) -> Iterator[bytes]:
        for block in blocks:
            if self._others.is_over:
                raise Stopped
            yield block
            self._unfinished[number] += len(block)
            if not number:
                self._tell(sum(self._unfinished))


_END = object()
"""Stands behind the last block of a file."""


def read_ahead(archive: Archive, rows: Sequence[int]) -> Iterator[tuple[int, Iterator[bytes]]]:
    """Yield what `Archive.stream` gives, read a few blocks ahead by another thread."""
    with closing(ahead(_portions(archive, rows), _AHEAD)) as portions:
        items = chain.from_iterable(portions)
        for row in items:
            yield row, _one_file(items)


def _portions(archive: Archive, rows: Sequence[int]) -> Iterator[list[Any]]:
    """Yield rows with their blocks, each ended by `_END`; small files are handed over in groups."""
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
