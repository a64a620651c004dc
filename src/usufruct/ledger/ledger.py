"""Opening the ledger, and its transactions."""

import os
import re
import sqlite3
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager, suppress
from functools import cached_property
from pathlib import Path
from urllib.parse import quote

from usufruct.errors import StoreError
from usufruct.ledger.connection import Connection
from usufruct.ledger.schema import TABLES, VERSION

_CANNOT_SHARE = frozenset((sqlite3.SQLITE_CANTOPEN, sqlite3.SQLITE_IOERR, sqlite3.SQLITE_READONLY, sqlite3.SQLITE_FULL))
_MANY_PAGES = 2000
"""Of 4096 bytes each."""


class Ledger:
    """An open ledger. The functions of this package read and write it; `transaction` groups what they write."""

    def __init__(self, connection: sqlite3.Connection, path: Path) -> None:
        self.connection = connection
        self.path = path
        self.command = 0
        """The first change since it was opened: all that one command changes counts as one in the history."""

    @contextmanager
    def transaction(self, *, waits: bool = True) -> Iterator[None]:
        """Make everything that is written inside durable together at the end; after an error, none of it.

        Without `waits` it becomes durable with the next transaction that waits, and may be lost until then. That is for
        what can be lost without harm (docs/decisions/0016).
        """
        if not waits:
            with self._without_waiting(), self.transaction():
                yield
            return
        self.connection.execute("BEGIN IMMEDIATE")
        try:
            yield
            self.connection.execute("COMMIT")
        except BaseException:
            # A full disk ends the transaction by itself; do not report that there is none.
            if self.connection.in_transaction:
                self.connection.execute("ROLLBACK")
            raise

    @cached_property
    def identity(self) -> str:
        """The letters and digits that distinguish this ledger from all others."""
        row = self.connection.execute("SELECT ledger FROM identity").fetchone()
        return row[0] if row and re.fullmatch("[0-9a-f]{16}", str(row[0])) else "unknown"

    @property
    def is_half_empty(self) -> bool:
        """Whether most of the file is unused, and it is large enough to matter."""
        free, all_of_it = (
            self.connection.execute(f"PRAGMA {name}").fetchone()[0] for name in ("freelist_count", "page_count")
        )
        return bool(free > _MANY_PAGES and 2 * free > all_of_it)

    def shrink(self) -> None:
        """Release unused space by writing the file anew; on failure it stays as it is."""
        self.connection.execute("VACUUM")
        self.connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")

    @contextmanager
    def _without_waiting(self) -> Iterator[None]:
        self.connection.execute("PRAGMA synchronous = NORMAL")
        try:
            yield
        finally:
            self.connection.execute("PRAGMA synchronous = FULL")

    def close(self) -> None:
        """Close the connection; what was not committed is lost."""
        self.connection.close()


@contextmanager
def open_ledger(path: Path, *, flushes_by_itself: bool = True) -> Iterator[Ledger]:
    """Open the ledger at `path` for reading and writing; it is created if missing.

    `flushes_by_itself`: what the library writes reaches the medium without an explicit flush of the drive's cache.
    """
    from usufruct.files.private import make_private, private_opener  # imported here: readers create nothing

    make_private(path.parent)
    # Files that SQLite creates beside it get its mode.
    with suppress(OSError):
        open(path, "xb", opener=private_opener).close()
    with _connected(lambda: _connect(_address(path)), path) as ledger:
        connection = ledger.connection
        connection.execute("PRAGMA journal_mode = WAL")
        if not flushes_by_itself:
            connection.execute("PRAGMA fullfsync = ON")
            connection.execute("PRAGMA checkpoint_fullfsync = ON")
        # WAL with less than FULL may forget the last commits after a power cut, and one of them is the commit
        # point of a change whose files have already been switched.
        connection.execute("PRAGMA synchronous = FULL")
        connection.execute("PRAGMA foreign_keys = ON")
        if not _version(ledger):
            _make_tables(ledger)
        yield ledger


@contextmanager
def read_ledger(path: Path) -> Iterator[Ledger | None]:
    """Open the ledger for reading only; None if nothing has been recorded yet."""
    if not path.exists():
        yield None
        return
    with ExitStack() as passing, _connected(lambda: _for_reading(path, passing), path) as ledger:
        yield ledger if _version(ledger) else None


def _for_reading(path: Path, passing: ExitStack) -> sqlite3.Connection:
    try:
        return _connect(f"{_address(path)}?mode=ro")
    except sqlite3.OperationalError as error:
        if error.sqlite_errorcode & 0xFF not in _CANNOT_SHARE:
            raise
    # SQLite cannot create its shared memory beside it, so nobody is writing.
    if not _size(_beside(path)):
        return _connect(f"{_address(path)}?immutable=1")
    # An interrupted command left a write-ahead log.
    import tempfile  # imported here: disks are rarely full

    in_memory = "/dev/shm"
    passed = tempfile.TemporaryDirectory(dir=in_memory if os.access(in_memory, os.W_OK) else None)
    directory = Path(passing.enter_context(passed))
    for file in (path, _beside(path)):
        (directory / file.name).write_bytes(file.read_bytes())
    return _connect(f"{_address(directory / path.name)}?mode=ro")


def _connect(where: str) -> sqlite3.Connection:
    """Open a connection that has read once; raises OperationalError if it cannot."""
    return sqlite3.connect(where, timeout=10, isolation_level=None, uri=True, factory=Connection)


def _beside(path: Path) -> Path:
    """Whether there is data that the library has not yet written into the ledger file itself."""
    return path.with_name(path.name + "-wal")


def _size(path: Path) -> int:
    try:
        return path.stat().st_size
    except OSError:
        return 0


def _address(path: Path) -> str:
    """The path with options, as the library takes it. `as_uri` would do the same, but its imports are slow."""
    place = path.absolute().as_posix()
    return "file://" + quote(os.fsencode(place if place.startswith("/") else f"/{place}"), safe="/:")


def _make_tables(ledger: Ledger) -> None:
    """Create the tables of a new ledger. Two programs may start at once; the second one finds them."""
    with ledger.transaction():
        if not _version(ledger):
            for statement in TABLES.split(";\n"):
                ledger.connection.execute(statement)
            ledger.connection.execute("INSERT INTO identity VALUES (?)", (os.urandom(8).hex(),))
            ledger.connection.execute(f"PRAGMA user_version = {VERSION}")


@contextmanager
def _connected(connect: Callable[[], sqlite3.Connection], path: Path) -> Iterator[Ledger]:
    try:
        connection = connect()
    except sqlite3.Error as error:
        raise _unusable(path, error) from error
    try:
        version = _version(Ledger(connection, path))
        if version > VERSION:
            raise StoreError(
                f"The record {path} was written by a newer Usufruct (version {version}; this one knows {VERSION}).",
                remedy="Use that newer Usufruct.",
                path=str(path),
            )
        if 0 < version < VERSION:
            raise StoreError(
                f"The record {path} was written by a trial version of Usufruct, before the first release.",
                kept="It was not used, and no file was touched.",
                remedy="Remove everything with that version, then use this one.",
                path=str(path),
            )
        _refuse_unknown(connection, path)
        yield Ledger(connection, path)
    except sqlite3.DatabaseError as error:
        raise _unusable(path, error) from error
    finally:
        connection.close()


_KNOWN = frozenset(re.findall(r"CREATE (?:UNIQUE )?(?:TABLE|INDEX) (\w+)", TABLES))


def _refuse_unknown(connection: sqlite3.Connection, path: Path) -> None:
    """Raise StoreError for a ledger that contains triggers or the like, which would act by themselves."""
    connection.execute("PRAGMA trusted_schema = OFF")
    made = connection.execute("SELECT type, name FROM sqlite_master WHERE name NOT LIKE 'sqlite%'").fetchall()
    unknown = sorted(name for kind, name in made if kind not in ("table", "index") or name not in _KNOWN)
    if unknown:
        raise StoreError(
            f"The record {path} contains something that Usufruct did not write: {', '.join(unknown)}.",
            kept="It was not used, and no file was touched.",
            remedy="Restore it from your own backup, and find out where this one comes from.",
            path=str(path),
        )


def _version(ledger: Ledger) -> int:
    version: int = ledger.connection.execute("PRAGMA user_version").fetchone()[0]
    return version


def _unusable(path: Path, error: sqlite3.Error) -> StoreError:
    if getattr(error, "sqlite_errorcode", None) == sqlite3.SQLITE_FULL:
        return StoreError(
            f"The disk with the record {path} is full.",
            kept="The files in the applications' folders are as they were, or are put back by the next command.",
            remedy="Make room there and try again.",
            path=str(path),
        )
    return StoreError(
        f"The record {path} cannot be used: {error}.",
        kept="The files in the applications' folders were left as they are.",
        remedy="Check free space and the file's permissions; if it is damaged, restore it from your own backup.",
        path=str(path),
    )
