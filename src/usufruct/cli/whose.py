"""`usufruct whose`."""

from pathlib import Path

import click

from usufruct.actions.whose import whose as whose_action
from usufruct.cli.screen import echo, echo_json, json_option, path_words, styled
from usufruct.cli.surroundings import surroundings
from usufruct.files.printable import printable

_OWN = {"original": "your file from before", "user": "your changed file"}


@click.command(short_help="Say which holding put a file here.")
@click.argument("path", type=click.Path(path_type=Path))
@json_option
def whose(path: Path, *, as_json: bool) -> None:
    """Say which holding put the file at PATH here, and what lies beneath it."""
    owner = whose_action(surroundings(), path)
    if as_json:
        echo_json({"path": owner.path, "holding": owner.holding, "beneath": list(owner.beneath)})
        return
    where = path_words(owner.path)
    if owner.holding is None:
        echo(f"{where} is of no holding.")
    else:
        echo(f"{where} is of {styled(printable(owner.holding), 'title')}.")
    for name in owner.beneath:
        echo(f"  beneath it: {_OWN.get(name) or f'that of {printable(name)}'}")
