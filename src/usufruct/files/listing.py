"""The names in a directory; one that has not changed since it was read is not read again.

A folder of loose files grows to ten thousands over the years, and a hundred archives that go into it are each compared
with all of its names.
"""

import os
import time
from functools import cached_property

from usufruct.planning.names import lowered, spelling_key, spelling_keys

_UNCHANGED_FOR = 3_000_000_000
"""Nanoseconds for which a directory must have been left alone: some file systems keep times of two seconds."""
_MOST = 8
"""Directories that are remembered."""
_LARGEST = 100_000
"""Names of one that is remembered; more would fill the memory while files are unpacked."""
_LASTS = 2.0
"""Seconds for which one is remembered: there are file systems that do not tell when a directory changed."""
_known: dict[str, tuple[tuple[int, int, int], float, "Listed"]] = {}


class Listed:
    """The names in a directory at one moment."""

    def __init__(self, names: list[str]) -> None:
        self.names = frozenset(names)

    @cached_property
    def in_order(self) -> list[str]:
        """The names, sorted."""
        return sorted(self.names)

    @cached_property
    def lowered(self) -> list[str]:
        """The same in lower case, in the same order."""
        return lowered(self.in_order)

    @cached_property
    def by_key(self) -> dict[str, str]:
        """Name without case and Unicode form → as it is spelled here."""
        names = list(self.names)
        keys = dict(zip(spelling_keys(names), names, strict=True))
        # Of several that differ in nothing else it is always the same.
        return keys if len(keys) == len(names) else {spelling_key(name): name for name in self.in_order}


def listed(directory: str) -> Listed:
    """What is in a directory. Raises OSError where it cannot be read."""
    found = os.stat(directory)
    fingerprint = found.st_dev, found.st_ino, found.st_mtime_ns
    known = _known.get(directory)
    if known and known[0] == fingerprint and time.monotonic() - known[1] < _LASTS:
        _known[directory] = _known.pop(directory)
        return known[2]
    names = Listed(os.listdir(directory))
    _known.pop(directory, None)
    # Of one that was changed a moment ago, a change in the next would not be seen.
    if time.time_ns() - found.st_mtime_ns > _UNCHANGED_FOR and len(names.names) <= _LARGEST:
        _known[directory] = fingerprint, time.monotonic(), names
        if len(_known) > _MOST:
            del _known[next(iter(_known))]
    return names
