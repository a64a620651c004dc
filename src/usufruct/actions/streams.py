"""Archives from a stream: standard input, or a pipe with or without a name. They are received as a file first."""

import os
import shutil
import stat
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from usufruct.actions.context import Context
from usufruct.errors import DamagedArchive, MachineError, WrongUsage
from usufruct.files.printable import printable
from usufruct.files.private import make_private
from usufruct.files.small_texts import from_pipe
from usufruct.planning.names import fault_in_name

_INPUT = "-"
_INPUTS = ("/dev/stdin", "/dev/fd/0", "/proc/self/fd/0")
_LEFT_FREE = 256 << 20
"""Bytes of the disk that a stream may not take."""
_NAME = "standard input"


def is_stream(word: Path) -> bool:
    """Whether a word means standard input or a pipe, and not a file that stays."""
    if str(word) == _INPUT or str(word) in _INPUTS:
        return True
    try:
        return stat.S_ISFIFO(word.stat().st_mode)
    except OSError:
        return False


@contextmanager
def received(context: Context, word: Path, name: str | None = None) -> Iterator[Path]:
    """Receive a stream as a file that exists while inside, called by `name` or by what the stream is.

    Raises WrongUsage if nobody writes into it, MachineError if it would fill the disk.
    """
    is_input = str(word) == _INPUT or str(word) in _INPUTS
    spool = context.paths.data / "spool"
    try:
        make_private(spool)
    except OSError:
        # Looking at something must not write anything of ours.
        spool = Path(tempfile.gettempdir())
    with tempfile.TemporaryDirectory(dir=spool, prefix="received-") as directory:
        # A pipe that a shell made for a command has only a number as its name.
        said = name if name and not fault_in_name(name) else ""
        path = Path(directory) / (said or (_NAME if is_input or word.name.isdigit() else word.name))
        if is_input:
            _refuse_keyboard()
            _copy(sys.stdin.fileno(), path, _NAME)
        else:
            descriptor = os.open(word, os.O_RDONLY | getattr(os, "O_NONBLOCK", 0))
            try:
                _copy(descriptor, path, printable(str(word)))
            finally:
                os.close(descriptor)
        yield path


def _refuse_keyboard() -> None:
    if sys.stdin is None or sys.stdin.isatty():
        raise WrongUsage(
            "`-` reads an archive from standard input, but nothing is piped into it.",
            remedy="Write `… | usufruct look -`, or name a file.",
        )


def _copy(descriptor: int, path: Path, name: str) -> None:
    size = 0
    with path.open("wb", buffering=0) as file:
        while block := from_pipe(descriptor):
            if shutil.disk_usage(path.parent).free < _LEFT_FREE + len(block):
                raise MachineError(
                    f"What comes from {name} would fill the disk: it was stopped after {size >> 20:,} MB.",
                    remedy="Make room, or write it into a file on another disk and name that.",
                    path=str(path.parent),
                )
            file.write(block)
            size += len(block)
    if not size:
        raise DamagedArchive(
            f"Nothing came from {name}.",
            remedy="Does another program write into it, and did it end well?",
            path=name,
        )
