"""How the files of a 7z are packed together: a small tree of methods for each folder.

The layout is in 7zFormat.txt of the public domain LZMA SDK, and the methods' numbers in its Methods.txt.
"""

from msgspec import Struct, field

LZMA, LZMA2, PPMD, LOCK = b"\x03\x01\x01", b"\x21", b"\x03\x04\x01", b"\x06\xf1\x07\x01"
"""Numbers of methods."""


class SevenFault(Exception):
    """The headers are inconsistent."""


class UnknownMethod(Exception):
    """A method is not supported; the message names it."""


class Coder(Struct, frozen=True):
    """One step of packing."""

    method: bytes
    properties: bytes
    inputs: int = 1
    outputs: int = 1

    @property
    def dictionary(self) -> int:
        """Return the bytes of memory that unpacking takes; 0 if they are negligible."""
        if self.method == LZMA and len(self.properties) == 5:
            return int.from_bytes(self.properties[1:], "little")
        if self.method == LZMA2 and self.properties:
            power = self.properties[0]
            return 0xFFFFFFFF if power >= 40 else (2 | power & 1) << (power // 2 + 11)
        if self.method == PPMD and len(self.properties) >= 5:
            return int.from_bytes(self.properties[1:5], "little")
        return 0


class CoderChain(Struct):
    """A stream of files that are packed together."""

    coders: list[Coder]
    binds: list[tuple[int, int]]
    """Input and output of each connection between coders."""
    takers: list[int]
    """The inputs that take packed streams, in the order of these."""
    packed: list[tuple[int, int]] = field(default_factory=list)
    """Where each packed stream begins in the file, and its size in bytes."""
    sizes: list[int] = field(default_factory=list)
    """Bytes that each output gives."""
    checksum: int | None = None
    streams: int = 1
    """Files in it."""

    @property
    def size(self) -> int:
        """Return the unpacked size in bytes: of the output that is no other coder's input."""
        bound = {output for _, output in self.binds}
        return next((size for number, size in enumerate(self.sizes) if number not in bound), 0)
