"""What the current change has recorded, by name, so that nobody must search for it among everything on record."""

import json
from collections.abc import Iterable
from itertools import groupby
from operator import itemgetter
from typing import Any

_MOST = 50_000
"""Names that are kept. Whoever enters more looks through the directory: that costs no more than the work itself."""


class Entered:
    """The names that one change recorded since it began in this process, by directory.

    Nothing is known of changes that began in another process, for example before a crash.
    """

    def __init__(self) -> None:
        self._change = 0
        self._names: dict[int, set[str]] | None = None
        self._count = 0

    def begin(self, change: int) -> None:
        """Start the names of a new change; those of the previous one are dropped."""
        self._change, self._names, self._count = change, {}, 0

    def add(self, change: int, rows: Iterable[tuple[Any, ...]]) -> None:
        """Add the names of rows, each of which begins with directory and name, sorted by directory."""
        if change != self._change or self._names is None:
            return
        for directory, of_directory in groupby(rows, key=itemgetter(0)):
            names = self._names.setdefault(directory, set())
            before = len(names)
            names.update(map(itemgetter(1), of_directory))
            self._count += len(names) - before
        if self._count > _MOST:
            self._names = None

    def names(self, change: int, directory: int) -> str | None:
        """The names recorded in a directory, as a JSON array; None if they are not known."""
        if change != self._change or self._names is None:
            return None
        names = self._names.get(directory, ())
        # A name that is no text is spelled otherwise in the ledger.
        is_text = all(name.isascii() or name.isprintable() for name in names)
        return json.dumps(list(names)) if is_text else None
