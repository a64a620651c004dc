"""`usufruct archives`."""

import click

from usufruct.actions.afterwards import kept_archives
from usufruct.cli.screen import echo, echo_json, in_columns, json_option, path_words, size_words, styled
from usufruct.cli.surroundings import surroundings
from usufruct.files.printable import printable


@click.command(short_help="List the archives of what was added: where they are, and which are missing.")
@json_option
def archives(*, as_json: bool) -> int:
    """List the archives of all holdings: stored, still where they were added from, changed or missing.

    `repair`, `undo` and the like need them. Ends with 1 if any is changed or missing.
    """
    found = kept_archives(surroundings())
    if as_json:
        echo_json(
            {
                "archives": [
                    {"path": one.path, "bytes": one.size, "holdings": list(one.holdings), "state": one.state}
                    for one in found
                ]
            }
        )
    elif not found:
        echo("Nothing has been added yet.")
    else:
        rows = [
            (one.state, size_words(one.size), printable(", ".join(one.holdings)), path_words(one.path)) for one in found
        ]
        for line in in_columns(rows, frozenset({1}), _style):
            echo(line)
    return 1 if any(one.state in ("changed", "missing") for one in found) else 0


def _style(column: int, text: str) -> str:
    if column == 0:
        return styled(text, "good" if text.strip() in ("stored", "there") else "care")
    return styled(text, "title") if column == 2 else text
