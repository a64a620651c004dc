"""The desktop's trash; where there is none, what would go there is kept among our own files.

Source: freedesktop.org's Trash specification 1.0.
"""

import os
from contextlib import suppress
from datetime import datetime
from pathlib import Path
from urllib.parse import quote

from usufruct.files.copying import copy_whole
from usufruct.files.platform import Platform
from usufruct.files.private import make_private
from usufruct.files.saved import free_path, kept_aside
from usufruct.model.name_rules import NameRules, numbered_name

_NOTE = ".trashinfo"


def to_trash(path: str, otherwise: Path, platform: Platform) -> str:
    """Move a file to the desktop's trash, or into a directory of our own if that cannot take it. It is durable there.

    Returns an absolute path in `otherwise`, or nothing for the trash.
    """
    # Imported here: most commands trash nothing.
    from send2trash import send2trash

    above = os.path.dirname(os.path.abspath(path))
    try:
        send2trash(path)
    except Exception:  # noqa: BLE001 - desktops fail in ways of their own, and the file must not be lost for it
        return kept_aside(path, otherwise, platform)
    # The trash is the volume's or the home's, and the library does not say which.
    platform.sync_elsewhere(place for place in (above, str(Path.home())) if os.path.isdir(place))
    return ""


def copy_to_trash(path: str, otherwise: Path, platform: Platform, content: str | None = None) -> str:
    """Put a copy of a file into the trash, to be restored to the file's own path; the file itself stays.

    `content` is another path to copy from, if the bytes are elsewhere. The copy is durable when this returns. Returns
    an absolute path in `otherwise`, or nothing for the trash.
    """
    if platform.has_open_desktop:
        with suppress(OSError):
            _copy_to_home_trash(path, content or path, platform)
            return ""
    # Other desktops do not record a path: include as much of it as possible in the name.
    place = otherwise / os.path.relpath(os.path.dirname(path), Path(path).anchor)
    copy = free_path(os.path.basename(path), place, platform)
    copy_whole(content or path, copy, platform)
    if platform.has_open_desktop:
        return copy
    from send2trash import send2trash

    try:
        send2trash(copy)
    except Exception:  # noqa: BLE001 - as above
        return copy
    platform.sync_elsewhere([str(place)])
    return ""


def _copy_to_home_trash(path: str, content: str, platform: Platform) -> None:
    """Put a copy into the trash of the user's home, with the path to restore it to; raises OSError."""
    data = os.environ.get("XDG_DATA_HOME", "")
    trash = Path(data if os.path.isabs(data) else Path.home() / ".local/share") / "Trash"
    for directory in (trash / "files", trash / "info"):
        make_private(directory)
    told = f"[Trash Info]\nPath={quote(os.fsencode(path))}\nDeletionDate={datetime.now():%Y-%m-%dT%H:%M:%S}\n"
    # The info file's name is longer, and both must fit.
    first = name = NameRules(longest=255 - len(_NOTE)).safe(os.path.basename(path))
    number = 1
    while not _is_put_there(name, told, content, trash, platform):
        number += 1
        name = numbered_name(first, number)


def _is_put_there(name: str, told: str, content: str, trash: Path, platform: Platform) -> bool:
    """Whether the name was free in the trash, and the copy has it now."""
    info = trash / "info" / f"{name}{_NOTE}"
    try:
        # Creating the info file reserves the name.
        with info.open("x", encoding="ascii") as file:
            file.write(told)
    except FileExistsError:
        return False
    try:
        copy_whole(content, str(trash / "files" / name), platform)
    except BaseException as error:
        info.unlink()
        if isinstance(error, FileExistsError):
            # A file without an info file is there: leave it alone.
            return False
        raise
    platform.sync_file(str(info))
    platform.sync_names([str(info.parent)])
    return True
