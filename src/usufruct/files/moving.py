"""Move a file so that it always exists somewhere: the new one is complete and checked before the old one is removed."""

import os
from pathlib import Path

from usufruct.files.copying import copy_whole
from usufruct.files.looking import digest_of
from usufruct.files.platform import Platform
from usufruct.files.private import make_private
from usufruct.model.name_rules import numbered_name


def place_twice(source: str, directory: Path, digest: bytes, platform: Platform) -> str:
    """Give a file a second place in a directory, under its own name or a free one; return its absolute path.

    By a hard link if the file system allows it, otherwise by a copy; either is durable then. An existing file with the
    same content is used as it is. Raises MachineError; the source stays in any case.
    """
    make_private(directory)
    target = _free(directory / os.path.basename(source), digest)
    if target.exists():
        platform.sync_file(str(target))
        platform.sync_names([str(directory)])
    elif platform.link(source, str(target)):
        # The archive may have just arrived, and not be on the disk yet.
        platform.sync_file(str(target))
        platform.sync_names([str(directory)])
    else:
        copy_whole(source, str(target), platform, digest=digest)
    return str(target)


def move_whole(source: str, target: str, platform: Platform) -> None:
    """Move a file to a new name, possibly on another drive; the old one is removed when the new one is durable.

    Raises FileExistsError if the name exists.
    """
    if os.stat(os.path.dirname(target)).st_dev == os.lstat(source).st_dev:
        platform.rename_new(source, target)
        platform.sync_names([os.path.dirname(target)])
        return
    copy_whole(source, target, platform)
    platform.unlink(source)


def are_one_name(first: str, second: str) -> bool:
    """Whether two paths are spellings of the same name of a file, so that removing one removes the other."""
    if not os.path.lexists(second) or not os.path.samestat(os.lstat(first), os.lstat(second)):
        return False
    above, names = (first, second), (os.path.basename(first), os.path.basename(second))
    if not os.path.samefile(*(os.path.dirname(os.path.abspath(path)) for path in above)):
        return False
    # Two names in one directory are two links only if the file has several.
    return names[0] == names[1] or os.lstat(first).st_nlink == 1


def _free(target: Path, digest: bytes) -> Path:
    """The path, or one beside it with a number, that is free or already has the content."""
    free, number = target, 2
    while os.path.lexists(free) and not (free.is_file() and digest_of(str(free)) == digest):
        free, number = target.with_name(numbered_name(target.name, number)), number + 1
    return free
