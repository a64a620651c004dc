"""Holdings: find, record and delete them."""

from collections.abc import Callable, Iterable, Sequence

from msgspec import Struct

from usufruct.errors import MachineError
from usufruct.ledger.ledger import Ledger
from usufruct.model.holdings import HeldDrive, Holding, Volume
from usufruct.planning.names import folded

_COLUMNS = (
    "number, name, application, root, archive, archive_size, archive_blake3, format, tidy_name, version, origin,"
    " choices, added, files, size, is_partial"
)
_Row = tuple[int, str, str | None, str, str, int, bytes, str, str, str, str, str, int, int, int, int]


def _holding(row: _Row) -> Holding:
    return Holding(
        number=row[0],
        name=row[1],
        application=row[2],
        root=row[3],
        archive=row[4],
        archive_size=row[5],
        archive_digest=row[6],
        format=row[7],
        tidy_name=row[8],
        version=row[9],
        origin=row[10],
        choices=row[11],
        added=row[12],
        files=row[13],
        size=row[14],
        is_partial=bool(row[15]),
    )


# A holding counts from the moment its change is done, and until the change that takes it out is.
_LIVE = (
    "(SELECT phase FROM change WHERE number = born) = 'done'"
    " AND (gone IS NULL OR (SELECT phase FROM change WHERE number = gone) <> 'done')"
)


def all_holdings(ledger: Ledger) -> list[Holding]:
    """Every holding, by application and name."""
    rows = ledger.connection.execute(
        f"SELECT {_COLUMNS} FROM holding WHERE {_LIVE} ORDER BY application IS NULL, application, name_key"
    )
    return [_holding(row) for row in rows]


def holding_named(ledger: Ledger, name: str) -> Holding | None:
    """The holding with this name, compared as names are."""
    row = ledger.connection.execute(
        f"SELECT {_COLUMNS} FROM holding WHERE {_LIVE} AND name_key = ?", (folded(name),)
    ).fetchone()
    return _holding(row) if row else None


def holdings_of_tidy_name(ledger: Ledger, application: str | None, root: str, tidy_name: str) -> list[Holding]:
    """Holdings of one application (or one `--to` directory) whose archive had this tidy name."""
    rows = ledger.connection.execute(
        f"SELECT {_COLUMNS} FROM holding WHERE {_LIVE} AND application IS ? AND root = ? AND tidy_key = ?",
        (application, root, folded(tidy_name)),
    )
    return [_holding(row) for row in rows]


def holdings_from(ledger: Ledger, size: int, digest: Callable[[], bytes]) -> list[Holding]:
    """Holdings whose archives have this many bytes and this digest, newest first.

    `digest` is called only if any archive has the size: for the digest all of the archive has to be read.
    """
    is_of_size = f"FROM holding WHERE {_LIVE} AND archive_size = ?"
    if not ledger.connection.execute(f"SELECT EXISTS (SELECT 1 {is_of_size})", (size,)).fetchone()[0]:
        return []
    rows = ledger.connection.execute(
        f"SELECT {_COLUMNS} {is_of_size} AND archive_blake3 = ? ORDER BY number DESC", (size, digest())
    )
    return [_holding(row) for row in rows]


def holding_numbered(ledger: Ledger, number: int) -> Holding | None:
    """The holding with this number, even if one of the last changes removed it."""
    row = ledger.connection.execute(f"SELECT {_COLUMNS} FROM holding WHERE number = ?", (number,)).fetchone()
    return _holding(row) if row else None


def name_of_holding(ledger: Ledger, number: int) -> str:
    """The name of the holding with this number."""
    name: str = ledger.connection.execute("SELECT name FROM holding WHERE number = ?", (number,)).fetchone()[0]
    return name


def enter_holding(ledger: Ledger, change: int, holding: Holding) -> int:
    """Record a holding that this change adds; it gets a new number."""
    taken = ledger.connection.execute(
        "SELECT 1 FROM holding JOIN change ON change.number = born"
        " WHERE name_key = ? AND gone IS NULL AND phase IN ('staging', 'switching')",
        (folded(holding.name),),
    ).fetchone()
    if taken:
        raise MachineError(
            f"Adding {holding.name} was interrupted and could not be undone yet.",
            remedy="`usufruct recover` says what it waits for; --as gives this one another name.",
        )
    cursor = ledger.connection.execute(
        "INSERT INTO holding (name, name_key, application, root, archive, archive_size, archive_blake3, format,"
        " tidy_name, tidy_key, version, origin, choices, added, files, size, born)"
        " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (
            holding.name,
            folded(holding.name),
            holding.application,
            holding.root,
            holding.archive,
            holding.archive_size,
            holding.archive_digest,
            holding.format,
            holding.tidy_name,
            folded(holding.tidy_name),
            holding.version,
            holding.origin,
            holding.choices,
            holding.added,
            holding.files,
            holding.size,
            change,
        ),
    )
    assert cursor.lastrowid is not None
    ledger.connection.execute("UPDATE change SET brought = ? WHERE number = ?", (cursor.lastrowid, change))
    return cursor.lastrowid


def set_totals(ledger: Ledger, holding: int, files: int, size: int, *, is_partial: bool = False) -> None:
    """Record the files and bytes of a holding."""
    ledger.connection.execute(
        "UPDATE holding SET files = ?, size = ?, is_partial = ? WHERE number = ?", (files, size, is_partial, holding)
    )


def set_choices(ledger: Ledger, holding: int, choices: str) -> None:
    """Record the choices that a holding was made by."""
    ledger.connection.execute("UPDATE holding SET choices = ? WHERE number = ?", (choices, holding))


def forget_holdings_born(ledger: Ledger, change: int) -> None:
    """Delete the holdings that a reversed change added."""
    rows = ledger.connection.execute("SELECT number FROM holding WHERE born = ?", (change,)).fetchall()
    _strike(ledger, [row[0] for row in rows])


def forget_past_holdings(ledger: Ledger, change: int) -> None:
    """Delete the holdings that changes before this one removed: they can no longer be undone.

    Holdings of a change that is still to be reversed stay, because they will be there again.
    """
    rows = ledger.connection.execute(
        "SELECT number FROM holding WHERE gone < ? AND (SELECT phase FROM change WHERE number = gone) = 'done'",
        (change,),
    ).fetchall()
    _strike(ledger, [row[0] for row in rows])


def _strike(ledger: Ledger, numbers: list[int]) -> None:
    for number in numbers:
        ledger.connection.execute("DELETE FROM holding_directory WHERE holding = ?", (number,))
        ledger.connection.execute("DELETE FROM volume WHERE holding = ?", (number,))
        ledger.connection.execute("DELETE FROM note WHERE holding = ?", (number,))
        ledger.connection.execute("DELETE FROM place WHERE holding = ?", (number,))
        ledger.connection.execute("DELETE FROM claim WHERE holding = ?", (number,))
        ledger.connection.execute("INSERT OR IGNORE INTO unneeded_note VALUES (?)", (number,))
        ledger.connection.execute("DELETE FROM holding WHERE number = ?", (number,))


def keep_holdings(ledger: Ledger, change: int) -> None:
    """Keep the holdings that a reversed change would have removed."""
    ledger.connection.execute("UPDATE holding SET gone = NULL WHERE gone = ?", (change,))


def revive_holding(ledger: Ledger, change: int, number: int) -> None:
    """Let this change bring back a holding that another change removed."""
    ledger.connection.execute("UPDATE holding SET gone = NULL WHERE number = ?", (number,))
    ledger.connection.execute("UPDATE change SET brought = ? WHERE number = ?", (number, change))


def mark_gone(ledger: Ledger, change: int, holding: int) -> None:
    """Mark a holding as removed by this change."""
    ledger.connection.execute("UPDATE holding SET gone = ? WHERE number = ?", (change, holding))
    ledger.connection.execute("UPDATE change SET took = ? WHERE number = ?", (holding, change))


def is_there(ledger: Ledger, holding: int) -> bool:
    """Whether a holding on record exists at present."""
    row = ledger.connection.execute(f"SELECT {_LIVE} FROM holding WHERE number = ?", (holding,)).fetchone()
    return bool(row and row[0])


def enter_drives(ledger: Ledger, holding: int, drives: Iterable[HeldDrive]) -> None:
    """Record the drives that a holding lies on, in addition to those on record."""
    ledger.connection.executemany(
        "INSERT OR REPLACE INTO place VALUES (?, ?, ?, ?, ?)",
        [(holding, one.base, one.mount, one.identity, one.is_beside) for one in drives],
    )


def drives_of_holdings(ledger: Ledger, holding: int | None = None) -> list[tuple[int, HeldDrive]]:
    """The drives of holdings by their numbers: of all, or of one, which may be removed by now."""
    rows = ledger.connection.execute(
        f"SELECT place.holding, base, mount, volume, is_beside FROM place JOIN holding ON number = place.holding"
        f" WHERE place.holding = ?1 OR (?1 IS NULL AND {_LIVE}) ORDER BY place.holding, base",
        (holding,),
    )
    return [
        (number, HeldDrive(base, mount, identity, bool(is_beside))) for number, base, mount, identity, is_beside in rows
    ]


def all_drives(ledger: Ledger) -> list[HeldDrive]:
    """The drives that anything on record lies on, each once."""
    rows = ledger.connection.execute("SELECT DISTINCT base, mount, volume, is_beside FROM place")
    return [HeldDrive(base, mount, identity, bool(is_beside)) for base, mount, identity, is_beside in rows]


def enter_volumes(ledger: Ledger, holding: int, volumes: Sequence[Volume]) -> None:
    """Record the files that a holding's archives consist of, in order; they replace those on record."""
    ledger.connection.execute("DELETE FROM volume WHERE holding = ?", (holding,))
    ledger.connection.executemany(
        "INSERT INTO volume (holding, position, path, size, blake3) VALUES (?, ?, ?, ?, ?)",
        [(holding, number, volume.path, volume.size, volume.digest) for number, volume in enumerate(volumes)],
    )


def enter_archive_drive(ledger: Ledger, held: HeldDrive) -> None:
    """Record the drive of a directory that contains archives."""
    ledger.connection.execute("INSERT OR REPLACE INTO archive_place VALUES (?, ?, ?, ?)", held)


def drive_of_archive(ledger: Ledger, directory: str) -> HeldDrive | None:
    """The recorded drive of the archives in an absolute directory, if there is one."""
    row = ledger.connection.execute(
        "SELECT base, mount, volume, is_beside FROM archive_place WHERE base = ?", (directory,)
    ).fetchone()
    return HeldDrive(row[0], row[1], row[2], bool(row[3])) if row else None


def volumes_of(ledger: Ledger, holding: int) -> list[Volume]:
    """The files that a holding's archives consist of, in order."""
    rows = ledger.connection.execute(
        "SELECT path, size, blake3 FROM volume WHERE holding = ? ORDER BY position", (holding,)
    )
    return [Volume(path=path, size=size, digest=digest) for path, size, digest in rows]


def all_volumes(ledger: Ledger) -> list[tuple[str, Volume]]:
    """The files of all archives on record, each with the name of its holding."""
    rows = ledger.connection.execute(
        f"SELECT name, path, volume.size, blake3 FROM volume JOIN holding ON number = holding WHERE {_LIVE}"
    )
    return [(name, Volume(path=path, size=size, digest=digest)) for name, path, size, digest in rows]


def trash_volume(ledger: Ledger, path: str) -> None:
    """Record that an archive's file is in the trash."""
    ledger.connection.execute("UPDATE volume SET is_trashed = 1 WHERE path = ?", (path,))


def trashed_volumes(ledger: Ledger) -> set[str]:
    """Former paths of archive files that are in the trash."""
    return {row[0] for row in ledger.connection.execute("SELECT path FROM volume WHERE is_trashed")}


def move_volume(ledger: Ledger, old: str, new: str) -> None:
    """Record that an archive's file has another path, for all holdings that came from it."""
    ledger.connection.execute("UPDATE volume SET path = ? WHERE path = ?", (new, old))
    ledger.connection.execute("UPDATE holding SET archive = ? WHERE archive = ?", (new, old))


class Note(Struct, frozen=True):
    """A readme or similar file that is kept with a holding."""

    entry: str
    file: str
    """Name below the holding's own directory of notes."""
    size: int


def enter_note(ledger: Ledger, holding: int, note: Note) -> None:
    """Record a kept note."""
    ledger.connection.execute("INSERT INTO note VALUES (?, ?, ?, ?)", (holding, note.entry, note.file, note.size))


def notes_of(ledger: Ledger, holding: int) -> list[Note]:
    """The notes kept with a holding."""
    rows = ledger.connection.execute("SELECT entry, file, size FROM note WHERE holding = ? ORDER BY entry", (holding,))
    return [Note(*row) for row in rows]
