"""The desktop's trash, and a place of our own where there is none."""

import os
import shutil
from pathlib import Path


def to_trash(path: str, otherwise: Path) -> str:
    """Put a file into the desktop's trash; where that cannot take it, into a directory of our own.

    Gives where it went: an absolute path in `otherwise`, or nothing for the trash.
    """
    # Only here: most commands trash nothing.
    from send2trash import send2trash

    try:
        send2trash(path)
    except Exception:  # noqa: BLE001 - desktops fail in ways of their own, and the file must not be lost for it
        return _kept(path, otherwise)
    return ""


def _kept(path: str, otherwise: Path) -> str:
    otherwise.mkdir(parents=True, exist_ok=True)
    stem, suffix = os.path.splitext(os.path.basename(path))
    target, number = otherwise / f"{stem}{suffix}", 2
    while os.path.lexists(target):
        target, number = otherwise / f"{stem} ({number}){suffix}", number + 1
    shutil.move(path, target)
    return str(target)


def copy_to_trash(path: str, otherwise: Path, content: str | None = None) -> str:
    """Put a copy of a file into the trash under the file's own name; the file stays. Gives what `to_trash` gives.

    `content` is another path to copy from, where the file's bytes lie elsewhere.
    """
    import tempfile

    # Beside our own data, so that the trash of the user's own volume takes it.
    otherwise.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(prefix=".saving-", dir=otherwise) as passing:
        copy = os.path.join(passing, os.path.basename(path))
        source = content or path
        if os.path.islink(source):
            os.symlink(os.readlink(source), copy)
        else:
            shutil.copy2(source, copy)
        return to_trash(copy, otherwise)
