"""`usufruct undo` and `usufruct history`."""

from pathlib import Path
from typing import Any

import click

from usufruct.actions import undoing
from usufruct.cli.options import access_of, access_options
from usufruct.cli.screen import (
    count_words,
    echo,
    echo_json,
    in_columns,
    json_option,
    path_words,
    styled,
    time_iso,
    time_words,
)
from usufruct.cli.surroundings import surroundings
from usufruct.files.printable import printable
from usufruct.model.changes import Change, ChangeKind

_DONE = {
    ChangeKind.ADD: "added",
    ChangeKind.REMOVE: "removed",
    ChangeKind.UPDATE: "updated",
    ChangeKind.REPAIR: "repaired",
    ChangeKind.FORGET: "forgot",
}


@click.command(short_help="Reverse the last change.")
@click.option("--archive", type=click.Path(path_type=Path), help="Where the archive is now, if one is needed.")
@access_options
@json_option
def undo(*, archive: Path | None, as_json: bool, **options: Any) -> int:
    """Reverse the last add, update or remove.

    What was removed is taken from the archive again, which must still be there. Ends with 1 if files stay that were
    changed since.
    """
    around = surroundings()
    done = undoing.undo(around, access_of(around, options), archive)
    if as_json:
        document = {"undone": _document(done.change), "holding": done.holding, "files": done.files}
        echo_json({**document, "left": list(done.left)})
        return 1 if done.left else 0
    what, name = _DONE[done.change.kind], styled(printable(done.holding), "title")
    echo(f"{styled('Undone', 'good')}: {what} {name}, {count_words(done.files, 'file')}")
    for path in done.left:
        echo(f"  {styled('changed since, and stays', 'care')}: {path_words(path)}")
    return 1 if done.left else 0


@click.command(short_help="List the changes, newest first.")
@click.option("--all", "shows_all", is_flag=True, help="All of them, not only the last 20.")
@json_option
def history(*, shows_all: bool, as_json: bool) -> None:
    """List the changes that were made, newest first."""
    changes = undoing.history(surroundings(), None if shows_all or as_json else 20)
    if as_json:
        echo_json({"changes": [_document(change) for change in changes]})
        return
    if not changes:
        echo("Nothing has been changed yet.")
    rows = [
        (time_words(change.started), _DONE[change.kind], change.about, "by undo" if change.is_undo else "")
        for change in changes
    ]
    for line in in_columns(rows, frozenset(), lambda column, text: styled(text, "title") if column == 2 else text):
        echo(line)


def _document(change: Change) -> dict[str, Any]:
    return {
        "number": change.number,
        "kind": change.kind.value,
        "about": change.about,
        "started": time_iso(change.started),
        "finished": time_iso(change.finished) if change.finished else None,
        "undo": change.is_undo,
    }
