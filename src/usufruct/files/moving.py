"""Moving a file so that it is never in no place: whole and checked in the new one before the old one goes."""

import os
import shutil
from pathlib import Path

from usufruct.errors import MachineError
from usufruct.files.looking import digest_of
from usufruct.files.platform import Platform, sync_file


def copy_checked(source: str, directory: Path, digest: bytes, platform: Platform) -> str:
    """Give a file a second place in a directory, under its own name or a free one; gives its absolute path.

    By a second name where the volume allows it, otherwise by a copy that is compared with the digest and made durable.
    A file there that has this content already serves as it is. Raises MachineError; the source stays in any case.
    """
    directory.mkdir(parents=True, exist_ok=True)
    target = _free(directory / os.path.basename(source), digest)
    if target.exists() or platform.link(source, str(target)):
        return str(target)
    partial = target.with_name(f".{target.name}.partial")
    try:
        shutil.copy2(source, partial)
        if digest_of(str(partial)) != digest:
            raise MachineError(
                f"The copy of {source} in {directory} is not what it should be.",
                remedy="The archive stays where it was. Check the drive of the store.",
                path=source,
            )
        sync_file(str(partial))
        partial.replace(target)
    finally:
        partial.unlink(missing_ok=True)
    platform.sync_names([str(directory)])
    return str(target)


def _free(target: Path, digest: bytes) -> Path:
    """The path, or one beside it with a number, that is free or has the content already."""
    stem, suffix, number = target.stem, target.suffix, 2
    while os.path.lexists(target) and not (target.is_file() and digest_of(str(target)) == digest):
        target, number = target.with_name(f"{stem} ({number}){suffix}"), number + 1
    return target
