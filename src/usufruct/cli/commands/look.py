"""`usufruct look`."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from usufruct.cli import words
from usufruct.cli.context import real_context
from usufruct.cli.options import (
    access_of,
    archives_argument,
    code_of,
    ending,
    paths_of,
    received_all,
    request_of,
    request_options,
    tell_unheard,
)
from usufruct.cli.screen import (
    echo,
    echo_json,
    echo_json_list,
    encoded_json,
    json_option,
    open_outside,
    path_words,
    size_words,
)
from usufruct.errors import WrongUsage
from usufruct.files.printable import printable

if TYPE_CHECKING:
    from usufruct.actions.context import Context
    from usufruct.actions.outcomes import Examined
    from usufruct.actions.request import Request


@click.command()
@archives_argument
@request_options
@click.option("--full", "in_full", is_flag=True, help="Show everything, including every file.")
@click.option("--content", "lists", is_flag=True, help="List every entry with its size and time.")
@click.option(
    "--read", "entry", metavar="ENTRY", shell_complete=words.entries, help="Print this entry, if it is a text."
)
@click.option(
    "--view",
    "viewed",
    metavar="ENTRY",
    shell_complete=words.entries,
    help="Open a copy of this entry in its desktop program; if it could run something, only show where the copy is.",
)
@click.option("--verify", "verifies", is_flag=True, help="Read the whole archive and compare all checksums.")
@json_option
def look(
    archives: tuple[Path, ...],
    *,
    in_full: bool,
    lists: bool,
    entry: str | None,
    viewed: str | None,
    verifies: bool,
    as_json: bool,
    **options: Any,
) -> int:
    """Show what each ARCHIVE is, where each file would go, and why. Changes nothing.

    The exit status is the one `add` would have: 0 if everything can be placed, 3 if there is a question, 4 if the
    archive is damaged or unsafe, 5 if for example the disk is full.
    """
    context = real_context()
    if entry is not None or viewed is not None or verifies:
        archives = tuple(received_all(context, archives))
    if entry is not None:
        return _print_entry(context, archives, entry, options, as_json=as_json)
    if viewed is not None:
        return _view_entry(context, archives, viewed, options, as_json=as_json)
    if verifies:
        return _verify(context, archives, options, as_json=as_json)
    request = request_of(context, options)
    return tell_looks(
        context, paths_of(context, archives, options), request, in_full=in_full, lists=lists, as_json=as_json
    )


def tell_looks(
    context: Context, paths: Sequence[Path], request: Request, *, in_full: bool, lists: bool = False, as_json: bool
) -> int:
    """Tell of each archive what it is and would do; gives the exit code that `add` would have."""
    from usufruct.actions.looking import look_at
    from usufruct.cli.reports import content_report, look_report

    codes: list[int] = []
    documents: list[bytes] = []
    kept: list[Examined] = []
    for number, result in enumerate(look_at(context, paths, request)):
        codes.append(code_of(result.obstacle, result.facts))
        if request.choices.choose:
            kept.append(result)
        if as_json:
            documents.append(encoded_json(_document(result, lists=lists)))
            continue
        if number:
            echo()
        for line in content_report(result) if lists else look_report(result, in_full=in_full):
            echo(line)
    tell_unheard(request, kept)
    if as_json:
        echo_json_list("archives", documents)
    return ending(codes)


def _document(result: Examined, *, lists: bool) -> dict[str, Any]:
    from usufruct.cli.documents import content_document, examined_document

    document = examined_document(result)
    return document | {"content": content_document(result)} if lists else document


def _view_entry(
    context: Context, archives: tuple[Path, ...], entry: str, options: dict[str, Any], *, as_json: bool
) -> int:
    from usufruct.actions.reading import copy_entry

    if len(archives) > 1:
        raise WrongUsage("--view opens one entry of one archive.", remedy="Name one archive.")
    copy = copy_entry(context, archives[0], entry, access_of(context, options))
    if copy.may_be_opened:
        open_outside(copy.path)
    if as_json:
        document = {"path": str(archives[0].absolute()), "entry": entry, "copy": copy.path}
        echo_json(document | {"opened": copy.may_be_opened})
    elif copy.may_be_opened:
        echo(f"A copy of {printable(entry)} is opened: {path_words(copy.path)}")
    else:
        echo(f"A copy of {printable(entry)} is here: {path_words(copy.path)}")
        echo("  It is not opened: only pictures, texts, documents, sound and video are. It is removed after a day.")
    return 0


def _print_entry(
    context: Context, archives: tuple[Path, ...], entry: str, options: dict[str, Any], *, as_json: bool
) -> int:
    from usufruct.actions.reading import read_entry

    if len(archives) > 1:
        raise WrongUsage("--read prints one entry of one archive.", remedy="Name one archive.")
    found = read_entry(archives[0], entry, access_of(context, options))
    if as_json:
        echo_json({"path": str(archives[0].absolute()), "entry": found.entry, "text": found.text, "cut": found.is_cut})
        return 0
    for line in found.text.splitlines():
        echo(printable(line.expandtabs(4)), as_it_is=True)
    if found.is_cut:
        echo(f"… and more: only the first {size_words(found.shown)} are shown.", err=True)
    return 0


def _verify(context: Context, archives: tuple[Path, ...], options: dict[str, Any], *, as_json: bool) -> int:
    from usufruct.actions.gathering import gathered
    from usufruct.actions.reading import verify
    from usufruct.cli.documents import verified_document
    from usufruct.cli.reports import verified_lines

    access = access_of(context, options)
    results = []
    for path in gathered(archives):
        result = verify(path, access)
        results.append(result)
        if not as_json:
            for line in verified_lines(result):
                echo(line)
    if as_json:
        echo_json({"archives": [verified_document(result) for result in results]})
    return ending([result.error.exit_code if result.error else int(bool(result.unread)) for result in results])
