"""`usufruct list`."""

from __future__ import annotations

from itertools import groupby
from typing import TYPE_CHECKING

import click

from usufruct.cli.cells import cells, left
from usufruct.cli.context import real_context
from usufruct.cli.screen import (
    can_draw,
    count_words,
    echo,
    echo_json,
    is_plain,
    json_option,
    page,
    path_words,
    row_lines,
    shortened,
    size_words,
    styled,
    time_words,
    width,
)
from usufruct.files.printable import printable
from usufruct.model.holdings import Holding

if TYPE_CHECKING:
    from usufruct.actions.sizes import Sizes


_LONGEST_BAR = 60
"""Columns, however wide the page is: into a pipe it has no end."""


@click.command("list")
@click.option("--find", metavar="TEXT", help="Only holdings with this text in their name, program or archive.")
@click.option(
    "--sort", type=click.Choice(["name", "size", "added"]), default="name", show_default=True, help="Order of the list."
)
@click.option("--sizes", is_flag=True, help="Show with bars what takes up space.")
@json_option
def list_command(*, find: str | None, sort: str, sizes: bool, as_json: bool) -> None:
    """List what you have added, grouped by program."""
    from usufruct.actions.elsewhere import read_elsewhere
    from usufruct.actions.listing import list_holdings
    from usufruct.cli.documents import holding_document

    context = real_context()
    holdings = list_holdings(context, find=find, sort=sort)
    if sizes:
        from usufruct.actions.sizes import sizes_of

        _tell_sizes(sizes_of(context, holdings), as_json=as_json)
        return
    if as_json:
        elsewhere = [one._asdict() for one in read_elsewhere(context, holdings)]
        echo_json({"holdings": [holding_document(holding) for holding in holdings], "elsewhere": elsewhere})
        return
    if not holdings and find:
        echo(f"No holding has {find} in its name, application or archive.")
        return
    if not holdings:
        echo("Nothing has been added yet. `usufruct add ARCHIVE` places an archive.")
        return
    rows = iter(row_lines([_row(holding) for holding in holdings], frozenset({1, 2}), _list_style))
    for application, group in groupby(holdings, key=lambda holding: holding.application):
        echo(styled(application or "without an application", "title"))
        for _ in group:
            for line in next(rows):
                echo(line)
    if moved := read_elsewhere(context, holdings):
        from usufruct.cli.reports import elsewhere_lines

        echo()
        for line in elsewhere_lines(moved):
            echo(line)


def _tell_sizes(sizes: Sizes, *, as_json: bool) -> None:
    if as_json:
        echo_json(
            {
                "placed": [{"name": name, "bytes": size} for name, size in sizes.placed],
                "backups": sizes.backups,
                "stored": sizes.stored,
                "archives": sizes.archives,
            }
        )
        return
    rows = [*sizes.placed, ("backups of what was replaced", sizes.backups)]
    rows += [("archives in the store", sizes.stored), ("archives still where they were added from", sizes.archives)]
    largest = max(size for _, size in rows) or 1
    names = min(46, max(20, page() // 2 - 6), max(cells(name) for name, _ in rows))
    room = min(_LONGEST_BAR, max(4, width() - names - 14))
    full, part = ("█", "▏▎▍▌▋▊▉") if can_draw() else ("#", "")
    for name, size in rows:
        eighths = round(size / largest * room * 8)
        bar = full * (eighths // 8) + (part[eighths % 8 - 1] if part and eighths % 8 else "")
        label = left(shortened(name, names), names)
        if is_plain():
            echo(f"{name}, {size_words(size)}")
        else:
            echo(f"  {label}  {size_words(size).rjust(8)}  {styled(bar, 'place')}".rstrip())


def _row(holding: Holding) -> tuple[str, ...]:
    from usufruct.cli.documents import holding_state

    state = holding_state(holding)
    source = path_words(holding.archive).rpartition("/")[2]
    return (
        printable(holding.name),
        count_words(holding.files, "file"),
        size_words(holding.size),
        time_words(holding.added),
        source if state == "added" else f"{state} · {source}",
    )


def _list_style(column: int, text: str) -> str:
    if column > 3 and text.startswith("away"):
        return styled(text, "care")
    return styled(text, "place") if column == 0 else styled(text, "quiet") if column > 2 else text
