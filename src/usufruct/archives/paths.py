"""Make safe paths of entry names."""

import re

from usufruct.planning.names import climbs

_DRIVE = re.compile(r"[A-Za-z]:")


class UnsafeName(Exception):
    """Why an entry with this name is never placed."""


def safe_path(name: str) -> str:
    """Return an entry's normalised path: with `/` as separator, without `.` and empty parts.

    Empty for the archive's top itself. Raises UnsafeName for a name that would lead out of the destination.
    """
    path = name.replace("\\", "/") if "\\" in name else name
    if "\0" in path:
        raise UnsafeName("its name holds a NUL character")
    if path.startswith("/"):
        raise UnsafeName("its path is absolute")
    if path[1:2] == ":" and _DRIVE.match(path):
        raise UnsafeName("its path begins with a drive letter")
    if ".." in path and climbs(path):
        raise UnsafeName("its path leads out of the destination by `..`")
    return "/".join(part for part in path.split("/") if part not in ("", "."))
