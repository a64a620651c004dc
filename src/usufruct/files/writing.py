"""Write staged files: new and complete, with time and mode, hashed while they are written."""

import os
import stat
from collections.abc import Iterable

from blake3 import blake3

from usufruct.errors import MachineError
from usufruct.files.attributes import CANNOT, set_mode, set_times
from usufruct.files.looking import state_of
from usufruct.model.records import FileState

FILE_MODE, PROGRAM_MODE = 0o644, 0o755
_NEW = os.O_CREAT | os.O_EXCL | os.O_WRONLY | getattr(os, "O_BINARY", 0)
_LEAST_HOLE = 1 << 16
"""Bytes of zeros that are left out on disk, where they come as one block."""
_ZEROS = bytes(1 << 20)
_TIME_BY_DESCRIPTOR = os.utime in os.supports_fd


def write_new(path: str, blocks: Iterable[bytes], modified: int | None, mode: int) -> FileState:
    """Write a file that must not exist; return its state with digest. It is not durable yet.

    `modified` is in nanoseconds since 1970; None means now. After an error the unfinished file is removed together with
    the staging directory.
    """
    digest = blake3()
    descriptor = os.open(path, _NEW, mode)
    try:
        ends_in_hole = False
        for block in blocks:
            digest.update(block)
            ends_in_hole = len(block) >= _LEAST_HOLE and not block[0] and block == _ZEROS[: len(block)]
            if ends_in_hole:
                # A sparse file takes only the space of its data.
                os.lseek(descriptor, len(block), os.SEEK_CUR)
                continue
            written = os.write(descriptor, block)
            while written < len(block):
                written += os.write(descriptor, memoryview(block)[written:])
        if ends_in_hole:
            os.ftruncate(descriptor, os.lseek(descriptor, 0, os.SEEK_CUR))
        if modified is not None and _TIME_BY_DESCRIPTOR:
            set_times(descriptor, modified, modified)
        found = os.fstat(descriptor)
    finally:
        os.close(descriptor)
    if modified is not None and not _TIME_BY_DESCRIPTOR:
        set_times(path, modified, modified)
        found = os.lstat(path)
    if stat.S_IMODE(found.st_mode) != mode:
        # The umask may be stricter than the mode: other users of the application could not read the file.
        set_mode(path, mode)
        found = os.lstat(path)
    return state_of(found, digest=digest.digest())


def write_link(path: str, target: str, modified: int | None) -> FileState:
    """Create a symbolic link that must not exist; return its state.

    Raises MachineError if the file system has no links, or the user may not create one.
    """
    try:
        os.symlink(target, path)
    except OSError as error:
        if error.errno not in CANNOT:
            raise
        raise MachineError(
            f"{os.path.basename(path)} is a link, and none can be made where it belongs.",
            remedy="Leave it out with --skip, use another volume, or get the right to make links from your system.",
            path=path,
        ) from error
    if modified is not None and os.utime in os.supports_follow_symlinks:
        set_times(path, modified, modified, follow_symlinks=False)
    return state_of(os.lstat(path), target)


def restore_attributes(path: str, state: FileState, found: os.stat_result | None = None) -> FileState:
    """Set the mode and time of `state`; return the state it has now, with the digest of `state`.

    `found`: its present state, if known.
    """
    found = found or os.lstat(path)
    if stat.S_IMODE(found.st_mode) != state.mode:
        set_mode(path, state.mode)
    if found.st_mtime_ns != state.modified:
        set_times(path, found.st_atime_ns, state.modified)
    elif stat.S_IMODE(found.st_mode) == state.mode:
        return state._replace(inode=found.st_ino)
    return state_of(os.lstat(path), digest=state.digest)
