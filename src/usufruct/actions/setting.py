"""Show and change settings."""

import os

from msgspec import Struct

from usufruct.actions.afterwards import store_of
from usufruct.actions.arrivals import folders_of
from usufruct.actions.context import Context
from usufruct.definitions.settings import found_settings, parsed, write_setting
from usufruct.errors import WrongUsage
from usufruct.model.settings import meanings
from usufruct.planning.names import suggestion


class Setting(Struct, frozen=True):
    """One setting with its present value."""

    key: str
    value: object
    source: str
    """`default`, `file` or the environment variable's name."""
    meaning: str
    effective: object
    """What holds, also where the setting is empty."""


def settings_that_hold(context: Context) -> list[Setting]:
    """Return every setting, in the order they are shown."""
    return [
        Setting(one.key, one.value, one.source, meanings()[one.key], _effective(context, one.key, one.value))
        for one in found_settings(context.paths.settings, context.on_fault)
    ]


def _effective(context: Context, key: str, value: object) -> object:
    if value != "":
        return value
    if key == "store":
        return str(store_of(context))
    if key == "downloads":
        return os.pathsep.join(map(str, folders_of(context)))
    return "replace yours, ask about others" if key == "on-clash" else value


def set_setting(context: Context, key: str, text: str) -> object:
    """Set a setting as the user typed it and return the value. Raises WrongUsage if it cannot have that value."""
    _refuse_unknown(key)
    value: object = parsed(key, text)
    write_setting(context.paths.settings, key, value, context.system())
    return value


def reset_setting(context: Context, key: str) -> None:
    """Set a setting to its default."""
    _refuse_unknown(key)
    write_setting(context.paths.settings, key, None, context.system())


def _refuse_unknown(key: str) -> None:
    if key not in meanings():
        raise WrongUsage(
            f"There is no setting {key}.", remedy=f"{suggestion(key, list(meanings()))} `usufruct settings` shows all."
        )
