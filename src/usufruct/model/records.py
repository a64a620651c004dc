"""What is at a path, and what is stacked there.

Named tuples: there are as many as files, and they are sorted, taken apart and made from rows as they are.
"""

from enum import StrEnum
from typing import NamedTuple


class FileKind(StrEnum):
    """What is at a path."""

    FILE = "file"
    LINK = "link"
    DIRECTORY = "directory"
    OTHER = "other"
    """A device, pipe or socket: never touched."""
    ABSENT = "absent"


TOO_LATE = 1 << 63
"""Nanoseconds since 1970, in the year 2262, from which on neither the record nor a column holds a time."""


class FileState(NamedTuple):
    """What is, was or will be at one path."""

    kind: FileKind
    size: int = 0
    """Bytes; 0 for all but files."""
    modified: int = 0
    """Nanoseconds since 1970 UTC, as the file system keeps them."""
    mode: int = 0
    """Permission bits."""
    inode: int = 0
    """A hint that a file is the very same one; 0 where unknown."""
    digest: bytes = b""
    """BLAKE3 of a file's content; empty where not computed."""
    target: str = ""
    """Where a link points."""

    def is_same_file(self, other: "FileState") -> bool:
        """Kind, size, time and inode agree, so nobody wrote in between; of a directory the kind is all."""
        if self.kind != other.kind:
            return False
        if self.kind in (FileKind.ABSENT, FileKind.DIRECTORY):
            return True
        return (
            self.size == other.size
            and self.modified == other.modified
            and self.inode == other.inode
            and self.target == other.target
        )

    def has_same_content(self, other: "FileState") -> bool:
        """The same kind and, by digest or target, the same content; False where a digest is unknown."""
        if self.kind != other.kind:
            return False
        if self.kind == FileKind.FILE:
            return self.size == other.size and self.digest == other.digest != b""
        return self.target == other.target

    def is_alike(self, other: "FileState") -> bool:
        """The same content with the same time and mode: nobody could tell one from the other."""
        if not self.has_same_content(other):
            return False
        if self.kind == FileKind.FILE:
            return (self.modified, self.mode) == (other.modified, other.mode)
        return self.kind != FileKind.LINK or self.modified == other.modified


ABSENT = FileState(FileKind.ABSENT)


class Layer(NamedTuple):
    """One of the things stacked at a destination; the highest is on disk."""

    level: int
    holding: int | None
    """None: the user's own, either the original or what the user made of a placed file."""
    state: FileState
    entry: str = ""
    """The archive's path of it; empty for the user's own."""
    is_backed: bool = False
    """Its bytes lie in the backups."""
