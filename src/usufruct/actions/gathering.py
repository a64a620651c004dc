"""Find the downloads that a command's words mean: files, the archives in a folder, what a wildcard matches."""

import os
from collections.abc import Iterator, Sequence
from pathlib import Path

from usufruct.archives.marks import begins_archive
from usufruct.archives.split_sets import parts_beside
from usufruct.errors import WrongUsage
from usufruct.planning.names import is_archive_name


def gathered(words: Sequence[Path]) -> list[Path]:
    """Return the downloads, each once, in the order of the words; of a split set only the part that stands for all.

    A folder means the archives directly in it. A wildcard that is no file's name is matched here, for shells that do
    not do it. Raises WrongUsage for a folder or wildcard without archives.
    """
    seen: set[Path] = set()
    found = []
    for word in words:
        for path in _files_of(word):
            if path.absolute() not in seen:
                seen.update(part.absolute() for part in parts_beside(path))
                found.append(path)
    return found


def _files_of(word: Path) -> Iterator[Path]:
    if word.is_dir():
        archives = [path for path in sorted(word.iterdir()) if path.is_file() and is_archive(path)]
        if not archives:
            raise WrongUsage(f"There is no archive in {word}.", remedy="Name a folder that holds some, or an archive.")
        yield from archives
    elif not os.path.lexists(word) and any(c in word.name for c in "*?["):
        matches = sorted(word.parent.glob(word.name)) if word.parent.is_dir() else []
        matches = [path for path in matches if word.name.startswith(".") or not path.name.startswith(".")]
        if not matches:
            raise WrongUsage(f"Nothing matches {word}.", remedy="Check the pattern; `ls` lists the folder.")
        yield from (path for path in matches if path.is_file())
    else:
        yield word


def is_archive(path: Path) -> bool:
    """Whether a file's name or its first bytes say that it is an archive."""
    if path.name.startswith("."):
        return False
    if is_archive_name(path.name):
        return True
    try:
        with path.open("rb") as file:
            return begins_archive(file.read(512))
    except OSError:
        return False
