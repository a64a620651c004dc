"""Check each file's size and checksum, and make the errors for damage."""

from collections.abc import Callable, Iterable, Iterator
from typing import Protocol

from usufruct.archives.streams.zlib_engine import crc32
from usufruct.errors import DamagedArchive


class _Named(Protocol):
    path: str
    name: str
    format: str


def damaged(archive: _Named, what: object) -> DamagedArchive:
    """Return the error for an archive that cannot be listed, or read to its end."""
    return DamagedArchive(
        f"{archive.name} is a damaged {archive.format}: {str(what) or 'it breaks off'}.",
        remedy="Download it again.",
        path=archive.path,
    )


def damaged_entry(archive: _Named, entry: str, what: str) -> DamagedArchive:
    """Return the error for one entry; `what` continues the sentence after its name."""
    return DamagedArchive(
        f"{entry} in {archive.name} {what}.", remedy="The archive is damaged: download it again.", path=archive.path
    )


def checked(
    blocks: Iterable[bytes],
    size: int,
    checksum: int | None,
    error: Callable[[str], DamagedArchive],
    *,
    may_be_less: bool = False,
) -> Iterator[bytes]:
    """Yield the blocks of a file; `error` is raised if its size or its CRC-32, where that is known, is not as stated.

    `may_be_less`: the size is only a limit.
    """
    total = found = 0
    for block in blocks:
        total += len(block)
        if total > size:
            raise error(f"unpacks to more than its stated {size:,} bytes")
        if checksum is not None:
            found = crc32(block, found)
        yield block
    if total != size and not may_be_less:
        raise error(f"unpacks to {total:,} bytes, not its stated {size:,}")
    if checksum is not None and found != checksum:
        raise error("does not match its checksum")
