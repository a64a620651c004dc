"""What the formats share that are one stream of members, each after its header."""

from array import array
from collections.abc import Callable, Iterator

from msgspec import Struct

from usufruct.archives.reading import BLOCK


class MemberFault(Exception):
    """The headers are inconsistent."""


_FAR = 2 * BLOCK
"""Bytes from which on it is quicker to begin a new block behind them."""


class VolumeFault(MemberFault):
    """It is one of several volumes, but not the first."""


class StreamMember(Struct):
    """One member of a stream, as its header describes it."""

    name: bytes
    kind: str
    """`file`, `directory`, `link`, `hard link` or `other`."""
    size: int
    """Bytes once unpacked."""
    modified: int | None
    """Nanoseconds since 1970."""
    mode: int
    target: bytes = b""
    offset: int = 0
    """Where its data begins in the plain stream."""
    stored: int = 0
    """Bytes of its data there."""
    pieces: "array[int] | None" = None
    """Of a sparse file: offset and length of each piece that is stored, one behind the other; zeros between."""
    checksum: int | None = None
    """The sum of its bytes, modulo 2³², where the format states it."""
    is_text: bool = False
    """The names are stated to be UTF-8."""


class Forward:
    """Reads bytes forwards, in large blocks."""

    def __init__(self, read: Callable[[int], bytes], jump: Callable[[int], bool] | None = None) -> None:
        """`jump` skips many bytes without reading them, if possible, and returns whether there were so many."""
        self._read, self._jump = read, jump
        self._block = b""
        self._at = 0
        self.offset = 0
        """Bytes taken and skipped so far."""

    def take(self, count: int) -> bytes:
        """Return the next bytes; fewer only at the end."""
        if self._at + count <= len(self._block):
            taken = self._block[self._at : self._at + count]
            self._at += count
            self.offset += count
            return taken
        parts = [self._block[self._at :]]
        left = count - len(parts[0])
        self._block, self._at = b"", 0
        while left > 0 and (block := self._read(BLOCK)):
            parts.append(block[:left])
            if len(block) > left:
                self._block, self._at = block, left
            left -= len(parts[-1])
        taken = b"".join(parts)
        self.offset += len(taken)
        return taken

    def skip(self, count: int) -> None:
        """Skip bytes; MemberFault if there are too few."""
        while count > 0:
            here = min(count, len(self._block) - self._at)
            if here:
                self._at += here
                self.offset += here
                count -= here
                continue
            if self._jump and count > _FAR:
                if not self._jump(count):
                    raise MemberFault("it breaks off")
                self.offset += count
                return
            self._block, self._at = self._read(BLOCK), 0
            if not self._block:
                raise MemberFault("it breaks off")

    def rest(self) -> Iterator[int]:
        """Read to the end; yields the length of each block."""
        while block := self._next():
            self._at = len(self._block)
            self.offset += len(block)
            yield len(block)

    def zeros(self) -> Iterator[int]:
        """Skip zeros up to the first other byte; yields how many were skipped each time."""
        while block := self._next():
            count = len(block) - len(block.lstrip(b"\0"))
            self._at += count
            self.offset += count
            yield count
            if count < len(block):
                return

    def peek(self, count: int) -> bytes:
        """Return the next bytes without consuming them; fewer only at the end."""
        taken = self.take(count)
        self.offset -= len(taken)
        self._block, self._at = taken + self._block[self._at :], 0
        return taken

    def _next(self) -> bytes:
        """Return the unread part of the last block, or the next block; empty at the end."""
        if self._at == len(self._block):
            self._block, self._at = self._read(BLOCK), 0
        return self._block[self._at :]
