"""How a change alters the stacks of a directory, and what is kept of it so that it can be undone."""

from collections.abc import Container, Iterator
from itertools import groupby
from operator import itemgetter
from typing import NamedTuple

from usufruct.ledger.layers import COLUMNS, Fingerprint, layer_of
from usufruct.ledger.ledger import Ledger
from usufruct.model.records import FileKind, FileState, Layer


def what_stays(ledger: Ledger, holding: int, change: int) -> tuple[int, int, int]:
    """What a change leaves of a holding: the number of layers, of files and links among them, and the bytes."""
    row: tuple[int, int, int] = ledger.connection.execute(
        "SELECT count(*), coalesce(sum(kind <> 'directory'), 0), coalesce(sum(size), 0)"
        " FROM holding_directory JOIN layer INDEXED BY layer_holding USING (directory)"
        " WHERE holding_directory.holding = ?1 AND layer.holding = ?1 AND gone IS NOT ?2",
        (holding, change),
    ).fetchone()
    return row


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
    # By level: the last row that counts is the top one. An update gives its layers the levels of those that it
    # removes; what was there before was born earlier.
    rows = ledger.connection.execute(
        f"SELECT {COLUMNS}, born = ?1, gone IS ?1 FROM layer WHERE directory = ?2 AND name IN"
        f" (SELECT name FROM layer INDEXED BY layer_gone WHERE directory = ?2 AND gone = ?1"
        " UNION ALL SELECT name FROM layer WHERE directory = ?2 AND born = ?1) ORDER BY name, level, born",
        (change, directory),
    )
    for name, of_name in groupby(rows, key=itemgetter(0)):
        if name in without:
            continue
        before = after = None
        is_covered = False
        for *row, is_born, is_gone in of_name:
            layer = layer_of(row)
            # The user's own layer was there, though this change is the first to record it.
            if not is_born or layer.holding is None:
                before, is_covered = layer, not is_gone
            if not is_gone:
                after = layer
        yield Difference(name, before, after, is_covered)


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
