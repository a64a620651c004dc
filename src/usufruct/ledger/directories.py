"""Directories on record: which there are, what they contain, and those that a change touches."""

from collections.abc import Iterable

from msgspec import Struct

from usufruct.ledger.ledger import Ledger


class KnownDirectory(Struct, frozen=True):
    """A directory on record."""

    number: int
    path: str
    is_made: bool
    """Usufruct made it."""
    original: int | None
    """Its time before the first change in it, nanoseconds; None if it was not there."""
    left: int | None
    """Its time as the last change left it."""


def directory_number(ledger: Ledger, path: str) -> int | None:
    """The number of a directory on record."""
    row = ledger.connection.execute("SELECT number FROM directory WHERE path = ?", (path,)).fetchone()
    return row[0] if row else None


def enter_directories(ledger: Ledger, change: int, chain: list[tuple[str, int | None]]) -> int:
    """Record that a change touches directories, each the parent of the next; return the number of the last.

    Each is given with its present time, or None if the change will make it.
    """
    number: int | None = None
    for path, modified in chain:
        made = change if modified is None else None
        ledger.connection.execute(
            "INSERT INTO directory (path, parent, made, original) VALUES (?1, ?2, ?3, ?4)"
            " ON CONFLICT (path) DO UPDATE SET parent = coalesce(parent, ?2)",
            (path, number, made, modified),
        )
        # Somebody else changed the directory since: restore that time in the end.
        ledger.connection.execute(
            "UPDATE directory SET original = ?1 WHERE path = ?2 AND made IS NULL AND left IS NOT NULL AND left <> ?1",
            (modified, path),
        )
        number = directory_number(ledger, path)
        ledger.connection.execute("INSERT OR IGNORE INTO touched VALUES (?, ?, ?)", (change, number, modified))
    assert number is not None, "a chain has at least one directory"
    return number


def is_made(ledger: Ledger, path: str) -> bool:
    """Whether Usufruct made the directory at this path, and it is on record."""
    row = ledger.connection.execute("SELECT made IS NOT NULL FROM directory WHERE path = ?", (path,)).fetchone()
    return bool(row and row[0])


def must_stay_on_record(ledger: Ledger, change: int, directory: int) -> bool:
    """Whether a directory still has layers of holdings, or directories of others, after a change."""
    row = ledger.connection.execute(
        "SELECT EXISTS (SELECT 1 FROM layer WHERE directory = ?1 AND holding IS NOT NULL AND gone IS NOT ?2)"
        " OR EXISTS (SELECT 1 FROM directory AS child WHERE child.parent = ?1 AND child.made IS NOT NULL AND NOT EXISTS"
        " (SELECT 1 FROM touched WHERE change = ?2 AND directory = child.number))",
        (directory, change),
    ).fetchone()
    return bool(row[0])


def is_above_others(ledger: Ledger, directory: int) -> bool:
    """Whether other directories on record lie in this one."""
    row = ledger.connection.execute("SELECT EXISTS (SELECT 1 FROM directory WHERE parent = ?)", (directory,)).fetchone()
    return bool(row[0])


def set_left(ledger: Ledger, directory: int, left: int) -> None:
    """Record the time that a directory has after a change."""
    ledger.connection.execute("UPDATE directory SET left = ? WHERE number = ?", (left, directory))


def forget_directory(ledger: Ledger, directory: int) -> None:
    """Delete a directory from the record that contains nothing of Usufruct's any more."""
    ledger.connection.execute("DELETE FROM holding_directory WHERE directory = ?", (directory,))
    ledger.connection.execute("DELETE FROM claim WHERE directory = ?", (directory,))
    ledger.connection.execute("UPDATE directory SET parent = NULL WHERE parent = ?", (directory,))
    ledger.connection.execute("DELETE FROM directory WHERE number = ?", (directory,))


def forget_touched(ledger: Ledger, change: int) -> None:
    """Delete the list of directories that a change touches."""
    ledger.connection.execute("DELETE FROM touched WHERE change = ?", (change,))


def touched_directories(ledger: Ledger, change: int) -> list[tuple[KnownDirectory, int | None]]:
    """The directories that a change touches, parents first, each with its time before the change."""
    rows = ledger.connection.execute(
        "SELECT number, path, made IS NOT NULL, original, left, modified"
        " FROM touched JOIN directory ON number = directory WHERE change = ? ORDER BY path",
        (change,),
    )
    return [(KnownDirectory(row[0], row[1], bool(row[2]), row[3], row[4]), row[5]) for row in rows]


def directories_of_holding(ledger: Ledger, holding: int) -> list[tuple[int, str]]:
    """Number and path of the directories that contain files of a holding."""
    return ledger.connection.execute(
        "SELECT number, path FROM holding_directory JOIN directory ON number = directory WHERE holding = ?"
        " ORDER BY path",
        (holding,),
    ).fetchall()


def enter_holding_directories(ledger: Ledger, holding: int, directories: Iterable[int]) -> None:
    """Record which directories contain files of a holding."""
    ledger.connection.executemany(
        "INSERT OR IGNORE INTO holding_directory VALUES (?, ?)", ((holding, number) for number in directories)
    )
