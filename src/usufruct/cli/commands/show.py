"""`usufruct show`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from usufruct.cli import words
from usufruct.cli.context import real_context
from usufruct.cli.screen import (
    count_words,
    echo,
    echo_json,
    headed,
    json_option,
    open_outside,
    path_words,
    size_words,
    styled,
    time_words,
)
from usufruct.files.printable import printable

if TYPE_CHECKING:
    from usufruct.actions.showing import Shown


@click.command()
@click.argument("holding", shell_complete=words.holdings)
@click.option("--notes", "with_notes", is_flag=True, help="Print its readme and licence files.")
@click.option("--open", "opens", is_flag=True, help="Open its folder in the file manager.")
@click.option("--full", "in_full", is_flag=True, help="Show everything, including every file.")
@json_option
def show(holding: str, *, with_notes: bool, opens: bool, in_full: bool, as_json: bool) -> None:
    """Show the files of HOLDING, what they replaced, its readme files and where it came from."""
    from usufruct.actions.showing import show_holding
    from usufruct.cli.documents import shown_document

    shown = show_holding(real_context(), holding)
    if as_json:
        echo_json(shown_document(shown))
    elif with_notes:
        _print_notes(shown)
    else:
        _print_shown(shown, in_full=in_full)
    if opens and shown.files:
        open_outside(str(Path(shown.files[0].path).parent))


def _print_shown(shown: Shown, *, in_full: bool) -> None:
    from usufruct.cli.documents import holding_state
    from usufruct.cli.trees import Branch, drawn

    holding = shown.holding
    facts = f"{count_words(holding.files, 'file')}, {size_words(holding.size)}"
    for line in headed(printable(holding.name), [facts, f"{holding_state(holding)} {time_words(holding.added)}"]):
        echo(line)
    echo(f"  from {path_words(holding.archive)} ({holding.format}, {size_words(holding.archive_size)})")
    if holding.origin:
        echo(f"  downloaded from {printable(holding.origin)}")
    echo()
    tree = Branch()
    for file in shown.files:
        below = file.path[len(holding.root) + 1 :] if file.path.startswith(holding.root + "/") else file.path
        directory, _, name = below.rpartition("/")
        tree.at(directory).hold(name, file.state.size, _mark(file.replaced, file.is_on_top))
    for line in drawn(path_words(holding.root), tree, in_full=in_full):
        echo(f"  {line}")
    for note in shown.notes:
        echo(f"  {styled('note', 'quiet')}      {printable(note.entry)}  {size_words(note.size)}")
    if shown.notes:
        echo("  To read the notes, add --notes.")


def _mark(replaced: str | None, is_on_top: bool) -> str:
    over = {None: "", "original": "replaced your file", "user": "replaced your changed file"}
    mark = over.get(replaced, f"replaced that of {replaced}")
    if not is_on_top:
        mark = f"{mark}, itself replaced since".lstrip(", ")
    return mark


def _print_notes(shown: Shown) -> None:
    if not shown.notes:
        echo(f"{printable(shown.holding.name)} came without notes.")
    for note in shown.notes:
        echo(styled(printable(note.entry), "title"))
        content = Path(shown.notes_directory, note.file).read_bytes()
        if b"\0" in content[:1024]:
            echo(f"  not text; it is kept as {path_words(f'{shown.notes_directory}/{note.file}')}")
        else:
            for line in content.decode("utf-8", "replace").splitlines():
                echo(f"  {printable(line.expandtabs(4))}", as_it_is=True)
