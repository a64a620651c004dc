"""What the user can set once for all commands."""

from typing import Annotated, NamedTuple

from msgspec import Struct


class Bounds(NamedTuple):
    """What a setting means, and what it may be."""

    meaning: str
    least: int = 0
    most: int = 10**9
    """Of a number."""
    choices: tuple[str, ...] = ()
    """The only values, where they are few."""


KEEP, TRASH, STORE = AFTERWARDS = ("keep", "trash", "store")
"""What may become of an archive once its content is placed."""


PATHS = frozenset(("store", "downloads"))
"""Settings that are paths."""


class Settings(Struct, frozen=True, kw_only=True):
    """Each field is one setting: its name, with `-` for `_`, is the key in the file and after USUFRUCT_ in the
    environment; the type of its default is its type.
    """  # noqa: D205 - one thought

    afterwards: Annotated[
        str, Bounds("what to do with an archive after adding it: keep, trash or store", choices=AFTERWARDS)
    ] = KEEP
    store: Annotated[str, Bounds("folder that archives are stored in; empty: in Usufruct's own data")] = ""
    downloads: Annotated[str, Bounds("folders that downloads arrive in, with : between; empty: the desktop's own")] = ""
    on_clash: Annotated[
        str,
        Bounds(
            "what to do if a different file is already there: replace, keep, newer, existing, both or ask; "
            "empty: yours are backed up and replaced, those of another holding are asked about",
            choices=("", "replace", "keep", "newer", "existing", "both", "ask"),
        ),
    ] = ""
    output: Annotated[
        str,
        Bounds(
            "how things are shown: drawn as trees and columns, or plain, one thing a line, as a screen reader reads",
            choices=("drawn", "plain"),
        ),
    ] = "drawn"
    most_entries: Annotated[
        int, Bounds("most entries of one download; a small one may hold a tenth, or one for each 100 bytes", least=1)
    ] = 1_000_000
    most_ratio: Annotated[
        int, Bounds("how many times its size an archive may unpack to, beyond the first GiB", least=2)
    ] = 1_000
    most_levels: Annotated[int, Bounds("how deep archives inside archives are opened", most=20)] = 3
    patience: Annotated[int, Bounds("seconds to wait for another Usufruct that is at work", most=86_400)] = 5


DEFAULTS = {name.replace("_", "-"): getattr(Settings(), name) for name in Settings.__struct_fields__}
"""Key → value where nobody sets it, in the order settings are shown."""
_BOUNDS: dict[str, Bounds] = {
    name.replace("_", "-"): annotation.__metadata__[0] for name, annotation in Settings.__annotations__.items()
}


def meanings() -> dict[str, str]:
    """Key → what the setting means, in the order they are shown."""
    return {key: _BOUNDS[key].meaning for key in DEFAULTS}


def choices_of(key: str) -> tuple[str, ...]:
    """The values that a setting may have, where they are few; none for an unknown one."""
    return tuple(filter(None, _BOUNDS[key].choices)) if key in _BOUNDS else ()


def variable_of(key: str) -> str:
    """The environment variable of a setting."""
    return f"USUFRUCT_{key.replace('-', '_').upper()}"


def fault_in(key: str, value: object) -> str:
    """What is wrong with a value for a key; empty if nothing is."""
    if key not in DEFAULTS:
        return f"there is no such setting; known are {', '.join(DEFAULTS)}"
    _, least, most, choices = _BOUNDS[key]
    if isinstance(DEFAULTS[key], int):
        if not isinstance(value, int) or isinstance(value, bool):
            return "it must be a whole number"
        if value > most:
            return f"it must be at most {most:,}"
        return f"it must be at least {least}" if value < least else ""
    if not isinstance(value, str):
        return "it must be a text"
    return f"it must be one of {', '.join(filter(None, choices))}" if choices and value not in choices else ""
