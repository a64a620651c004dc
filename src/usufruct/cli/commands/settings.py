"""`usufruct settings`."""

from __future__ import annotations

import json
import os

import click

from usufruct.cli import words
from usufruct.cli.context import real_context
from usufruct.cli.screen import echo, echo_json, json_option, path_words, row_lines, styled, wrapped
from usufruct.files.paths import expanded
from usufruct.model.settings import variable_of

_STYLES = ("place", "quiet")


@click.group(
    invoke_without_command=True,
    subcommand_metavar="[COMMAND] [ARGS]...",
    short_help="Show and change the settings.",
)
@json_option
@click.pass_context
def settings(click_context: click.Context, *, as_json: bool) -> None:
    """Show each setting, its value, where the value comes from and what it means."""
    from usufruct.actions.setting import settings_that_hold

    if click_context.invoked_subcommand:
        return
    context = real_context()
    file = context.paths.settings
    found = settings_that_hold(context)
    if as_json:
        echo_json(
            {
                "file": str(file),
                "settings": [
                    {
                        "key": one.key,
                        "value": one.value,
                        "source": one.source,
                        "meaning": one.meaning,
                        "effective": one.effective,
                    }
                    for one in found
                ],
            }
        )
        return
    rows = [(one.key, one.source, _words(one.effective)) for one in found]
    lines = row_lines(rows, frozenset(), lambda column, text: styled(text, _STYLES[column]) if column < 2 else text)
    for one, shown in zip(found, lines, strict=True):
        for line in shown:
            echo(line)
        for words_line in wrapped(one.meaning, "      "):
            echo(f"      {styled(words_line, 'quiet')}")
    echo()
    where = f"Kept in {path_words(str(file))}; an environment variable like {variable_of('patience')} is stronger."
    for line in wrapped(where, "  "):
        echo(f"  {line}")


@settings.command("set")
@click.argument("key", shell_complete=words.settings)
@click.argument("value", shell_complete=words.setting_values)
@json_option
def set_command(key: str, value: str, *, as_json: bool) -> None:
    """Set KEY to VALUE, for all commands from now on."""
    from usufruct.actions.setting import set_setting

    now = set_setting(real_context(), key, value)
    if as_json:
        echo_json({"key": key, "value": now})
        return
    echo(f"{key} is {_words(now)} now.")
    if key == "downloads":
        for folder in filter(None, str(now).split(os.pathsep)):
            if not expanded(folder).is_dir():
                echo(f"There is no folder {path_words(folder)} yet: nothing is found in it until there is.", err=True)


@settings.command()
@click.argument("key", shell_complete=words.settings)
@json_option
def reset(key: str, *, as_json: bool) -> None:
    """Set KEY back to its default."""
    from usufruct.actions.setting import reset_setting

    reset_setting(real_context(), key)
    if as_json:
        echo_json({"key": key, "value": None})
        return
    echo(f"{key} has its default again.")


def _words(value: object) -> str:
    return (
        f"{value:,}" if isinstance(value, int) else path_words(value) if isinstance(value, str) else json.dumps(value)
    )
