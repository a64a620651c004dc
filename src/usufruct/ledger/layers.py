"""Layers and directories: the stacks of destinations, and how a change alters them."""

from collections.abc import Container, Iterable, Iterator
from itertools import chain, groupby, islice
from operator import itemgetter
from typing import Any, NamedTuple

from msgspec import Struct

from usufruct.ledger.ledger import Ledger
from usufruct.model.records import FileKind, FileState, Layer

_COLUMNS = "name, level, holding, kind, size, modified, mode, inode, blake3, target, entry, is_backed"
_KINDS = {kind.value: kind for kind in FileKind}
_new = tuple.__new__
_Row = tuple[str, int, int | None, str, int, int, int, int, bytes, str, str, int]


def _layer(row: _Row) -> Layer:
    _, level, holding, kind, size, modified, mode, inode, digest, target, entry, is_backed = row
    # As the types are called, in a third of the time: there are as many as files.
    state = _new(FileState, (_KINDS[kind], size, modified, mode, inode, digest, target))
    return _new(Layer, (level, holding, state, entry, bool(is_backed)))


def _stacks(rows: Iterable[_Row]) -> dict[str, tuple[Layer, ...]]:
    """Group rows, which are sorted by name and level, into stacks."""
    return {name: tuple(map(_layer, of_name)) for name, of_name in groupby(rows, key=itemgetter(0))}


class NewLayer(NamedTuple):
    """A layer that a change adds."""

    directory: int
    name: str
    layer: Layer


# --- directories ---------------------------------------------------------------------------------------------


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
        # Somebody else changed the directory since: that is the time to give back in the end.
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


# --- stacks --------------------------------------------------------------------------------------------------


def stacks_in(ledger: Ledger, directory: int, names: Iterable[str] | None = None) -> dict[str, tuple[Layer, ...]]:
    """The stacks in a directory, lowest layer first: of all names, or of these."""
    execute = ledger.connection.execute
    if names is None:
        return _stacks(execute(f"SELECT {_COLUMNS} FROM layer WHERE directory = ? ORDER BY name, level", (directory,)))
    stacks: dict[str, tuple[Layer, ...]] = {}
    rest = iter(names)
    while some := list(islice(rest, _ASKED)):
        these = ", ".join("?" * len(some))
        query = f"SELECT {_COLUMNS} FROM layer WHERE directory = ? AND name IN ({these}) ORDER BY name, level"
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
        f"SELECT {_COLUMNS} FROM layer WHERE directory = ?1 AND name IN"
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


def what_stays(ledger: Ledger, holding: int, change: int) -> tuple[int, int, int]:
    """What a change leaves of a holding: the number of layers, of files and links among them, and the bytes."""
    row: tuple[int, int, int] = ledger.connection.execute(
        "SELECT count(*), coalesce(sum(kind <> 'directory'), 0), coalesce(sum(size), 0)"
        " FROM holding_directory JOIN layer INDEXED BY layer_holding USING (directory)"
        " WHERE holding_directory.holding = ?1 AND layer.holding = ?1 AND gone IS NOT ?2",
        (holding, change),
    ).fetchone()
    return row


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
    # In the order of their key they come to lie beside one another, which takes half the time.
    rows.sort(key=itemgetter(0, 1, 2))
    if rows:
        ledger.entered.add(rows[0][3], rows)
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


# --- what a change alters ------------------------------------------------------------------------------------


class Difference(NamedTuple):
    """One destination before and after a change: the top layer, None if there is none."""

    name: str
    before: Layer | None
    after: Layer | None
    is_covered: bool
    """`before` stays in the stack beneath `after`, so its bytes must be kept in the backups."""


def going_files(ledger: Ledger, change: int, directory: int) -> list[Fingerprint]:
    """Files that a change removes from a directory and that are alone in their stacks, so they are simply removed."""
    return ledger.connection.execute(
        "SELECT name, size, modified, inode FROM layer AS mine INDEXED BY layer_gone"
        " WHERE directory = ?2 AND gone = ?1 AND born <> ?1 AND kind = 'file' AND holding IS NOT NULL"
        " AND NOT EXISTS (SELECT 1 FROM layer AS other"
        " WHERE other.directory = ?2 AND other.name = mine.name"
        " AND (other.level, other.born) <> (mine.level, mine.born))",
        (change, directory),
    ).fetchall()


def differences(
    ledger: Ledger, change: int, directory: int, without: Container[str] = frozenset()
) -> Iterator[Difference]:
    """How a change alters the top layers in a directory, by name; some names can be left out."""
    entered = ledger.entered.names(change, directory)
    values: tuple[int | str, ...]
    if entered is None:
        born, values = "SELECT name FROM layer WHERE directory = ?2 AND born = ?1", (change, directory)
    else:
        born, values = "SELECT value FROM json_each(?3)", (change, directory, entered)
    rows = ledger.connection.execute(
        f"SELECT {_COLUMNS}, born = ?1, gone IS ?1 FROM layer WHERE directory = ?2 AND name IN"
        f" (SELECT name FROM layer INDEXED BY layer_gone WHERE directory = ?2 AND gone = ?1 UNION ALL {born})"
        " ORDER BY name, level, born",
        values,
    )
    name: str | None = None
    before: Layer | None = None
    after: Layer | None = None
    is_before_gone = False
    for row in rows:
        if row[0] in without:
            continue
        is_born, is_gone = row[12:]
        if row[0] != name:
            if name is not None:
                yield Difference(name, before, after, before is not None and not is_before_gone)
            name, before, after = row[0], None, None
        layer = _layer(row[:12])
        if not is_born or layer.holding is None:
            before, is_before_gone = layer, is_gone
        if not is_gone:
            after = layer
    if name is not None:
        yield Difference(name, before, after, before is not None and not is_before_gone)


def leaves_layers(ledger: Ledger, change: int, directory: int) -> bool:
    """Whether layers remain in a directory from which a change removes one."""
    row = ledger.connection.execute(
        "SELECT EXISTS (SELECT 1 FROM layer WHERE directory = ?2 AND gone IS NOT ?1 AND name IN"
        " (SELECT name FROM layer WHERE directory = ?2 AND gone = ?1))",
        (change, directory),
    ).fetchone()
    return bool(row[0])


def surfacing(ledger: Ledger, change: int, directory: int) -> list[str]:
    """Names at which a change uncovers a layer."""
    rows = ledger.connection.execute(
        "SELECT name FROM layer WHERE directory = ?2 AND name IN"
        " (SELECT name FROM layer WHERE directory = ?2 AND gone = ?1) GROUP BY name"
        " HAVING max(CASE WHEN gone IS NOT ?1 THEN level END)"
        " < max(CASE WHEN born <> ?1 OR holding IS NULL THEN level END)",
        (change, directory),
    )
    return [row[0] for row in rows]


class PastLayer(NamedTuple):
    """A layer that the last change removed."""

    path: str
    """Absolute path of the directory."""
    name: str
    layer: Layer
    is_claim: bool
    """The user's own lay there, and the holding had made it its own."""


def keep_past(ledger: Ledger, change: int, directory: int, path: str) -> None:
    """Keep what a change removes from a directory's stacks, so that it can be undone."""
    ledger.connection.execute(
        "INSERT OR IGNORE INTO past_layer SELECT ?1, ?3, name, level, holding, kind, size, modified, mode, blake3,"
        " target, entry, EXISTS (SELECT 1 FROM claim WHERE claim.holding = layer.holding"
        " AND claim.directory = layer.directory AND claim.name = layer.name) FROM layer INDEXED BY layer_gone"
        " WHERE directory = ?2 AND gone = ?1 AND born <> ?1 AND holding IS NOT NULL",
        (change, directory, path),
    )


def forget_past(ledger: Ledger, change: int) -> None:
    """Delete what changes before this one removed."""
    ledger.connection.execute("DELETE FROM past_layer WHERE change < ?", (change,))


def past_layers(ledger: Ledger, change: int) -> list[PastLayer]:
    """What a change removed from the stacks, by directory and name."""
    rows = ledger.connection.execute(
        "SELECT path, name, level, holding, kind, size, modified, mode, blake3, target, entry, is_claim"
        " FROM past_layer"
        " WHERE change = ? ORDER BY path, name, level",
        (change,),
    )
    return [
        PastLayer(
            path,
            name,
            Layer(level, holding, FileState(FileKind(kind), size, modified, mode, 0, digest, target), entry),
            bool(is_claim),
        )
        for path, name, level, holding, kind, size, modified, mode, digest, target, entry, is_claim in rows
    ]


def lies_over(ledger: Ledger, change: int, brought: int | None) -> list[int]:
    """Numbers of holdings that lie over files that a change added, or at names from which it removed something."""
    over_brought = ledger.connection.execute(
        "SELECT DISTINCT above.holding FROM holding_directory JOIN layer AS mine INDEXED BY layer_holding"
        " USING (directory) JOIN layer AS above ON above.directory = mine.directory AND above.name = mine.name"
        " AND above.level > mine.level WHERE holding_directory.holding = ?1 AND mine.holding = ?1"
        " AND above.holding IS NOT NULL AND above.holding <> ?1",
        (brought,),
    ).fetchall()
    over_taken = ledger.connection.execute(
        "SELECT DISTINCT above.holding FROM past_layer JOIN directory ON directory.path = past_layer.path"
        " JOIN layer AS above ON above.directory = directory.number AND above.name = past_layer.name"
        " WHERE past_layer.change = ?1 AND above.holding IS NOT NULL AND above.holding <> past_layer.holding"
        " AND above.level >= past_layer.level AND above.born > ?1",
        (change,),
    ).fetchall()
    return [row[0] for row in {*over_brought, *over_taken}]


def takes_layers(ledger: Ledger, change: int, directory: int) -> bool:
    """Whether a change removes any layer in a directory."""
    row = ledger.connection.execute(
        "SELECT EXISTS (SELECT 1 FROM layer WHERE directory = ? AND gone = ?)", (directory, change)
    ).fetchone()
    return bool(row[0])


def forget_gone(ledger: Ledger, change: int, directory: int) -> list[bytes]:
    """Delete the layers that a change removed; return the digests of those with a backup."""
    where = "FROM layer INDEXED BY layer_gone WHERE directory = ? AND gone = ?"
    digests = ledger.connection.execute(f"SELECT blake3 {where} AND is_backed", (directory, change)).fetchall()
    ledger.connection.execute(f"DELETE {where}", (directory, change))
    return [row[0] for row in digests]


def forget_uncovered(ledger: Ledger, directory: int) -> list[bytes]:
    """Delete the user's own layers that no holding covers any more; return digests likewise."""
    where = (
        " FROM layer INDEXED BY layer_holding WHERE directory = ?1 AND holding IS NULL"
        " AND NOT EXISTS (SELECT 1 FROM layer AS other WHERE other.directory = ?1 AND other.name = layer.name"
        " AND other.level > layer.level"
        " AND other.holding IS NOT NULL)"
    )
    digests = ledger.connection.execute(f"SELECT blake3{where} AND is_backed", (directory,)).fetchall()
    ledger.connection.execute(f"DELETE{where}", (directory,))
    return [row[0] for row in digests]


def forget_born(ledger: Ledger, change: int, directory: int) -> list[bytes]:
    """Delete the layers that a reversed change added, and keep those it would have removed.

    Returns the digests of those that it had backed up.
    """
    digests = ledger.connection.execute(
        "SELECT blake3 FROM layer WHERE directory = ? AND born = ? AND is_backed", (directory, change)
    ).fetchall()
    ledger.connection.execute("DELETE FROM layer WHERE directory = ? AND born = ?", (directory, change))
    ledger.connection.execute("UPDATE layer SET gone = NULL WHERE directory = ? AND gone = ?", (directory, change))
    return [row[0] for row in digests]


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
