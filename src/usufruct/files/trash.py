"""The desktop's trash; where there is none, what would go there is kept among our own files."""

import os
from contextlib import suppress
from pathlib import Path

from usufruct.files.copying import copy_whole
from usufruct.files.platform import Platform
from usufruct.files.saved import kept_aside

_SAVING = ".saving-"


def to_trash(path: str, otherwise: Path, platform: Platform) -> str:
    """Put a file into the desktop's trash; where that cannot take it, into a directory of our own. It is durable there.

    Gives where it went: an absolute path in `otherwise`, or nothing for the trash.
    """
    # Only here: most commands trash nothing.
    from send2trash import send2trash

    above = os.path.dirname(os.path.abspath(path))
    try:
        send2trash(path)
    except Exception:  # noqa: BLE001 - desktops fail in ways of their own, and the file must not be lost for it
        return kept_aside(path, otherwise, platform)
    # The trash is one of the volume or one of the user's home, and does not say which it was.
    platform.sync_elsewhere(place for place in (above, str(Path.home())) if os.path.isdir(place))
    return ""


def copy_to_trash(path: str, otherwise: Path, platform: Platform, content: str | None = None) -> str:
    """Put a copy of a file into the trash under the file's own name; the file stays. Gives what `to_trash` gives.

    `content` is another path to copy from, where the file's bytes lie elsewhere. The copy is durable once this returns.
    """
    import tempfile

    # Beside our own data, so that the trash of the user's own volume takes it.
    otherwise.mkdir(parents=True, exist_ok=True, mode=0o700)
    for left in otherwise.glob(f"{_SAVING}*"):
        # Of a command that was cut off; what it was about to save is still where it was.
        with suppress(OSError):
            platform.remove_tree(str(left))
    with tempfile.TemporaryDirectory(prefix=_SAVING, dir=otherwise) as passing:
        copy = os.path.join(passing, os.path.basename(path))
        copy_whole(content or path, copy, platform)
        return to_trash(copy, otherwise, platform)
