"""Files to be staged, and how one of them is written."""

from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import NamedTuple

from usufruct.files.writing import write_new
from usufruct.model.records import FileState
from usufruct.planning.junk import HEAD

_PORTION, _WEIGHT = 200, 4 << 20
"""Files that a worker takes at once, and bytes: either is enough."""


class Job(NamedTuple):
    """One file to be staged."""

    row: int
    path: str
    """Where it is written; its directory is there."""
    size: int
    modified: int | None
    mode: int
    look: Callable[[int, bytes], None] | None = None
    """Called with the row and the file's first bytes, by whichever thread or process writes it."""


class Jobs(NamedTuple):
    """All files to be staged. A Job is made when its turn comes, because very many would fill the memory."""

    rows: Sequence[int]
    sizes: Sequence[int]
    """Bytes of every row of the archive, by number."""
    make: Callable[[int], Job]
    """The job of a row; called by several threads or processes."""

    @property
    def size(self) -> int:
        """Bytes of all files."""
        return sum(map(self.sizes.__getitem__, self.rows))


Staged = list[tuple[int, FileState]]
"""Rows, each with the state of its file."""


def written(job: Job, blocks: Iterable[bytes]) -> tuple[int, FileState]:
    """Write a file; return its row and its state."""
    row, path, _, modified, mode, look = job
    return row, write_new(path, _looked_at(blocks, row, look) if look else blocks, modified, mode)


def _looked_at(blocks: Iterable[bytes], row: int, look: Callable[[int, bytes], None]) -> Iterator[bytes]:
    head, is_told = b"", False
    for block in blocks:
        if not is_told:
            # The packer decides how short the first block is.
            head += block[: HEAD - len(head)]
            is_told = len(head) == HEAD
            if is_told:
                look(row, head)
        yield block
    if not is_told:
        look(row, head)


def portions_of(jobs: Jobs, workers: int) -> Iterator[Sequence[int]]:
    """Group the rows of these files into portions for one worker at a time."""
    most = max(1, min(_PORTION, len(jobs.rows) // workers))
    start = weight = 0
    for end, row in enumerate(jobs.rows, 1):
        weight += jobs.sizes[row]
        if end - start >= most or weight >= _WEIGHT or end == len(jobs.rows):
            yield jobs.rows[start:end]
            start, weight = end, 0


def told(blocks: Iterable[bytes], tell: Callable[[int], None]) -> Iterator[bytes]:
    """Yield the same blocks, and report the bytes taken before each block but the first."""
    size = 0
    for block in blocks:
        if size:
            tell(size)
        size += len(block)
        yield block
