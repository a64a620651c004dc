"""Usufruct's own files are readable by their user alone, from the moment they are created."""

import os
from pathlib import Path

_MODE = 0o600


def make_private(directory: Path) -> None:
    """Create a directory of our own and its parents if missing, with the modes that the desktop's standards ask for."""
    if directory.is_dir():
        return
    make_private(directory.parent)
    directory.mkdir(mode=0o700, exist_ok=True)


def private_opener(path: str, flags: int) -> int:
    """An opener for `open`: files created with it belong to their user alone."""
    return os.open(path, flags, _MODE)
