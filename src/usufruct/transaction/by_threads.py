"""Staging over a few threads: reading and unpacking go on while what was unpacked is hashed and written.

The libraries that unpack, hash and write let other threads run meanwhile; the rest of the work on each file does not.
"""

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
    """The calling thread and some more each read and write whole files of their own.

    `tell` hears now and then how many bytes are written of files that are not finished yet.
    """
    return _Sharing(archive, jobs, workers, tell).all()


class _Sharing:
    """Several threads that share what there is to stage."""

    def __init__(self, archive: Archive, jobs: Jobs, workers: int, tell: Callable[[int], None]) -> None:
        self._archive, self._jobs, self._tell = archive, jobs, tell
        self._portions: queue.SimpleQueue[Sequence[int]] = queue.SimpleQueue()
        for one in portions_of(jobs, workers):
            self._portions.put(one)
        self._others = Pump([partial(self._work, number) for number in range(1, workers)], 4 * workers)
        self._unfinished = [0] * workers
        """Thread → bytes of the file that it is at."""

    def all(self) -> Iterator[Staged]:
        """All that was staged, as it is.

        That the calling thread works too, between taking what the others did, spares one that only waits for its turn.
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
                # Of a small file there is no second block to stop before or to tell of.
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
