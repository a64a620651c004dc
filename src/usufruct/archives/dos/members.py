"""What arj, zoo and arc share: a member, its checksum of 16 bits, and the names they were written with."""

from collections.abc import Iterator

from msgspec import Struct

from usufruct.model.entries import EntryKind


class DosFault(Exception):
    """The archive does not hold together; the text says how and where."""


class DosMember(Struct):
    """One file or directory of an old archive."""

    raw: bytes
    """Its path, with `/`, in an encoding that is not said."""
    offset: int
    """Where its packed bytes begin."""
    packed: int
    size: int
    modified: int | None
    """Nanoseconds since 1970."""
    checksum: int
    method: int
    kind: EntryKind = EntryKind.FILE
    refusal: str = ""
    """Why its content cannot be read."""


def _sums() -> tuple[int, ...]:
    found = []
    for value in range(256):
        for _ in range(8):
            value = value >> 1 ^ (0xA001 if value & 1 else 0)
        found.append(value)
    return tuple(found)


_SUMS = _sums()


def crc16(data: bytes, before: int = 0) -> int:
    """The CRC-16 with the polynomial 0x8005, reflected, as arc and zoo state it."""
    sums = _SUMS
    for byte in data:
        before = before >> 8 ^ sums[(before ^ byte) & 0xFF]
    return before


def in_blocks(parts: Iterator[bytes], size: int) -> Iterator[bytes]:
    """Parts put together to blocks of about `size` bytes."""
    kept: list[bytes] = []
    count = 0
    for part in parts:
        kept.append(part)
        count += len(part)
        if count >= size:
            yield b"".join(kept)
            kept, count = [], 0
    if kept:
        yield b"".join(kept)
