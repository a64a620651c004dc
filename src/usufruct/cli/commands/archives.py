"""`usufruct archives`."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from usufruct.cli import words
from usufruct.cli.context import real_context
from usufruct.cli.screen import (
    count_words,
    echo,
    echo_json,
    in_columns,
    json_option,
    path_words,
    size_words,
    styled,
)
from usufruct.errors import WrongUsage
from usufruct.files.printable import printable
from usufruct.model.settings import STORE, TRASH

if TYPE_CHECKING:
    from usufruct.actions.afterwards import Kept, PutAway

_WORDS = {"trash": "in the trash", "unneeded": "for nobody"}
_NOT_THERE = ("changed", "missing", "away")
_ORDER = ("there", "stored", "trash", "unneeded", *_NOT_THERE)


@click.command()
@click.argument("holdings", metavar="[HOLDING...]", nargs=-1, shell_complete=words.holdings)
@click.option(
    "--trash", is_flag=True, help="Move these archives to the trash, or those of all holdings that are fully in place."
)
@click.option("--store", is_flag=True, help="Move them into Usufruct's store instead.")
@json_option
def archives(holdings: tuple[str, ...], *, trash: bool, store: bool, as_json: bool) -> int:
    """Show where the archive of each HOLDING, or of all, is now.

    That is: stored, there, in the trash, changed, missing or away.

    Archives in the store that no holding needs are listed too; `undo` may still need them. `repair` and `undo` read
    files from the archives. The exit status is 1 if any is changed, missing or away (its drive is not connected).

    Without HOLDING, --trash and --store leave an archive where it is if a placed file is changed or missing, or if most
    of the archive was not placed.
    """
    from usufruct.actions.afterwards import kept_archives, put_away_later

    context = real_context()
    if trash and store:
        raise WrongUsage("--trash and --store contradict each other.", remedy="Give one of them.")
    if trash or store:
        put_away: list[tuple[str, PutAway]] = []
        put_away_later(context, holdings, TRASH if trash else STORE, lambda name, one: put_away.append((name, one)))
        return _tell_put_away(put_away, as_json=as_json)
    found = kept_archives(context, holdings)
    if as_json:
        echo_json({"archives": [_document(one) for one in found]})
    elif not found:
        echo("Nothing has been added yet.")
    else:
        rows = [
            (
                _WORDS.get(one.state, one.state),
                size_words(one.size),
                printable(", ".join(one.holdings)),
                path_words(one.path),
            )
            for one in found
        ]
        for line in in_columns(rows, frozenset({1}), _style):
            echo(line)
        echo()
        echo(f"{_summary(found)}.")
    return 1 if any(one.state in _NOT_THERE for one in found) else 0


def _summary(found: list[Kept]) -> str:
    parts = []
    for state in _ORDER:
        if alike := [one for one in found if one.state == state]:
            parts.append(f"{len(alike)} {_WORDS.get(state, state)} ({size_words(sum(one.size for one in alike))})")
    return f"{count_words(len(found), 'archive')}: {', '.join(parts)}"


def _document(one: Kept) -> dict[str, object]:
    return {"path": one.path, "bytes": one.size, "holdings": list(one.holdings), "state": one.state}


def _tell_put_away(put_away: list[tuple[str, PutAway]], *, as_json: bool) -> int:
    if as_json:
        echo_json(
            {
                "settled": [
                    {"holding": name, "afterwards": one.how, "paths": list(one.paths), "fault": one.fault or None}
                    for name, one in put_away
                ]
            }
        )
    elif not put_away:
        echo("There is no archive to let go: none is where it was added from.")
    else:
        for name, one in put_away:
            what = one.fault or _what(one)
            echo(f"  {styled(printable(name), 'title')}  {styled(what, 'care') if one.fault else what}")
    return 1 if any(one.fault for _, one in put_away) else 0


def _what(one: PutAway) -> str:
    if not one.paths:
        return "in the trash" if one.how == TRASH else "stored already"
    where = path_words(one.paths[0])
    return f"stored as {where}" if one.how == STORE else f"kept as {where}, for the trash did not take it"


def _style(column: int, text: str) -> str:
    if column == 0:
        return styled(text, "good" if text.strip() in ("stored", "there") else "care")
    return styled(text, "title") if column == 2 else text
