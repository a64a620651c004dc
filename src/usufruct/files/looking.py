"""Inspect what is on disk without changing it."""

import os
import stat
from collections.abc import Iterable, Iterator

from blake3 import blake3

from usufruct.model.records import ABSENT, FileKind, FileState

_FIRST, BLOCK = 1 << 16, 1 << 20
"""Bytes read at first, and from then on at a time."""


def state_at(path: str) -> FileState:
    """The state of what is at a path, without following links; a file's digest is left out."""
    try:
        found = os.lstat(path)
    except (FileNotFoundError, NotADirectoryError):
        return ABSENT
    return state_of(found, os.readlink(path) if stat.S_ISLNK(found.st_mode) else "")


def looked_at(directory: str, names: Iterable[str]) -> Iterator[os.stat_result | FileState]:
    """What is at each of these names in a directory: a file's stat result, anything else's state."""
    lstat, is_file, above = os.lstat, stat.S_ISREG, f"{directory}/"
    for name in names:
        try:
            found = lstat(above + name)
        except (FileNotFoundError, NotADirectoryError):
            yield ABSENT
            continue
        if is_file(found.st_mode):
            yield found
        else:
            yield state_of(found, os.readlink(above + name) if stat.S_ISLNK(found.st_mode) else "")


def state_of(found: os.stat_result, target: str = "", digest: bytes = b"") -> FileState:
    """The state for a stat result; `target`: where a link points, `digest`: of a file's content."""
    mode = found.st_mode
    permissions = mode & 0o7777
    if stat.S_ISREG(mode):
        return FileState(FileKind.FILE, found.st_size, found.st_mtime_ns, permissions, found.st_ino, digest)
    if stat.S_ISLNK(mode):
        return FileState(FileKind.LINK, 0, found.st_mtime_ns, 0, found.st_ino, b"", target)
    if stat.S_ISDIR(mode):
        return FileState(FileKind.DIRECTORY, 0, found.st_mtime_ns, permissions, found.st_ino)
    return FileState(FileKind.OTHER, 0, found.st_mtime_ns, permissions, found.st_ino)


_READ = os.O_RDONLY | getattr(os, "O_BINARY", 0)


def digest_of(path: str, at: int | None = None) -> bytes:
    """BLAKE3 of a file's content, 32 bytes, read in blocks; `at`: descriptor of the directory that the path is in."""
    descriptor = os.open(path, _READ, dir_fd=at)
    try:
        digest = blake3()
        # Most files are small, and a large buffer takes longer to allocate than they take to read.
        count = _FIRST
        while block := os.read(descriptor, count):
            digest.update(block)
            count = BLOCK
        return digest.digest()
    finally:
        os.close(descriptor)


def with_digest(state: FileState, path: str, at: int | None = None) -> FileState:
    """The same state with its content's digest, which is computed for a file if unknown; `at` as for `digest_of`."""
    if state.kind is not FileKind.FILE or state.digest:
        return state
    return state._replace(digest=digest_of(path, at))
