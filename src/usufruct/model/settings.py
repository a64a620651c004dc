"""What the user can set once for all commands."""

from dataclasses import dataclass, field, fields
from typing import Any


def _setting(default: Any, meaning: str, *, least: int = 0, choices: tuple[str, ...] = ()) -> Any:
    return field(default=default, metadata={"meaning": meaning, "least": least, "choices": choices})


KEEP, TRASH, STORE = AFTERWARDS = ("keep", "trash", "store")
"""What may become of an archive once its content is placed."""


PATHS = frozenset(("store", "downloads"))
"""Settings that are paths."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Settings:
    """Each field is one setting: its name, with `-` for `_`, is the key in the file and after USUFRUCT_ in the
    environment; the type of its default is its type.
    """  # noqa: D205 - one thought

    afterwards: str = _setting(KEEP, "what becomes of an archive once placed: keep, trash or store", choices=AFTERWARDS)
    store: str = _setting("", "folder that archives are stored in; empty: in Usufruct's own data")
    downloads: str = _setting("", "folders that downloads arrive in, with : between; empty: the desktop's own")
    on_clash: str = _setting(
        "",
        "what becomes of a file that is there already and differs: replace, keep, newer, existing, both or ask; empty: "
        "yours are backed up and replaced, those of another holding are asked about",
        choices=("", "replace", "keep", "newer", "existing", "both", "ask"),
    )
    output: str = _setting(
        "drawn",
        "how things are shown: drawn as trees and columns, or plain, one thing a line, as a screen reader reads",
        choices=("drawn", "plain"),
    )
    most_entries: int = _setting(
        1_000_000, "most entries of one download; a small one may hold a tenth, or one for each 100 bytes", least=1
    )
    most_ratio: int = _setting(1_000, "how many times its size an archive may unpack to, beyond the first GiB", least=2)
    most_levels: int = _setting(3, "how deep archives inside archives are opened")
    patience: int = _setting(5, "seconds to wait for another Usufruct that is at work")


def meanings() -> dict[str, str]:
    """Key → what the setting means, in the order they are shown."""
    return {key_of(one.name): one.metadata["meaning"] for one in fields(Settings)}


def choices_of(key: str) -> tuple[str, ...]:
    """The values that a setting may have, where they are few; none for an unknown one."""
    found: tuple[str, ...] = next((one.metadata["choices"] for one in fields(Settings) if key_of(one.name) == key), ())
    return tuple(filter(None, found))


def key_of(name: str) -> str:
    """A field's name as the user writes it."""
    return name.replace("_", "-")


def variable_of(key: str) -> str:
    """The environment variable of a setting."""
    return f"USUFRUCT_{key.replace('-', '_').upper()}"


def fault_in(key: str, value: object) -> str:
    """What is wrong with a value for a key; empty if nothing is."""
    for one in fields(Settings):
        if key_of(one.name) != key:
            continue
        if isinstance(one.default, int):
            least: int = one.metadata["least"]
            if not isinstance(value, int) or isinstance(value, bool):
                return "it must be a whole number"
            return f"it must be at least {least}" if value < least else ""
        choices: tuple[str, ...] = one.metadata["choices"]
        if not isinstance(value, str):
            return "it must be a text"
        return f"it must be one of {', '.join(filter(None, choices))}" if choices and value not in choices else ""
    return f"there is no such setting; known are {', '.join(meanings())}"
