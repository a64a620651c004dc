"""`usufruct desktop`."""

import sys
from pathlib import Path

import click

from usufruct.actions.desktop import turn_off, turn_on
from usufruct.cli.context import real_context
from usufruct.cli.screen import echo, echo_json, json_option, path_words, styled


@click.group()
def desktop() -> None:
    """Let file managers offer Usufruct for archives, and announce downloads as they arrive.

    File managers then list "Add to its application" among the programs for an archive; it opens a terminal. A
    background service watches your downloads folders and announces what arrived and what to type.
    """


@desktop.command("on", short_help="Set it up for your user account.")
@json_option
def on_command(*, as_json: bool) -> None:
    """Set it up for your user account; the service starts when you log in next time."""
    told = turn_on(real_context())
    if as_json:
        echo_json({"written": list(told.paths)})
        return
    echo(f"{styled('Written', 'good')}:")
    for path in told.paths:
        echo(f"  {path_words(path)}")
    echo("To announce downloads in this session too: systemctl --user start usufruct-downloads")
    echo("To undo this: usufruct desktop off")


@desktop.command("off", short_help="Undo what `on` wrote.")
@json_option
def off_command(*, as_json: bool) -> int:
    """Undo what `on` wrote; files that you changed stay."""
    told = turn_off(real_context())
    if as_json:
        echo_json({"removed": list(told.paths), "left": list(told.left)})
        return 1 if told.left else 0
    echo("Nothing was written for the desktop." if not told.paths and not told.left else "Taken back:")
    for path in told.paths:
        echo(f"  {path_words(path)}")
    for path in told.left:
        echo(f"  {styled('left', 'care')}, for it was changed: {path_words(path)}")
    return 1 if told.left else 0


@desktop.command("add", hidden=True)
@click.argument("archives", nargs=-1, type=click.Path(path_type=Path))
def add_command(archives: tuple[Path, ...]) -> int:
    """Add archives as a file manager calls it: in a terminal of its own, which stays until it was read."""
    from usufruct.cli.commands.add import add_within

    code = add_within(archives)
    if sys.stdin.isatty():
        echo("")
        echo("Enter closes this window.")
        sys.stdin.readline()
    return code
