"""`usufruct whose`."""

from __future__ import annotations

import os
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

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
from usufruct.files.printable import printable

if TYPE_CHECKING:
    from usufruct.actions.whose import Owner, Shares

_OWN = {"original": "your file from before", "user": "your changed file"}


@click.command()
@click.argument("paths", metavar="PATH...", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--nobodys", is_flag=True, help="For a folder: list the files that are not in any holding.")
@json_option
def whose(paths: tuple[Path, ...], *, nobodys: bool, as_json: bool) -> None:
    """Show which holding the file at each PATH belongs to, and which earlier version is backed up.

    For a folder: how much in it, subfolders included, belongs to which holding, and how much to none.
    """
    from usufruct.actions.whose import Shares, shares_of
    from usufruct.actions.whose import whose as whose_action

    context = real_context()
    found: list[Owner | Shares] = [
        shares_of(context, path, with_paths=nobodys)
        if path.is_dir() and not path.is_symlink()
        else whose_action(context, path)
        for path in paths
    ]
    if as_json:
        documents = [_document(one, nobodys=nobodys) for one in found]
        echo_json(documents[0] if len(documents) == 1 else {"paths": documents})
        return
    for one in found:
        if isinstance(one, Shares):
            _tell_shares(one)
        else:
            _tell(one)


def _tell(owner: Owner) -> None:
    where = path_words(owner.path)
    if owner.holding is not None:
        echo(f"{where} belongs to {styled(printable(owner.holding), 'title')}.")
    elif os.path.lexists(owner.path):
        echo(f"{where} does not belong to any holding.")
    else:
        echo(f"{where} does not exist and does not belong to any holding.")
    for name in owner.beneath:
        echo(f"  underneath:  {_OWN.get(name) or f'the version of {printable(name)}'}")


def _tell_shares(shares: Shares) -> None:
    from usufruct.planning.names import by_number

    rows = [
        (count_words(files, "file"), size_words(size), printable(name))
        for name, (files, size) in sorted(shares.holdings.items(), key=lambda one: -one[1][1])
    ]
    rows.append((count_words(shares.nobodys[0], "file"), size_words(shares.nobodys[1]), "not in any holding"))
    echo(f"{path_words(shares.path)}:")
    for line in in_columns(
        rows, frozenset({0, 1}), lambda column, text: styled(text, "title") if column == 2 else text
    ):
        echo(line)
    for path in sorted(shares.nobodys_paths, key=by_number):
        echo(f"    {path_words(path)}")


def _document(one: Owner | Shares, *, nobodys: bool) -> dict[str, Any]:
    from usufruct.actions.whose import Owner

    if isinstance(one, Owner):
        return {"path": one.path, "holding": one.holding, "beneath": list(one.beneath)}
    document: dict[str, Any] = {
        "path": one.path,
        "holding": None,
        "beneath": [],
        "holdings": [{"name": name, "files": files, "bytes": size} for name, (files, size) in one.holdings.items()],
        "nobodys": {"files": one.nobodys[0], "bytes": one.nobodys[1]},
    }
    return document | {"nobodys_paths": one.nobodys_paths} if nobodys else document
