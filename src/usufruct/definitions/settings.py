"""The settings: from the defaults, the file, the environment, each stronger than the one before."""

import os
import tomllib
from collections.abc import Mapping
from dataclasses import dataclass, fields
from pathlib import Path
from typing import Any

from usufruct.errors import BadDefinition, WrongUsage
from usufruct.model.settings import Settings, fault_in, key_of, variable_of


@dataclass(frozen=True, slots=True)
class Found:
    """One setting as it holds now."""

    key: str
    value: Any
    source: str
    """`default`, `file` or the environment variable's name."""


def load_settings(file: Path, environment: Mapping[str, str] = os.environ) -> Settings:
    """The settings that hold; BadDefinition names the file and key of a fault."""
    return Settings(**{found.key.replace("-", "_"): found.value for found in found_settings(file, environment)})


def found_settings(file: Path, environment: Mapping[str, str] = os.environ) -> list[Found]:
    """Each setting with where its value comes from, in the order they are shown."""
    written = _read(file)
    result = []
    for one in fields(Settings):
        key = key_of(one.name)
        variable = variable_of(key)
        if variable in environment:
            result.append(Found(key, parsed(key, environment[variable]), variable))
        elif key in written:
            result.append(Found(key, written[key], "file"))
        else:
            result.append(Found(key, one.default, "default"))
    return result


def parsed(key: str, text: str) -> Any:
    """A value as a user types it; WrongUsage says what is wrong with it."""
    value: Any = text
    if isinstance(getattr(Settings(), key.replace("-", "_"), None), int) and text.strip().lstrip("-").isdigit():
        value = int(text)
    if fault := fault_in(key, value):
        raise WrongUsage(f"{key} cannot be {text}: {fault}.", remedy="`usufruct settings` explains each setting.")
    return value


def write_setting(file: Path, key: str, value: Any) -> None:
    """Write one value into the file, None to take it out; what else stands there, comments too, stays."""
    import tomlkit

    _read(file)
    text = file.read_text(encoding="utf-8") if file.exists() else ""
    document = tomlkit.parse(text)
    if value is None:
        document.pop(key, None)
    else:
        document[key] = value
    file.parent.mkdir(parents=True, exist_ok=True)
    beside = file.with_name(file.name + ".new")
    beside.write_text(tomlkit.dumps(document), encoding="utf-8")
    beside.replace(file)


def _read(file: Path) -> dict[str, Any]:
    try:
        written = tomllib.loads(file.read_text(encoding="utf-8"))
    except FileNotFoundError:
        return {}
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise BadDefinition(
            f"The settings in {file} cannot be read: {error}.", remedy="Correct the file, or remove it.", path=str(file)
        ) from error
    for key, value in written.items():
        if fault := fault_in(key, value):
            raise BadDefinition(
                f"{key} in {file} is at fault: {fault}.", remedy="Correct or remove that line.", path=str(file)
            )
    return written
