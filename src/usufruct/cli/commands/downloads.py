"""`usufruct downloads`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from usufruct.cli import words
from usufruct.cli.context import real_context
from usufruct.cli.screen import (
    count_words,
    echo,
    echo_json,
    json_option,
    path_words,
    shell_words,
    styled,
    time_iso,
)
from usufruct.cli.waiting import lines_of
from usufruct.errors import WrongUsage

if TYPE_CHECKING:
    from usufruct.actions.downloads import Waiting

_MOST = 30


@click.command()
@click.argument("folders", metavar="[FOLDER...]", nargs=-1, type=click.Path(path_type=Path))
@click.option("--find", metavar="TEXT", help="Only downloads with this text in their name.")
@click.option("--app", metavar="NAME", shell_complete=words.applications, help="Only downloads for this program.")
@click.option("--all", "shows_all", is_flag=True, help=f"All downloads, not only the newest {_MOST}.")
@click.option("--watch", "watches", is_flag=True, help="Report each download as it finishes, until you press Ctrl-C.")
@click.option("--notify", "notifies", is_flag=True, help="With --watch: also show a desktop notification.")
@json_option
def downloads(
    folders: tuple[Path, ...],
    *,
    find: str | None,
    app: str | None,
    shows_all: bool,
    watches: bool,
    notifies: bool,
    as_json: bool,
) -> None:
    """Show what waits in the downloads folders, or in each FOLDER, newest first.

    Each one is ready to add, needs an answer first, is already added, is a newer or older version, is still
    downloading, or is incomplete, damaged, locked, unsafe or no archive. `usufruct settings` says which folders.
    """
    from msgspec.structs import replace

    from usufruct.actions.arrivals import folders_of
    from usufruct.actions.downloads import waiting_and_rest

    if notifies and not watches:
        raise WrongUsage("--notify is for --watch.", remedy="usufruct downloads --watch --notify")
    for folder in folders:
        if not folder.exists():
            raise WrongUsage(f"There is no folder {folder}.", remedy="Without a name, the usual folders are meant.")
        if not folder.is_dir():
            look = shell_words(["usufruct", "look", str(folder)])
            raise WrongUsage(f"{folder} is not a folder.", remedy=f"`{look}` looks at one archive.")
    context = replace(real_context(), downloads=tuple(folder.absolute() for folder in folders))
    if watches:
        from usufruct.cli.watching import watch

        watch(context, notifies=notifies)
        return
    found, rest = waiting_and_rest(context, find=find, app=app, most=None if shows_all or as_json else _MOST)
    if as_json:
        echo_json({"downloads": [_document(one) for one in found]})
        return
    where = ", ".join(path_words(str(folder)) for folder in folders_of(context))
    asked = [f"has “{find}” in its name"] if find else []
    asked += [f"is for {app}"] if app else []
    filtered = " and ".join(asked)
    if not found:
        echo(f"Nothing in {where} {filtered}." if asked else f"Nothing waits in {where}.")
        return
    echo(f"In {where}, newest first{f', what {filtered}' if asked else ''}:")
    for line in lines_of(found):
        echo(line)
    ready = sum(one.state in ("new", "newer") and not one.asks for one in found)
    asks = sum(one.asks for one in found)
    if ready:
        # `add` without arguments offers those of the usual folders.
        adds = shell_words(["usufruct", "add", *map(str, folders)])
        does = f"{'adds' if folders else 'offers'} {'it' if ready == 1 else 'them'}"
        echo()
        echo(f"{count_words(ready, 'download')} ready: `{adds}` {does}.")
    elif asks:
        echo()
        echo(f"{count_words(asks, 'download')} to be asked about: `usufruct add ARCHIVE` asks.")
    if rest:
        left = f"and {count_words(rest, 'older one')}; --all lists all"
        echo(f"  {styled(left, 'quiet')}")


def _document(one: Waiting) -> dict[str, Any]:
    return {
        "path": one.path,
        "files": one.files,
        "bytes": one.size,
        "modified": time_iso(one.modified),
        "format": one.format or None,
        "application": one.application,
        "state": one.state,
        "asks": one.asks,
        "detail": one.detail or None,
    }
