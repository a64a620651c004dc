"""The settings: defaults, the file, and the environment; each replaces the one before."""

import os
import tomllib
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from msgspec import Struct

from usufruct.definitions.toml_texts import LARGEST, parsed_toml
from usufruct.errors import BadDefinition, WrongUsage
from usufruct.files.paths import expanded
from usufruct.files.platform import Platform
from usufruct.files.shells import quoted
from usufruct.files.small_texts import small_text
from usufruct.model.settings import DEFAULTS, PATHS, Settings, fault_in, variable_of


class SettingFound(Struct, frozen=True):
    """One setting with its present value."""

    key: str
    value: Any
    source: str
    """`default`, `file` or the environment variable's name."""


def load_settings(
    file: Path, on_fault: Callable[[BadDefinition], None], environment: Mapping[str, str] = os.environ
) -> Settings:
    """Return the settings. One in the file that cannot be used is told to `on_fault`, and its default counts."""
    found = found_settings(file, on_fault, environment)
    return Settings(**{one.key.replace("-", "_"): one.value for one in found})


def found_settings(
    file: Path, on_fault: Callable[[BadDefinition], None], environment: Mapping[str, str] = os.environ
) -> list[SettingFound]:
    """Return each setting with the source of its value, in the order they are shown; faults as in `load_settings`."""
    written = _usable(file, on_fault)
    result = []
    for key, default in DEFAULTS.items():
        variable = variable_of(key)
        if variable in environment:
            result.append(SettingFound(key, parsed(key, environment[variable]), variable))
        elif key in written:
            result.append(SettingFound(key, written[key], "file"))
        else:
            result.append(SettingFound(key, default, "default"))
    return result


def parsed(key: str, text: str) -> Any:
    """Return a value that a user typed; WrongUsage says what is wrong with it."""
    value: Any = text
    if isinstance(DEFAULTS.get(key), int) and text.strip().lstrip("-").isdigit():
        value = int(text)
    if key in PATHS and text:
        # Resolved now: the current directory may be another one later.
        value = os.pathsep.join(
            str(expanded(one).absolute()) if not _unknown_user(one) else one for one in text.split(os.pathsep) if one
        )
    if fault := _fault_in(key, value):
        raise WrongUsage(f"{key} cannot be {text}: {fault}.", remedy="`usufruct settings` explains each setting.")
    return value


def _fault_in(key: str, value: object) -> str:
    """Return what is wrong with a value for a key here; empty if nothing is."""
    if fault := fault_in(key, value):
        return fault
    names = filter(None, map(_unknown_user, value.split(os.pathsep))) if key in PATHS and isinstance(value, str) else ()
    return next((f"there is no user called {name} here" for name in names), "")


def _unknown_user(path: str) -> str:
    """Return the user in a path that begins with an unknown home directory; else empty."""
    return path[1:].partition("/")[0] if path.startswith("~") and str(expanded(path)).startswith("~") else ""


def write_setting(file: Path, key: str, value: Any, platform: Platform) -> None:
    """Write one value into the file, None to remove it; everything else in it stays, also comments.

    Raises BadDefinition if the file cannot be read; then it stays as it is.
    """
    # Imported here: every command reads settings, and few write one.
    import tomlkit

    from usufruct.files.copying import replace_text

    _read(file)
    text = small_text(file, LARGEST) if file.exists() else ""
    document = tomlkit.parse(text)
    if value is None:
        document.pop(key, None)
    else:
        document[key] = value
    replace_text(file, tomlkit.dumps(document), platform)


def _usable(file: Path, on_fault: Callable[[BadDefinition], None]) -> dict[str, Any]:
    """Return the content of the file without what cannot be used."""
    try:
        written = _read(file)
    except BadDefinition as fault:
        on_fault(fault)
        return {}
    for key, value in list(written.items()):
        if said := _fault_in(key, value):
            del written[key]
            on_fault(
                BadDefinition(
                    f"{key} in {file} is at fault: {said}.",
                    remedy=f"`usufruct settings reset {quoted(key)}` takes it out.",
                    path=str(file),
                )
            )
    return written


def _read(file: Path) -> dict[str, Any]:
    try:
        written = parsed_toml(small_text(file, LARGEST))
    except FileNotFoundError:
        return {}
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise BadDefinition(
            f"The settings in {file} cannot be read: {error}.", remedy="Correct the file, or remove it.", path=str(file)
        ) from error
    return written
