"""Changes: their phases, their staging directories, and what is left to tidy."""

from collections.abc import Iterable

from usufruct.files.staging import Staging
from usufruct.ledger.ledger import Ledger
from usufruct.model.changes import Change, ChangeKind, Phase


def begin_change(ledger: Ledger, kind: ChangeKind, about: str, now: int, *, root: int = 0) -> int:
    """Record a change in the phase staging and return its number; `root` is the change that it undoes or redoes."""
    cursor = ledger.connection.execute(
        "INSERT INTO change (kind, phase, started, about, root) VALUES (?, ?, ?, ?, ?)",
        (kind, Phase.STAGING, now, about, root),
    )
    number = cursor.lastrowid
    assert number is not None
    ledger.command = ledger.command or number
    ledger.connection.execute("UPDATE change SET command = ? WHERE number = ?", (ledger.command, number))
    return number


def enter_reversed(ledger: Ledger, root: Change, now: int) -> None:
    """Record that a change that did nothing is undone or redone."""
    with ledger.transaction():
        set_phase(ledger, begin_change(ledger, root.kind, root.about, now, root=root.number), Phase.DONE, now)


def set_partial(
    ledger: Ledger, change: int, *, brought: int | None = None, took: int | None = None, is_named: bool = False
) -> None:
    """Record that a change adds or removes only a part of a holding; `is_named`: the user named the part."""
    ledger.connection.execute(
        "UPDATE change SET is_part = ?, brought = ?, took = ? WHERE number = ?", (1 + is_named, brought, took, change)
    )


def split_change(ledger: Ledger, change: int, several: Iterable[tuple[int, str, int]]) -> None:
    """Turn a finished change that removed several holdings (number, name, root) into one change for each."""
    (first, name, root), *others = several
    ledger.connection.execute(
        "UPDATE change SET about = ?, root = ?, took = ? WHERE number = ?", (name, root, first, change)
    )
    for holding, name, root in others:
        cursor = ledger.connection.execute(
            "INSERT INTO change (kind, phase, started, finished, command, about, root, took)"
            " SELECT kind, phase, started, finished, command, ?, ?, ? FROM change WHERE number = ?",
            (name, root, holding, change),
        )
        ledger.connection.execute("UPDATE holding SET gone = ? WHERE number = ?", (cursor.lastrowid, holding))
    ledger.connection.execute(
        "UPDATE past_layer SET change = (SELECT gone FROM holding WHERE number = past_layer.holding) WHERE change = ?",
        (change,),
    )


def set_phase(ledger: Ledger, change: int, phase: Phase, finished: int | None = None) -> None:
    """Set the phase of a change."""
    ledger.connection.execute("UPDATE change SET phase = ?, finished = ? WHERE number = ?", (phase, finished, change))


def unfinished_changes(ledger: Ledger) -> list[Change]:
    """Changes that are neither done nor reversed, newest first."""
    # Literal, because the partial index does not match a parameter.
    rows = ledger.connection.execute(
        f"SELECT {_COLUMNS} FROM change WHERE phase IN ('staging', 'switching') ORDER BY number DESC"
    )
    return [_change(row) for row in rows]


def changes_done(ledger: Ledger, since: int = 0) -> list[Change]:
    """Finished changes from this number on, newest first."""
    rows = ledger.connection.execute(
        f"SELECT {_COLUMNS} FROM change WHERE phase = ? AND number >= ? ORDER BY number DESC", (Phase.DONE, since)
    )
    return [_change(row) for row in rows]


def commands_done(ledger: Ledger, most: int) -> tuple[int, int]:
    """The number of the first of the last commands, at most so many, and how many there were before it.

    Commands that only undid or redid something do not count.
    """
    commands = "SELECT DISTINCT command FROM change WHERE phase = 'done' AND root = 0"
    first, count = ledger.connection.execute(
        f"SELECT (SELECT min(command) FROM ({commands} ORDER BY command DESC LIMIT ?)),"
        f" (SELECT count(*) FROM ({commands}))",
        (most,),
    ).fetchone()
    return first or 0, max(0, count - most)


_COLUMNS = "number, kind, phase, started, about, finished, root, command, brought, took, is_part"
_Row = tuple[int, str, str, int, str, int | None, int, int, int | None, int | None, int]


def _change(row: _Row) -> Change:
    number, kind, phase, started, about, finished, root, command, brought, took, is_partial = row
    return Change(
        number=number,
        kind=ChangeKind(kind),
        phase=Phase(phase),
        started=started,
        about=about,
        finished=finished,
        root=root,
        command=command,
        brought=brought,
        took=took,
        is_partial=bool(is_partial),
        is_named_part=is_partial > 1,
    )


def enter_staging(ledger: Ledger, change: int, staging: Staging) -> None:
    """Record a staging directory before it is made, or its times once it exists."""
    ledger.connection.execute(
        "INSERT OR REPLACE INTO staging (path, change, base, parent_before, parent_after, volume, is_beside, expected)"
        " VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
        (
            staging.path,
            change,
            staging.base,
            staging.parent_before,
            staging.parent_after,
            staging.identity,
            staging.is_beside,
            staging.expected,
        ),
    )


def stagings_of(ledger: Ledger, change: int | None = None) -> list[Staging]:
    """Staging directories on record: of one change, or all."""
    rows = ledger.connection.execute(
        f"SELECT {_STAGING} FROM staging WHERE change = ?1 OR ?1 IS NULL ORDER BY path", (change,)
    )
    return [_staging(row) for row in rows]


_STAGING = "base, path, parent_before, parent_after, volume, is_beside, settles, expected"


def _staging(row: tuple[str, str, int, int, str, int, int | None, bytes]) -> Staging:
    base, path, before, after, identity, is_beside, time_left, expected = row
    return Staging(base, path, before, after, identity, bool(is_beside), time_left, expected)


def stagings_of_ended(ledger: Ledger) -> list[Staging]:
    """Staging directories on record of finished or reversed changes; they are to be removed."""
    rows = ledger.connection.execute(
        f"SELECT {_STAGING} FROM staging JOIN change ON number = change"
        " WHERE phase NOT IN ('staging', 'switching') ORDER BY path"
    )
    return [_staging(row) for row in rows]


def set_time_left(ledger: Ledger, staging: Staging) -> None:
    """Record the time that a staging directory's parent gets, before the staging directory is removed."""
    ledger.connection.execute("UPDATE staging SET settles = ? WHERE path = ?", (staging.time_left, staging.path))


def forget_staging(ledger: Ledger, staging: Staging) -> None:
    """Delete the record of a removed staging directory."""
    ledger.connection.execute("DELETE FROM staging WHERE path = ?", (staging.path,))


def enter_unneeded(ledger: Ledger, digests: Iterable[bytes]) -> None:
    """Note backups that can be removed when no change is under way."""
    ledger.connection.executemany("INSERT OR IGNORE INTO unneeded VALUES (?)", ((digest,) for digest in digests))


def unneeded_backups(ledger: Ledger, most: int) -> list[bytes]:
    """Some of the backups noted as not needed, at most so many."""
    return [row[0] for row in ledger.connection.execute("SELECT blake3 FROM unneeded LIMIT ?", (most,))]


def noted_backups(ledger: Ledger) -> list[tuple[bytes, bool]]:
    """Backups noted as not needed, each with whether a layer needs it after all."""
    rows = ledger.connection.execute(
        "SELECT blake3, EXISTS (SELECT 1 FROM layer WHERE is_backed AND layer.blake3 = unneeded.blake3) FROM unneeded"
    )
    return [(digest, bool(is_needed)) for digest, is_needed in rows]


def clear_unneeded(ledger: Ledger, digests: Iterable[bytes]) -> None:
    """Delete these backups from the list of those not needed."""
    ledger.connection.executemany("DELETE FROM unneeded WHERE blake3 = ?", ((digest,) for digest in digests))


def clear_all_unneeded(ledger: Ledger) -> None:
    """Delete the whole list of backups not needed."""
    ledger.connection.execute("DELETE FROM unneeded")


def unneeded_notes(ledger: Ledger) -> list[int]:
    """Numbers of holdings whose notes are no longer needed."""
    return [row[0] for row in ledger.connection.execute("SELECT holding FROM unneeded_note")]


def clear_unneeded_notes(ledger: Ledger, holdings: Iterable[int]) -> None:
    """Delete holdings whose notes are removed from that list."""
    ledger.connection.executemany("DELETE FROM unneeded_note WHERE holding = ?", ((one,) for one in holdings))


def phase_of(ledger: Ledger, change: int) -> Phase:
    """The phase of a change."""
    row = ledger.connection.execute("SELECT phase FROM change WHERE number = ?", (change,)).fetchone()
    return Phase(row[0])


def last_change(ledger: Ledger) -> int:
    """The number of the last change; 0 if nothing was ever recorded."""
    row = ledger.connection.execute("SELECT coalesce(max(number), 0) FROM change").fetchone()
    return int(row[0])


def is_tidy(ledger: Ledger) -> bool:
    """Whether no change is under way and nothing is left to remove."""
    row = ledger.connection.execute(
        "SELECT (SELECT count(*) FROM staging) + (SELECT count(*) FROM unneeded) + (SELECT count(*) FROM unneeded_note)"
        " + (SELECT count(*) FROM change WHERE phase IN ('staging', 'switching'))"
    ).fetchone()
    return bool(row[0] == 0)


def others_touching(ledger: Ledger, change: int) -> tuple[str, str] | None:
    """A directory that this change and another unfinished one touch, and what the other one is about."""
    row: tuple[str, str] | None = ledger.connection.execute(
        "SELECT path, about FROM change AS other JOIN touched AS theirs ON theirs.change = other.number"
        " JOIN touched AS ours ON ours.change = ?1 AND ours.directory = theirs.directory"
        " JOIN directory ON directory.number = theirs.directory"
        " WHERE other.phase IN ('staging', 'switching') AND other.number <> ?1 LIMIT 1",
        (change,),
    ).fetchone()
    return row
