"""Modes and times of files, as far as their file system keeps them."""

import errno
import os

CANNOT = frozenset({errno.EPERM, errno.ENOTSUP, errno.EOPNOTSUPP, errno.ENOSYS, errno.EINVAL})
"""Numbers of errors that mean that it cannot be: FAT has no modes, and others' folders may be given no time."""

FULL = frozenset({errno.ENOSPC, errno.EDQUOT})
"""Numbers of errors that mean that the volume, or what the user may have of it, is full."""


def set_mode(path: str, mode: int) -> None:
    """Set permission bits; ignored by file systems that have none."""
    try:
        os.chmod(path, mode)
    except OSError as error:
        if error.errno not in CANNOT:
            raise


def set_times(
    file: str | int, accessed: int, modified: int, *, at: int | None = None, follow_symlinks: bool = True
) -> None:
    """Set times, in nanoseconds, of a file or directory given by path or descriptor; ignored where impossible.

    `at`: descriptor of the directory that a path is relative to.
    """
    try:
        os.utime(file, ns=(accessed, modified), dir_fd=at, follow_symlinks=follow_symlinks)
    except OSError as error:
        if error.errno not in CANNOT:
            raise
