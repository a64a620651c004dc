"""What is Usufruct's own is for its user alone, from the moment that it is made."""

import os
from pathlib import Path

_MODE = 0o600


def make_private(directory: Path) -> None:
    """Make a directory of our own if it is not there, and those above it, as the desktop's standards ask."""
    if directory.is_dir():
        return
    make_private(directory.parent)
    directory.mkdir(mode=0o700, exist_ok=True)


def private_opener(path: str, flags: int) -> int:
    """To be given to `open`: a file that is made by it is its user's alone."""
    return os.open(path, flags, _MODE)
