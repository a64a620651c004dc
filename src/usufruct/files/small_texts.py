"""Read small texts, the user's or ours, with a limit: anything may be at such a path."""

import errno
import os
import stat
from pathlib import Path

LARGEST = 1 << 20
"""Bytes of a text that somebody wrote, or that is kept of one."""
_AT_ONCE = 1 << 20
_SECONDS_FOR_A_WRITER = 2.0


def small_text(file: Path, largest: int = LARGEST) -> str:
    """The text of a file, UTF-8.

    Raises OSError if there is none, if it is no file, or if it has more bytes than `largest`; UnicodeDecodeError.
    """
    return small_file(file, largest).decode("utf-8")


def small_file(file: Path, largest: int = LARGEST, *, may_be_pipe: bool = False) -> bytes:
    """The bytes of a file; raises OSError as `small_text` does. `may_be_pipe`: a pipe with a writer is accepted too."""
    descriptor = os.open(file, os.O_RDONLY | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_BINARY", 0))
    with open(descriptor, "rb", buffering=0) as opened:
        mode = os.fstat(descriptor).st_mode
        is_pipe = stat.S_ISFIFO(mode) and may_be_pipe
        if not (stat.S_ISREG(mode) or is_pipe):
            raise OSError(errno.EINVAL, "it is no file", str(file))
        blocks, size = [], 0
        while block := (from_pipe(descriptor) if is_pipe else opened.read(largest + 1)):
            blocks.append(block)
            size += len(block)
            if size > largest:
                raise OSError(errno.EFBIG, f"it is larger than {largest:,} bytes", str(file))
    return b"".join(blocks)


def from_pipe(descriptor: int) -> bytes:
    """Read what comes next, waiting while somebody may still write; nothing at the end.

    Wait a moment for a writer that has not opened the pipe yet: until then it looks as it does at its end.
    """
    import select

    select.select([descriptor], [], [], _SECONDS_FOR_A_WRITER)
    while True:
        try:
            return os.read(descriptor, _AT_ONCE)
        except BlockingIOError:
            select.select([descriptor], [], [])
