"""Stage many small files with several processes, on systems that can fork."""

import gc
import marshal
import os
import pickle
import select
import signal
import tempfile
from collections.abc import Callable, Iterator, Sequence
from typing import NamedTuple

from usufruct.archives.reading import Archive
from usufruct.errors import MachineError
from usufruct.model.records import FileKind, FileState
from usufruct.transaction.jobs import Jobs, Staged, portions_of, told, written

_NUMBER = 4
"""Bytes of a number as one process tells it to another."""


class _Child(NamedTuple):
    process: int
    told: int
    """Descriptor of the pipe through which it tells what it has done."""


def by_processes(archive: Archive, jobs: Jobs, workers: int, tell: Callable[[int], None]) -> Iterator[Staged]:
    """Stage files in this process and several children, and yield them in small groups.

    Each process reads and writes whole files. `tell` receives the bytes that this process has written of its unfinished
    file.
    """
    own = os.getpid()
    portions = list(portions_of(jobs, workers))
    turns = Turns(len(portions))

    def staged() -> Iterator[Staged]:
        for number in turns:
            is_own = os.getpid() == own
            yield [
                written(jobs.make(row), told(blocks, tell) if is_own else blocks)
                for row, blocks in archive.stream(portions[number])
            ]

    children: list[_Child] = []
    try:
        while len(children) < workers - 1:
            children.append(_start(staged, children))
        yield from _gathered(staged(), children)
    finally:
        for child in children:
            os.kill(child.process, signal.SIGKILL)
            os.waitpid(child.process, 0)
            os.close(child.told)
        turns.close()


class Turns:
    """Numbers below a count, each given to exactly one of the processes that iterate over them."""

    def __init__(self, count: int) -> None:
        # All processes share the place up to which the file was read. The system moves it by one reader at a time,
        # but only in a file on a file system, not in memory that is used as one.
        self._file = tempfile.TemporaryFile(buffering=0)  # noqa: SIM115 - closed with the turns
        self._file.write(b"".join(number.to_bytes(_NUMBER, "little") for number in range(count)))
        self._file.seek(0)

    def __iter__(self) -> Iterator[int]:
        while number := os.read(self._file.fileno(), _NUMBER):
            yield int.from_bytes(number, "little")

    def close(self) -> None:
        """Let go of the file."""
        self._file.close()


def _start(staged: Callable[[], Iterator[Staged]], others: Sequence[_Child]) -> _Child:
    """Start a process that works until nothing is left, or until nobody reads its results."""
    parent = os.getpid()
    told, telling = os.pipe()
    process = os.fork()
    if process:
        os.close(telling)
        return _Child(process, told)
    try:
        # Ctrl-C reaches all processes; the parent handles it.
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        gc.disable()
        # If this process kept the other end open, the pipe would block for ever once the parent is gone.
        for listened in (told, *(other.told for other in others)):
            os.close(listened)
        for files in staged():
            _send(telling, marshal.dumps([(row, *state[1:6]) for row, state in files]))
            if os.getppid() != parent:
                break
        _send(telling, b"")
    except BaseException as error:  # noqa: BLE001 - handed to the parent
        _send(telling, marshal.dumps(pickle.dumps(error)))
    finally:
        # Do not close or flush anything that the parent has open.
        os._exit(0)


def _gathered(own: Iterator[Staged], children: list[_Child]) -> Iterator[Staged]:
    """Yield what this process and its children staged, as it is finished."""
    running = select.poll()
    for child in children:
        running.register(child.told, select.POLLIN)
    left = len(children)
    while True:
        if (mine := next(own, None)) is not None:
            yield mine
        elif not left:
            return
        for pipe, _ in running.poll(0 if mine is not None else None) if left else ():
            message = _received(pipe)
            if not message:
                running.unregister(pipe)
                left -= 1
                continue
            found = marshal.loads(message)
            if isinstance(found, bytes):
                raise pickle.loads(found)
            yield [(row, FileState(FileKind.FILE, *state)) for row, *state in found]


def _send(telling: int, message: bytes) -> None:
    data = memoryview(len(message).to_bytes(_NUMBER, "little") + message)
    while data:
        data = data[os.write(telling, data) :]


def _received(told: int) -> bytes:
    return _read(told, int.from_bytes(_read(told, _NUMBER), "little"))


def _read(told: int, count: int) -> bytes:
    blocks = []
    while count:
        block = os.read(told, count)
        if not block:
            raise MachineError(
                "A process that unpacked files was ended from outside.", remedy="Try again; is there enough memory?"
            )
        blocks.append(block)
        count -= len(block)
    return b"".join(blocks)
