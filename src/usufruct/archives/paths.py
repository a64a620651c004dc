"""Entry names as archives have them, made into safe paths."""

import re

_DRIVE = re.compile(r"[A-Za-z]:")


class UnsafeName(Exception):
    """Why an entry of this name is never placed."""


def safe_path(name: str) -> str:
    r"""The normalised path of an entry: `/`-separated, without `.` and doubled separators; `\` counts as `/`.

    Empty for the archive's top itself. Raises UnsafeName for a name that would leave the destination.
    """
    path = name.replace("\\", "/") if "\\" in name else name
    if "\0" in path:
        raise UnsafeName("its name holds a NUL character")
    if path.startswith("/"):
        raise UnsafeName("its path is absolute")
    if path[1:2] == ":" and _DRIVE.match(path):
        raise UnsafeName("its path begins with a drive letter")
    parts = [part for part in path.split("/") if part not in ("", ".")]
    if ".." in parts:
        raise UnsafeName("its path leads out of the destination by `..`")
    return "/".join(parts)
