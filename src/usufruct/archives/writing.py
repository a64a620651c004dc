"""Write archives: their members, and the formats that can be written.

Each format has a module with one function `pack`. It writes all members to an open, seekable file, and regularly
reports how many bytes of content it has read. It raises OSError if a file cannot be read or written, and `Changed` for
a file that has changed since it was listed.
"""

from collections.abc import Callable, Iterable, Iterator, Sequence
from importlib import import_module
from typing import BinaryIO, NamedTuple

from usufruct.model.entries import EntryKind

EFFORTS = range(10)
"""0 stores, 9 takes the longest for the smallest archive."""
USUAL_EFFORT = 6
_BLOCK = 1 << 20


class Member(NamedTuple):
    """One file, link or empty directory that goes into an archive."""

    entry: str
    """Path in the archive, `/`-separated."""
    path: str
    """Absolute path on disk."""
    kind: EntryKind
    size: int
    modified: int
    """Nanoseconds since 1970 UTC."""
    can_run: bool = False
    target: str = ""
    """Where a link points, `/`-separated."""


class Changed(Exception):
    """A file has changed since it was listed; its path is the argument."""


class Format(NamedTuple):
    """A format that can be written."""

    module: str
    suffix: str
    can_lock: bool


FORMATS = {
    "zip": Format("zip.writer", ".zip", can_lock=True),
    "7z": Format("seven.writer", ".7z", can_lock=True),
    "tar": Format("tar.writer", ".tar", can_lock=False),
    "tar.gz": Format("tar.writer", ".tar.gz", can_lock=False),
    "tar.xz": Format("tar.writer", ".tar.xz", can_lock=False),
    "tar.zst": Format("tar.writer", ".tar.zst", can_lock=False),
}
_ALSO = {".tgz": "tar.gz", ".txz": "tar.xz", ".tzst": "tar.zst"}


def format_of_name(name: str) -> str | None:
    """Return the format for a file with this name; None if its suffix is not one that can be written."""
    suffixes = {one.suffix: name for name, one in FORMATS.items()} | _ALSO
    fitting = [suffix for suffix in suffixes if name.lower().endswith(suffix) and len(name) > len(suffix)]
    return suffixes[max(fitting, key=len)] if fitting else None


class How(NamedTuple):
    """Options for packing."""

    format: str
    """One of FORMATS."""
    effort: int
    password: str | None
    """None: it is not locked."""
    tell: Callable[[int], None]
    """Called with the bytes of content that were taken in since the last time."""


def pack_members(out: BinaryIO, members: Sequence[Member], how: How) -> None:
    """Write an archive of these members; see the module for its errors."""
    import_module(f"usufruct.archives.{FORMATS[how.format].module}").pack(out, members, how)


def blocks_of(member: Member) -> Iterator[bytes]:
    """Yield the content of a file; raises Changed if its size is not the listed one."""
    left = member.size
    with open(member.path, "rb", buffering=0) as file:  # noqa: PTH123 - one of very many
        while block := file.read(_BLOCK):
            left -= len(block)
            if left < 0:
                break
            yield block
    if left:
        raise Changed(member.path)


def whole_of(blocks: Iterable[bytes]) -> bytes:
    """Return all of a small file."""
    return b"".join(blocks)
