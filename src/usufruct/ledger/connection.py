"""SQLite's texts are Unicode, and names on disk need not be; names that are not are spelled in our own way."""

import re
import sqlite3
from collections.abc import Iterable
from contextlib import suppress
from typing import Any

_UNDECODED = re.compile("[\udc80-\udcff]")
"""What Python makes of the bytes of a name that are no text."""
_SPELLED = re.compile("[\U0010fe80-\U0010feff]")
"""The same as the ledger has it: characters for private use, which no keyboard has."""
_SHIFT = 0x10FE00 - 0xDC00
_HAS_SPELLED = 1
"""The file's application number once any is in it; reading is slower then."""


class Connection(sqlite3.Connection):
    """A connection that accepts and returns names as the system has them."""

    def __init__(self, *words: Any, **options: Any) -> None:
        super().__init__(*words, **options)
        self._spells = False
        if super().execute("PRAGMA application_id").fetchone()[0] == _HAS_SPELLED:
            self._begin_spelling()

    def _begin_spelling(self) -> None:
        self._spells, self.text_factory = True, _read

    def execute(self, statement: str, values: Any = (), /) -> sqlite3.Cursor:
        """See the library."""
        try:
            return super().execute(statement, values)
        except UnicodeEncodeError:
            return super().execute(statement, self._written(values))

    def executemany(self, statement: str, rows: Iterable[Any], /) -> sqlite3.Cursor:
        """See the library."""
        return super().executemany(statement, map(self._fitting, rows))

    def _fitting(self, values: Any) -> Any:
        for value in values:
            if type(value) is str and not value.isascii() and _UNDECODED.search(value):
                return self._written(values)
        return values

    def _written(self, values: Any) -> list[Any]:
        if not self._spells:
            # Created in the transaction that writes the first row. Readers expect the table to be missing.
            with suppress(sqlite3.OperationalError):
                super().execute(f"PRAGMA application_id = {_HAS_SPELLED}")
                self._begin_spelling()
        return [_UNDECODED.sub(_spell, value) if isinstance(value, str) else value for value in values]


def _spell(found: re.Match[str]) -> str:
    return chr(ord(found[0]) + _SHIFT)


def _read(text: bytes) -> str:
    return _SPELLED.sub(lambda found: chr(ord(found[0]) - _SHIFT), text.decode("utf-8"))
