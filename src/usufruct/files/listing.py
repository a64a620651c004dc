"""The names in a directory; one that has not changed since is not read again.

A folder of loose files grows to hundreds of thousands over the years, and a hundred archives for it are each compared
with all of its names.
"""

import os
import time
from collections.abc import Collection, Iterable, Set
from functools import cached_property
from itertools import compress
from operator import ne

from usufruct.planning.names import lowered, spelling_key, spelling_keys

_UNCHANGED_FOR = 3_000_000_000
"""Nanoseconds for which a directory must have been left alone: some file systems keep times of two seconds."""
_MOST = 8
"""Directories that are remembered."""
_MOST_NAMES = 1_000_000
"""Names in all that are remembered."""
_LARGE = 100_000
"""Names of a directory that is not remembered while something is unpacked."""
_FEW = 20_000
"""Names of which tables are made at once."""
_LASTS = 2.0
"""Seconds for which one is remembered: there are file systems that do not tell when a directory changed."""
_known: dict[str, tuple[tuple[int, int, int], float, "Listed"]] = {}


class Listed:
    """The names in a directory at one moment.

    If there are very many, no table is built for a single question; later questions use what is remembered.
    """

    def __init__(self, names: list[str]) -> None:
        self._list = names
        self.is_asked_again = len(names) < _FEW

    def __len__(self) -> int:
        return len(self._list)

    @cached_property
    def names(self) -> frozenset[str]:
        """All of them."""
        return frozenset(self._list)

    @cached_property
    def in_order(self) -> list[str]:
        """The names, sorted."""
        return sorted(self._list)

    @cached_property
    def lowered(self) -> list[str]:
        """The same in lower case, in the same order."""
        return lowered(self.in_order)

    def among(self, wanted: Collection[str]) -> Set[str]:
        """Those of these names that exist here."""
        if self.is_asked_again:
            return self.names.intersection(wanted)
        few = set(wanted)
        return {name for name in self._list if name in few}

    def spelled(self, wanted: Iterable[str]) -> dict[str, str]:
        """Those of these names that exist here if case and Unicode form are ignored → their spelling here."""
        keys = {name: spelling_key(name) for name in wanted}
        plain = self.among(keys.values())
        others = self._others if self.is_asked_again else self._with_keys(set(keys.values()))
        # Among equals, the choice must always be the same.
        return {
            name: key if key in plain else others[key] for name, key in keys.items() if key in plain or key in others
        }

    @cached_property
    def _others(self) -> dict[str, str]:
        """Name without case and Unicode form → its spelling here, if that is different."""
        return self._with_keys(None)

    def _with_keys(self, wanted: Set[str] | None) -> dict[str, str]:
        """The same for the names with these keys, or for all."""
        found: list[str] = []
        for at in range(0, len(self._list), _FEW):
            names = self._list[at : at + _FEW]
            keys = spelling_keys(names)
            if wanted is None:
                found.extend(compress(names, map(ne, names, keys)))
            else:
                found.extend(compress(names, map(wanted.__contains__, keys)))
        return {spelling_key(name): name for name in sorted(found)}


def listed(directory: str) -> Listed:
    """Return what is in a directory. Raises OSError if it cannot be read."""
    found = os.stat(directory)
    fingerprint = found.st_dev, found.st_ino, found.st_mtime_ns
    known = _known.get(directory)
    if known and known[0] == fingerprint and time.monotonic() - known[1] < _LASTS:
        _known[directory] = _known.pop(directory)
        known[2].is_asked_again = True
        return known[2]
    names = Listed(os.listdir(directory))
    _known.pop(directory, None)
    # A directory changed just now could change again without another time.
    if time.time_ns() - found.st_mtime_ns > _UNCHANGED_FOR:
        _known[directory] = fingerprint, time.monotonic(), names
        while len(_known) > _MOST or sum(len(one) for _, _, one in _known.values()) > _MOST_NAMES:
            del _known[next(iter(_known))]
    return names


def forget_large_listings() -> None:
    """Drop the names of very large directories: unpacking is about to need the memory."""
    for path in [path for path, (_, _, one) in _known.items() if len(one) > _LARGE]:
        del _known[path]
