"""Layers: the stacks of destinations, as they are read and entered."""

from collections.abc import Iterable, Sequence
from itertools import chain, groupby, islice
from operator import itemgetter
from typing import Any, NamedTuple

from usufruct.ledger.ledger import Ledger
from usufruct.model.records import FileKind, FileState, Layer

COLUMNS = "name, level, holding, kind, size, modified, mode, inode, blake3, target, entry, is_backed"
_KINDS = {kind.value: kind for kind in FileKind}
_new = tuple.__new__
_Row = Sequence[Any]


def layer_of(row: _Row) -> Layer:
    """Return the layer in a row of `COLUMNS`."""
    _, level, holding, kind, size, modified, mode, inode, digest, target, entry, is_backed = row
    # Like calling the types, in a third of the time: there is one for each file.
    state = _new(FileState, (_KINDS[kind], size, modified, mode, inode, digest, target))
    return _new(Layer, (level, holding, state, entry, bool(is_backed)))


def _stacks(rows: Iterable[_Row]) -> dict[str, tuple[Layer, ...]]:
    """Group rows, which are sorted by name and level, into stacks."""
    return {name: tuple(map(layer_of, of_name)) for name, of_name in groupby(rows, key=itemgetter(0))}


class NewLayer(NamedTuple):
    """A layer that a change adds."""

    directory: int
    name: str
    layer: Layer


def stacks_in(ledger: Ledger, directory: int, names: Iterable[str] | None = None) -> dict[str, tuple[Layer, ...]]:
    """The stacks in a directory, lowest layer first: of all names, or of these."""
    execute = ledger.connection.execute
    if names is None:
        return _stacks(execute(f"SELECT {COLUMNS} FROM layer WHERE directory = ? ORDER BY name, level", (directory,)))
    stacks: dict[str, tuple[Layer, ...]] = {}
    rest = iter(names)
    while some := list(islice(rest, _ASKED)):
        these = ", ".join("?" * len(some))
        query = f"SELECT {COLUMNS} FROM layer WHERE directory = ? AND name IN ({these}) ORDER BY name, level"
        stacks.update(_stacks(execute(query, (directory, *some))))
    return stacks


def tops_in(ledger: Ledger, directory: int) -> dict[str, int]:
    """Name → holding on top, for the names in a directory whose top layer belongs to a holding."""
    rows = ledger.connection.execute(
        "SELECT name, holding, MAX(level) FROM layer WHERE directory = ? GROUP BY name", (directory,)
    )
    return {name: holding for name, holding, _ in rows if holding is not None}


def names_in(ledger: Ledger, directory: int) -> list[str]:
    """All names on record in a directory."""
    rows = ledger.connection.execute("SELECT DISTINCT name FROM layer WHERE directory = ?", (directory,))
    return [row[0] for row in rows]


def stacks_of_holding(ledger: Ledger, holding: int, directory: int) -> dict[str, tuple[Layer, ...]]:
    """The stacks in a directory that contain a layer of a holding, by name."""
    query = (
        f"SELECT {COLUMNS} FROM layer WHERE directory = ?1 AND name IN"
        " (SELECT name FROM layer WHERE directory = ?1 AND holding = ?2) ORDER BY name, level"
    )
    return _stacks(ledger.connection.execute(query, (directory, holding)))


Fingerprint = tuple[str, int, int, int]
"""Name, size, time and inode of a file."""


def fingerprints_of_holding(
    ledger: Ledger, holding: int, directory: int, *, alone: bool
) -> tuple[list[Fingerprint], list[str]]:
    """The files of a holding on top of their stacks in a directory, and its other names there.

    `alone`: only files that are the only layer of their stacks.
    """
    execute = ledger.connection.execute
    own = (directory, holding)
    if not _is_shared(ledger, directory, holding):
        rows = execute("SELECT name, size, modified, inode, kind = 'file' FROM layer WHERE directory = ?", own[:1])
    else:
        rows = execute(
            "SELECT name, size, modified, inode, kind = 'file' AND NOT EXISTS (SELECT 1 FROM layer AS other"
            " WHERE other.directory = ?1 AND other.name = mine.name AND (other.level > mine.level"
            " OR ?3 AND other.level < mine.level)) FROM layer AS mine INDEXED BY layer_holding"
            " WHERE directory = ?1 AND holding = ?2",
            (*own, alone),
        )
    files: list[Fingerprint] = []
    others: list[str] = []
    for *fingerprint, is_file in rows:
        files.append(tuple(fingerprint)) if is_file else others.append(fingerprint[0])
    return files, others


def _is_shared(ledger: Ledger, directory: int, holding: int) -> bool:
    """Whether a directory has layers of anybody but a holding: other holdings, or the user underneath."""
    row = ledger.connection.execute(
        "SELECT EXISTS (SELECT 1 FROM holding_directory WHERE directory = ?1 AND holding <> ?2)"
        " OR EXISTS (SELECT 1 FROM layer WHERE directory = ?1 AND holding IS NULL)",
        (directory, holding),
    ).fetchone()
    return bool(row[0])


def enter_claims(ledger: Ledger, holding: int, claims: Iterable[tuple[int, str]]) -> None:
    """Record files of the user's, by directory and name, that a holding adopted."""
    ledger.connection.executemany(
        "INSERT OR IGNORE INTO claim VALUES (?, ?, ?)", ((holding, directory, name) for directory, name in claims)
    )


def claims_of(ledger: Ledger, holding: int) -> dict[int, set[str]]:
    """Directory → names of the user's files that a holding adopted."""
    claims: dict[int, set[str]] = {}
    for directory, name in ledger.connection.execute("SELECT directory, name FROM claim WHERE holding = ?", (holding,)):
        claims.setdefault(directory, set()).add(name)
    return claims


def names_of_holding(ledger: Ledger, holding: int, born: int | None = None) -> list[tuple[int, str, str, str]]:
    """Files of a holding: directory number and path, name, entry; if a change is given, only those it added."""
    return ledger.connection.execute(
        "SELECT directory.number, directory.path, name, entry FROM holding_directory JOIN directory"
        " ON directory.number = holding_directory.directory JOIN layer INDEXED BY layer_holding"
        " ON layer.directory = directory.number"
        " WHERE holding_directory.holding = ?1 AND layer.holding = ?1 AND (born = ?2 OR ?2 IS NULL)",
        (holding, born),
    ).fetchall()


def entries_in(ledger: Ledger, holding: int, path: str) -> dict[str, str]:
    """Name → entry of the files that a holding has in a directory."""
    rows = ledger.connection.execute(
        "SELECT name, entry FROM directory JOIN layer INDEXED BY layer_holding ON directory = number"
        " WHERE path = ? AND holding = ?",
        (path, holding),
    )
    return dict(rows.fetchall())


def entries_of_holding(ledger: Ledger, holding: int) -> int:
    """How many different entries a holding's files were."""
    count: int = ledger.connection.execute(
        "SELECT count(DISTINCT entry) FROM holding_directory JOIN layer INDEXED BY layer_holding USING (directory)"
        " WHERE holding_directory.holding = ?1 AND layer.holding = ?1",
        (holding,),
    ).fetchone()[0]
    return count


_ASKED = 500
"""Names that one statement asks for."""
_MANY = 60
"""Rows of one statement: the library lets other threads run between two, and each must wait for its turn again."""
_LAYER = f"({', '.join('?' * 15)})"


def enter_layers(ledger: Ledger, change: int, layers: Iterable[NewLayer], *, gone: bool = False) -> None:
    """Record layers that a change adds; `gone`: layers that only say what was found."""
    ended = change if gone else None
    _enter(
        ledger,
        [
            (directory, name, level, change, ended, holding, *state, entry, is_backed)
            for directory, name, (level, holding, state, entry, is_backed) in layers
        ],
    )


def enter_files(ledger: Ledger, change: int, holding: int, files: Iterable[tuple[int, str, FileState, str]]) -> None:
    """Record the layers of files placed where nothing was: directory, name, state and entry of each."""
    _enter(
        ledger,
        [(directory, name, 1, change, None, holding, *state, entry, False) for directory, name, state, entry in files],
    )


def _enter(ledger: Ledger, rows: list[tuple[Any, ...]]) -> None:
    # Sorted by key they are stored side by side, which halves the time.
    rows.sort(key=itemgetter(0, 1, 2))
    for start in range(0, len(rows), _MANY):
        several = rows[start : start + _MANY]
        statement = f"INSERT INTO layer VALUES {', '.join([_LAYER] * len(several))}"
        ledger.connection.execute(statement, list(chain.from_iterable(several)))


def mark_layers_gone(ledger: Ledger, change: int, layers: Iterable[tuple[int, str, int]]) -> None:
    """Mark layers, each by directory, name and level, as removed by a change."""
    ledger.connection.executemany(
        "UPDATE layer SET gone = ? WHERE directory = ? AND name = ? AND level = ?",
        ((change, directory, name, level) for directory, name, level in layers),
    )


def mark_files_gone(ledger: Ledger, change: int, holding: int, directory: int, names: Iterable[str] | None) -> None:
    """Mark a holding's layers in a directory as removed by a change: of these names, or of all."""
    where = "SET gone = ?1 WHERE directory = ?2 AND holding = ?3"
    if names is None:
        ledger.connection.execute(f"UPDATE layer INDEXED BY layer_holding {where}", (change, directory, holding))
    else:
        rows = ((change, directory, holding, name) for name in names)
        ledger.connection.executemany(f"UPDATE layer {where} AND name = ?4", rows)


def set_backed(ledger: Ledger, layers: Iterable[tuple[int, str, int]], *, is_backed: bool) -> None:
    """Record whether the content of layers, each by directory, name and level, is in the backups."""
    ledger.connection.executemany(
        "UPDATE layer SET is_backed = ? WHERE directory = ? AND name = ? AND level = ?",
        ((is_backed, directory, name, level) for directory, name, level in layers),
    )


def backed_layers(ledger: Ledger, digest: bytes) -> int:
    """How many layers have this content in the backups."""
    count: int = ledger.connection.execute(
        "SELECT count(*) FROM layer WHERE is_backed AND blake3 = ?", (digest,)
    ).fetchone()[0]
    return count


def shared_backups(ledger: Ledger) -> set[bytes]:
    """Digests of content that more than one layer needs from the backups."""
    rows = ledger.connection.execute("SELECT blake3 FROM layer WHERE is_backed GROUP BY blake3 HAVING count(*) > 1")
    return {row[0] for row in rows}


def needed_backups(ledger: Ledger) -> set[bytes]:
    """Digests of all content that a layer needs from the backups."""
    return {row[0] for row in ledger.connection.execute("SELECT DISTINCT blake3 FROM layer WHERE is_backed")}


def set_inodes(ledger: Ledger, layers: Iterable[tuple[int, int, str, int]]) -> None:
    """Record that layers (inode, directory, name, level) have new files with the same content."""
    ledger.connection.executemany("UPDATE layer SET inode = ? WHERE directory = ? AND name = ? AND level = ?", layers)


def holdings_over(ledger: Ledger) -> list[tuple[int, int]]:
    """Pairs of holdings (below, above) of which one lies anywhere over the other."""
    # Level 0 is the user's original: what lies over a holding's layer is higher than 1, which few are. The kind of join
    # keeps the planner from beginning with the many.
    return ledger.connection.execute(
        "SELECT DISTINCT below.holding, above.holding FROM layer AS above CROSS JOIN layer AS below"
        " ON below.directory = above.directory AND below.name = above.name AND below.level < above.level"
        " WHERE above.level > 1 AND above.holding IS NOT NULL AND below.holding IS NOT NULL"
        " AND above.gone IS NULL AND below.gone IS NULL"
    ).fetchall()
