"""`usufruct downloads`."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import click

from usufruct.actions.downloads import ADDED, ARRIVING, DAMAGED, INCOMPLETE, LOCKED, NEW, NEWER, UNSAFE
from usufruct.cli import words
from usufruct.cli.screen import (
    count_words,
    echo,
    echo_json,
    in_columns,
    json_option,
    path_words,
    size_words,
    styled,
    time_iso,
)
from usufruct.cli.surroundings import surroundings
from usufruct.errors import WrongUsage
from usufruct.files.printable import printable

if TYPE_CHECKING:
    from usufruct.actions.downloads import Waiting

_MOST = 30
_ROLES = {
    NEW: "good",
    NEWER: "good",
    ADDED: "quiet",
    ARRIVING: "care",
    LOCKED: "care",
    INCOMPLETE: "care",
    DAMAGED: "bad",
    UNSAFE: "bad",
}
_AGES = ((60, "s"), (60, "min"), (24, "h"), (365, "d"))


@click.command(short_help="Show what waits in the downloads folders.")
@click.option("--find", metavar="TEXT", help="Only downloads with this in their name.")
@click.option(
    "--app", metavar="NAME", shell_complete=words.applications, help="Only downloads that fit this application."
)
@click.option("--all", "shows_all", is_flag=True, help=f"All of them, not only the newest {_MOST}.")
@click.option("--watch", "watches", is_flag=True, help="Tell of downloads as they are finished, until stopped.")
@click.option("--notify", "notifies", is_flag=True, help="With --watch: let the desktop tell of them too.")
@json_option
def downloads(
    *, find: str | None, app: str | None, shows_all: bool, watches: bool, notifies: bool, as_json: bool
) -> None:
    """Show what waits in the downloads folders, newest first.

    Each is new, added already, newer or older than what was added, still arriving, incomplete, damaged, locked, unsafe,
    or no archive. The folders are a setting.
    """
    from usufruct.actions.downloads import folders_of, waiting_and_rest

    if notifies and not watches:
        raise WrongUsage("--notify is for --watch.", remedy="usufruct downloads --watch --notify")
    around = surroundings()
    if watches:
        from usufruct.cli.watching import watch

        watch(around, notifies=notifies)
        return
    found, rest = waiting_and_rest(around, find=find, app=app, most=None if shows_all or as_json else _MOST)
    if as_json:
        echo_json({"downloads": [_document(one) for one in found]})
        return
    where = ", ".join(path_words(str(folder)) for folder in folders_of(around))
    asked = [f"has “{find}” in its name"] if find else []
    asked += [f"is for {app}"] if app else []
    filtered = " and ".join(asked)
    if not found:
        echo(f"Nothing in {where} {filtered}." if asked else f"Nothing waits in {where}.")
        return
    echo(f"In {where}, newest first{f', what {filtered}' if asked else ''}:")
    for line in lines_of(found):
        echo(line)
    if rest:
        left = f"and {count_words(rest, 'older one')}; --all lists all"
        echo(f"  {styled(left, 'quiet')}")


def lines_of(found: Sequence[Waiting]) -> list[str]:
    """One aligned line for each download."""
    from usufruct.actions.downloads import age_of

    rows = [
        (
            one.state,
            size_words(one.size),
            age_words(age_of(one)),
            one.application or "",
            _name(one),
        )
        for one in found
    ]
    return in_columns(rows, frozenset({1, 2}), _style, in_full=True)


def _name(one: Waiting) -> str:
    file_name = one.path.replace("\\", "/").rpartition("/")[2]
    set_words = f" (a set of {one.files})" if one.files > 1 else ""
    # The reason begins with the name, which stands here already.
    reason = one.detail.removeprefix(f"{file_name} ").rstrip(".")
    told = {ADDED: f"as {one.detail}", NEWER: f"than {one.detail}", "older": f"than {one.detail}"}
    detail = told.get(one.state, reason)
    return f"{printable(file_name)}{set_words}{f' · {printable(detail)}' if detail else ''}"


def _style(column: int, text: str) -> str:
    if column == 0:
        return styled(text, _ROLES.get(text.strip(), "quiet"))
    return styled(text, "place") if column == 3 else styled(text, "quiet") if column in (1, 2) else text


def age_words(seconds: float) -> str:
    """`5 min`, `3 d`."""
    value, unit = seconds, "s"
    for size, unit in _AGES:  # noqa: B007 - the unit of the last step counts
        if value < size:
            break
        value /= size
    else:
        unit = "y"
    return f"{int(value)} {unit}"


def _document(one: Waiting) -> dict[str, Any]:
    return {
        "path": one.path,
        "files": one.files,
        "bytes": one.size,
        "modified": time_iso(one.modified),
        "format": one.format or None,
        "application": one.application,
        "state": one.state,
        "detail": one.detail or None,
    }
