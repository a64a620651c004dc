"""`usufruct settings`."""

from __future__ import annotations

import json
import os
from typing import TYPE_CHECKING

import click

from usufruct.cli import words
from usufruct.cli.screen import echo, echo_json, in_columns, json_option, path_words, styled, wrapped
from usufruct.cli.surroundings import surroundings
from usufruct.errors import WrongUsage
from usufruct.model.settings import meanings, variable_of

if TYPE_CHECKING:
    from usufruct.actions.surroundings import Surroundings

_STYLES = ("place", "quiet")


@click.group(
    invoke_without_command=True,
    subcommand_metavar="[COMMAND] [ARGS]...",
    short_help="Show and change the settings.",
)
@json_option
@click.pass_context
def settings(context: click.Context, *, as_json: bool) -> None:
    """Show each setting with its value, where that comes from and what it means."""
    from usufruct.definitions.settings import found_settings

    if context.invoked_subcommand:
        return
    around = surroundings()
    file = around.places.settings
    found = found_settings(file, around.on_fault)
    if as_json:
        echo_json(
            {
                "file": str(file),
                "settings": [
                    {
                        "key": one.key,
                        "value": one.value,
                        "source": one.source,
                        "meaning": meanings()[one.key],
                        "effective": _effective(around, one.key, one.value),
                    }
                    for one in found
                ],
            }
        )
        return
    rows = [(one.key, one.source, _words(_effective(around, one.key, one.value))) for one in found]
    lines = in_columns(rows, frozenset(), lambda column, text: styled(text, _STYLES[column]) if column < 2 else text)
    for one, line in zip(found, lines, strict=True):
        echo(line)
        for words_line in wrapped(meanings()[one.key], "      "):
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
    from usufruct.definitions.settings import parsed, write_setting

    around = surroundings()
    _refuse_unknown(key)
    parsed_value = parsed(key, value)
    write_setting(around.places.settings, key, parsed_value, around.system())
    if as_json:
        echo_json({"key": key, "value": parsed_value})
        return
    echo(f"{key} is {_words(parsed_value)} now.")


@settings.command()
@click.argument("key", shell_complete=words.settings)
@json_option
def reset(key: str, *, as_json: bool) -> None:
    """Give KEY its default again."""
    from usufruct.definitions.settings import write_setting

    _refuse_unknown(key)
    around = surroundings()
    write_setting(around.places.settings, key, None, around.system())
    if as_json:
        echo_json({"key": key, "value": None})
        return
    echo(f"{key} has its default again.")


def _refuse_unknown(key: str) -> None:
    from usufruct.planning.names import suggestion

    if key not in meanings():
        raise WrongUsage(
            f"There is no setting {key}.", remedy=f"{suggestion(key, list(meanings()))} `usufruct settings` shows all."
        )


def _effective(around: Surroundings, key: str, value: object) -> object:
    """What holds, also where the setting is empty."""
    from usufruct.actions.afterwards import store_of
    from usufruct.actions.downloads import folders_of

    if value != "":
        return value
    if key == "store":
        return str(store_of(around))
    if key == "downloads":
        return os.pathsep.join(map(str, folders_of(around)))
    return "replace yours, ask about others" if key == "on-clash" else value


def _words(value: object) -> str:
    return (
        f"{value:,}" if isinstance(value, int) else path_words(value) if isinstance(value, str) else json.dumps(value)
    )
