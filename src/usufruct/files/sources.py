"""Read bytes at any offset of a file, of several joined files, or of a part; also as a file for libraries."""

import io
import os
import threading
from bisect import bisect_right
from collections.abc import Sequence
from pathlib import Path
from typing import IO, Protocol, cast

_READS_AT = hasattr(os, "pread")


class Source(Protocol):
    """Bytes that can be read at any offset."""

    @property
    def size(self) -> int:
        """Bytes, when it was opened."""
        ...

    def read_at(self, offset: int, count: int) -> bytes:
        """Up to `count` bytes from `offset`; fewer only at the end."""
        ...

    def close(self) -> None:
        """Let go of the file."""
        ...


class FileSource:
    """One file; readers in several threads may share it."""

    def __init__(self, path: Path) -> None:
        self._take(path.open("rb", buffering=0))

    @classmethod
    def of(cls, file: IO[bytes]) -> "FileSource":
        """An open file, which is closed with the source."""
        source = cls.__new__(cls)
        source._take(file)
        return source

    def _take(self, file: IO[bytes]) -> None:
        self._file = file
        self._descriptor = file.fileno()
        self._seeking = threading.Lock()
        self.size = os.fstat(file.fileno()).st_size

    def read_at(self, offset: int, count: int) -> bytes:
        """See `Source`."""
        if _READS_AT:
            block = os.pread(self._descriptor, count, offset)
            if len(block) == count or offset + len(block) >= self.size:
                return block
        blocks = []
        with self._seeking:
            self._file.seek(offset)
            while count > 0 and (block := self._file.read(count)):
                blocks.append(block)
                count -= len(block)
        return b"".join(blocks)

    def close(self) -> None:
        """See `Source`."""
        self._file.close()


class BytesSource:
    """Bytes in memory."""

    def __init__(self, content: bytes) -> None:
        self._content = content
        self.size = len(content)

    def read_at(self, offset: int, count: int) -> bytes:
        """See `Source`."""
        return self._content[offset : offset + count]

    def close(self) -> None:
        """Nothing to let go of."""


class SliceSource:
    """A part of another source, which its owner closes unless `owns_whole` is set."""

    def __init__(self, whole: Source, start: int, size: int | None = None) -> None:
        self._whole = whole
        self._start = start
        self.owns_whole = False
        self.size = max(0, whole.size - start) if size is None else size

    def read_at(self, offset: int, count: int) -> bytes:
        """See `Source`."""
        return self._whole.read_at(self._start + offset, max(0, min(count, self.size - offset)))

    def close(self) -> None:
        """See `Source`."""
        if self.owns_whole:
            self._whole.close()


class JoinedSource:
    """Several sources, one after the other."""

    def __init__(self, parts: Sequence[Source]) -> None:
        self._parts = tuple(parts)
        self.starts = [0]
        """Offset at which each part begins, and the end."""
        for part in parts:
            self.starts.append(self.starts[-1] + part.size)
        self.size = self.starts.pop()

    def read_at(self, offset: int, count: int) -> bytes:
        """See `Source`."""
        blocks = []
        number = max(0, bisect_right(self.starts, offset) - 1)
        while count > 0 and number < len(self._parts):
            block = self._parts[number].read_at(offset - self.starts[number], count)
            blocks.append(block)
            offset, count, number = offset + len(block), count - len(block), number + 1
        return b"".join(blocks)

    def close(self) -> None:
        """See `Source`."""
        for part in self._parts:
            part.close()


class _SourceFile(io.RawIOBase):
    """A source as a readable, seekable file."""

    def __init__(self, source: Source) -> None:
        self._source = source
        self._at = 0

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        base = {io.SEEK_SET: 0, io.SEEK_CUR: self._at, io.SEEK_END: self._source.size}[whence]
        self._at = max(0, base + offset)
        return self._at

    def tell(self) -> int:
        return self._at

    def readinto(self, buffer: bytearray | memoryview) -> int:  # type: ignore[override]
        block = self._source.read_at(self._at, len(buffer))
        buffer[: len(block)] = block
        self._at += len(block)
        return len(block)


def as_file(source: Source, buffer: int = 1 << 18) -> IO[bytes]:
    """A source as a buffered file; closing it leaves the source open."""
    return cast(IO[bytes], io.BufferedReader(_SourceFile(source), buffer))
