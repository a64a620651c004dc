"""`usufruct undo`, `usufruct redo` and `usufruct history`."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from usufruct.cli.context import real_context
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
from usufruct.files.printable import printable
from usufruct.model.changes import Change, ChangeKind

if TYPE_CHECKING:
    from usufruct.actions.history import Step
    from usufruct.actions.undoing import Reversed

_MOST = 20
_DONE = {
    ChangeKind.ADD: "added",
    ChangeKind.REMOVE: "removed",
    ChangeKind.UPDATE: "updated",
    ChangeKind.REPAIR: "repaired",
    ChangeKind.FORGET: "forgot",
}
_archive_option = click.option(
    "--archive", type=click.Path(path_type=Path), help="Where the archive is now, if it is needed and was moved."
)


@click.command()
@click.argument("number", type=int, required=False)
@_archive_option
@access_options
@json_option
def undo(*, number: int | None, archive: Path | None, as_json: bool, **options: Any) -> int:
    """Undo the last change: an add, an update or a remove, with all its archives.

    A second `undo` undoes the change before it. NUMBER, as `usufruct history` shows it, undoes one change alone, if no
    later change depends on it. To undo a removal, Usufruct needs the archive. The exit status is 1 if files stay
    because you changed them since.
    """
    from usufruct.actions import undoing

    context = real_context()
    before, tell = _telling("Undoing", as_json=as_json)
    done = undoing.undo(context, access_of(context, options), number, archive, before=before, tell=tell)
    return _ended(done, as_json=as_json)


@click.command()
@_archive_option
@access_options
@json_option
def redo(*, archive: Path | None, as_json: bool, **options: Any) -> int:
    """Redo what the last undo undid; repeat it for the one before.

    After a new change there is nothing to redo.
    """
    from usufruct.actions import undoing

    context = real_context()
    before, tell = _telling("Redoing", as_json=as_json)
    done = undoing.redo(context, access_of(context, options), archive, before=before, tell=tell)
    return _ended(done, as_json=as_json)


def _telling(doing: str, *, as_json: bool) -> Any:
    """Return what is called with a step before anything is done, and with each change once it is."""

    def before(step: Step) -> None:
        if not as_json:
            kind, about = _words_of(step)
            what = f"{kind} {styled(about, 'title')}, {time_words(step.changes[0].started)}"
            echo(f"{doing} change {step.number} ({what}):")

    def tell(result: Reversed) -> None:
        if not as_json:
            name = styled(printable(result.holding), "title")
            state = "is back" if result.is_in else "was taken out"
            echo(f"  {name} {state}: {count_words(result.files, 'file')}")
            for path in result.left:
                echo(f"  {styled('changed since, and stays', 'care')}: {path_words(path)}")

    return before, tell


def _ended(done: Sequence[Reversed], *, as_json: bool) -> int:
    if as_json:
        echo_json({
            "changes": [
                {
                    "number": one.change.number,
                    "kind": one.change.kind.value,
                    "holding": one.holding,
                    "is_in": one.is_in,
                    "files": one.files,
                    "left": list(one.left),
                }
                for one in done
            ]
        })  # fmt: skip
    return 1 if any(one.left for one in done) else 0


@click.command()
@click.option("--all", "shows_all", is_flag=True, help=f"All changes, not only the last {_MOST}.")
@json_option
def history(*, shows_all: bool, as_json: bool) -> None:
    """List all changes, newest first, with the number for `usufruct undo`.

    One command is one change, even with many archives.
    """
    from usufruct.actions import history as past

    steps, earlier = past.history(real_context(), None if shows_all or as_json else _MOST)
    if as_json:
        echo_json({"changes": [_document(step) for step in steps]})
        return
    if not steps:
        echo("Nothing has been changed yet.")
    rows = [(str(step.number), time_words(step.changes[0].started), *_words_of(step), _state(step)) for step in steps]
    for line in in_columns(rows, frozenset({0}), lambda column, text: styled(text, "title") if column == 3 else text):
        echo(line)
    if earlier:
        echo(f"  {styled(f'and {earlier:,} earlier ones; --all lists them', 'quiet')}")


def _words_of(step: Step) -> tuple[str, str]:
    """Return what was done, and to which holdings."""
    kinds = list(dict.fromkeys(_DONE[change.kind] for change in step.changes))
    names = [printable(change.about) for change in step.changes]
    shown = names if len(names) <= 4 else [*names[:3], f"{len(names) - 3} more"]
    return " and ".join(kinds), ", ".join(shown)


def _state(step: Step) -> str:
    if step.is_undone:
        return "undone"
    return "undone in part" if len(step.done) < len(step.reversible) else ""


def _document(step: Step) -> dict[str, Any]:
    first, last = step.changes[0], step.changes[-1]
    return {
        "number": step.number,
        "kind": first.kind.value,
        "about": first.about,
        "started": time_iso(first.started),
        "finished": time_iso(last.finished) if last.finished else None,
        "undone": step.is_undone,
        "changes": [_change_document(step, change) for change in step.changes],
    }


def _change_document(step: Step, change: Change) -> dict[str, Any]:
    return {
        "number": change.number,
        "kind": change.kind.value,
        "about": change.about,
        "undone": step.is_change_undone(change),
    }
