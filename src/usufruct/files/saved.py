"""Files that are kept in a directory of our own because their place is taken and nothing may be lost."""

import os
from pathlib import Path

from usufruct.files.copying import clear_partial
from usufruct.files.moving import move_whole
from usufruct.files.platform import Platform


def kept_aside(path: str, aside: Path, platform: Platform) -> str:
    """Move a file into a directory of our own, under its name or a free one; gives its absolute path there."""
    target = free_path(os.path.basename(path), aside, platform)
    move_whole(path, target, platform)
    return target


def free_path(name: str, directory: Path, platform: Platform) -> str:
    """The absolute path of a name in a directory, which is made, or of one with a number that is free there."""
    directory.mkdir(parents=True, exist_ok=True, mode=0o700)
    clear_partial(str(directory), platform)
    stem, suffix = os.path.splitext(name)
    target, number = directory / name, 2
    while os.path.lexists(target):
        target, number = directory / f"{stem} ({number}){suffix}", number + 1
    return str(target)
