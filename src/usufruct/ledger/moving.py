"""The record after a drive or a folder got another place."""

import sqlite3

from usufruct.errors import MachineError
from usufruct.ledger.ledger import Ledger
from usufruct.model.holdings import HeldVolume

_PATHS = (("directory", "path"), ("past_layer", "path"), ("holding", "root"), ("staging", "path"), ("staging", "base"))
"""Tables and their columns with paths of destinations."""


def move_record(ledger: Ledger, old: str, new: str, held: HeldVolume) -> tuple[int, bool]:
    """Let all that is on record in one absolute directory be in another, on the volume of `held`.

    Gives the number of holdings that lie there, and whether anything was on record there at all. Raises MachineError
    where something is on record in the new directory already.
    """
    execute = ledger.connection.execute
    # By text, not by pattern: a name may hold what a pattern means something by.
    is_below = "({0} = ?1 OR substr({0}, 1, length(?2)) = ?2)"
    above = old.rstrip("/") + "/"
    count = execute(
        f"SELECT count(DISTINCT holding) FROM place WHERE {is_below.format('base')}", (old, above)
    ).fetchone()[0]
    changed = 0
    for table, column in (*_PATHS, ("place", "base")):
        moves = f"UPDATE {table} SET {column} = ?3 || substr({column}, length(?1) + 1) WHERE {is_below.format(column)}"
        try:
            changed += execute(moves, (old.rstrip("/"), above, new.rstrip("/"))).rowcount
        except sqlite3.IntegrityError as error:
            raise MachineError(
                f"Things are on record in {old} and in {new}: they cannot become one.",
                kept="The record is as it was.",
                remedy=f"Remove what lies in {new} first, or move {old} somewhere else.",
                path=new,
            ) from error
    where = is_below.format("base")
    volume = (new.rstrip("/") or "/", new.rstrip("/") + "/", held.mount, held.volume, held.is_beside)
    execute(f"UPDATE place SET mount = ?3, volume = ?4, is_beside = ?5 WHERE {where}", volume)
    execute(f"UPDATE staging SET volume = ?4, is_beside = ?5 WHERE {where}", volume)
    return count, changed > 0
