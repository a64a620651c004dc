"""Turn what the system refused into an error that says what to do."""

import errno
from contextlib import suppress

from usufruct.errors import MachineError
from usufruct.files.mounts import mount_point
from usufruct.files.paths import nearest


def refusal_of(error: OSError, kept: str = "Nothing was changed.") -> MachineError:
    """The error for an error of the system's."""
    path = str(error.filename or "")
    if error.errno == errno.EROFS and path:
        return read_only(path, kept)
    where = f" at {path}" if path else ""
    return MachineError(
        f"The system refused{where}: {error.strerror or error}.",
        kept=kept,
        remedy="Check permissions, free space, the drive, and whether a program holds the file open; then try again.",
        path=path,
    )


def read_only(path: str, kept: str = "Nothing was changed.") -> MachineError:
    """The error for a drive that is read-only; the same for all paths on it."""
    drive = path
    with suppress(OSError):
        drive = mount_point(nearest(path))
    return MachineError(
        f"The drive at {drive} can only be read.",
        kept=kept,
        remedy="Make it writable (by its switch, or by mounting it anew), then try again.",
        path=drive,
    )
