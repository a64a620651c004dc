"""Files kept in a directory of our own because their place is taken and nothing may be lost."""

import os
from pathlib import Path

from usufruct.files.moving import move_whole
from usufruct.files.platform import Platform
from usufruct.files.private import make_private
from usufruct.model.name_rules import numbered_name


def kept_aside(path: str, aside: Path, platform: Platform) -> str:
    """Move a file into a directory of our own, under its name or a free one; return its absolute path there."""
    target = free_path(os.path.basename(path), aside, platform)
    move_whole(path, target, platform)
    return target


def free_path(name: str, directory: Path, platform: Platform) -> str:
    """The absolute path of a name in a directory, which is created, or of one with a number that is free there."""
    make_private(directory)
    target, number = directory / name, 2
    while os.path.lexists(target):
        target, number = directory / numbered_name(name, number), number + 1
    return str(target)
