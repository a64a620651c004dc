"""The record of one place: what should be there, and how it moves with a drive or folder."""

import sqlite3
from collections.abc import Iterator

from usufruct.errors import MachineError
from usufruct.ledger.ledger import Ledger
from usufruct.model.holdings import HeldDrive
from usufruct.model.records import FileKind, FileState

_PATHS = (
    ("directory", "path"),
    ("past_layer", "path"),
    ("holding", "root"),
    ("staging", "path"),
    ("staging", "base"),
    ("place", "base"),
)
"""Tables and their columns with paths of destinations."""
_ARCHIVES = (("volume", "path"), ("holding", "archive"))
"""Tables and their columns with paths of archives."""
# As text, not as a pattern: a name may contain wildcards.
_BELOW = "({0} = :old OR substr({0}, 1, length(:above)) = :above)"


def files_below(ledger: Ledger, old: str) -> Iterator[tuple[str, FileState]]:
    """Absolute paths of files that holdings should have in an absolute directory and below."""
    rows = ledger.connection.execute(
        "SELECT path, name, kind, size, modified, blake3, target FROM directory JOIN layer ON directory = number"
        f" WHERE {_BELOW.format('path')} AND gone IS NULL AND holding IS NOT NULL AND NOT EXISTS (SELECT 1 FROM"
        " layer AS other WHERE other.directory = layer.directory AND other.name = layer.name AND other.gone IS NULL"
        " AND other.level > layer.level)",
        _asked(old),
    )
    for path, name, kind, size, modified, digest, target in rows:
        yield (
            f"{path}/{name}",
            FileState(FileKind(kind), size=size, modified=modified, digest=digest, target=target),
        )


def archives_below(ledger: Ledger, old: str) -> list[tuple[str, int]]:
    """Archives that should be in an absolute directory and below, with their sizes; without those in the trash."""
    return ledger.connection.execute(
        f"SELECT DISTINCT path, size FROM volume WHERE {_BELOW.format('path')} AND NOT is_trashed", _asked(old)
    ).fetchall()


def stagings_below(ledger: Ledger, old: str) -> list[str]:
    """Staging directories on record in an absolute directory and below."""
    rows = ledger.connection.execute(f"SELECT path FROM staging WHERE {_BELOW.format('path')}", _asked(old))
    return [row[0] for row in rows]


def is_destination(ledger: Ledger, old: str) -> bool:
    """Whether anything but archives is on record in an absolute directory or below."""
    return any(
        ledger.connection.execute(
            f"SELECT 1 FROM {table} WHERE {_BELOW.format(column)} LIMIT 1", _asked(old)
        ).fetchone()
        for table, column in _PATHS
    )


def cut_off_above(ledger: Ledger, old: str) -> str:
    """What an interrupted change is about that staged for a directory above this one; empty if there is none."""
    row = ledger.connection.execute(
        "SELECT about FROM staging JOIN change ON change.number = staging.change WHERE"
        " phase IN ('staging', 'switching') AND :old <> base"
        " AND substr(:old, 1, length(rtrim(base, '/')) + 1) = rtrim(base, '/') || '/'"
        f" AND EXISTS (SELECT 1 FROM touched JOIN directory ON directory.number = directory"
        f" WHERE touched.change = staging.change AND {_BELOW.format('directory.path')})",
        _asked(old),
    ).fetchone()
    return row[0] if row else ""


def move_record(ledger: Ledger, old: str, new: str, held: HeldDrive) -> tuple[int, bool]:
    """Move everything on record from one absolute directory to another, on the drive `held`.

    Returns the number of holdings there, and whether anything was on record there. Raises MachineError if something is
    on record in the new directory already.
    """
    execute = ledger.connection.execute
    asked = {**_asked(old), "old": old.rstrip("/"), "new": new.rstrip("/")}
    count = execute(f"SELECT count(DISTINCT holding) FROM place WHERE {_BELOW.format('base')}", _asked(old)).fetchone()[
        0
    ]
    changed = 0
    for table, column in (*_PATHS, *_ARCHIVES):
        below = _BELOW.format(column)
        moves = f"UPDATE {table} SET {column} = :new || substr({column}, length(:old) + 1) WHERE {below}"
        try:
            changed += execute(moves, asked).rowcount
        except sqlite3.IntegrityError as error:
            raise MachineError(
                f"Files are recorded in {old} and in {new}: they cannot be merged.",
                kept="The record is as it was.",
                remedy=f"Remove what is in {new} first, or move {old} somewhere else.",
                path=new,
            ) from error
    there = {**_asked(new), "mount": held.mount, "volume": held.identity, "is_beside": held.is_beside}
    where = _BELOW.format("base")
    execute(f"UPDATE place SET mount = :mount, volume = :volume, is_beside = :is_beside WHERE {where}", there)
    execute(f"UPDATE staging SET volume = :volume, is_beside = :is_beside WHERE {where}", there)
    # Archives of both may be in one directory from now on.
    base = _BELOW.format("base")
    execute(f"UPDATE OR REPLACE archive_place SET base = :new || substr(base, length(:old) + 1) WHERE {base}", asked)
    execute(f"UPDATE archive_place SET mount = :mount, volume = :volume, is_beside = :is_beside WHERE {where}", there)
    return count, changed > 0


def _asked(directory: str) -> dict[str, str | int]:
    return {"old": directory.rstrip("/") or "/", "above": directory.rstrip("/") + "/"}
