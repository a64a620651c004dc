"""Read TOML that someone wrote; a text that would take for ever to read is a fault like any other."""

import re
import tomllib
from typing import Any

LARGEST = 64 << 10
"""Bytes of a definition or of the settings."""
_DEEPEST = 60
"""Parts of one key; none that means anything here has more than three."""


def parsed_toml(text: str) -> dict[str, Any]:
    """Return the content of a text; raises TOMLDecodeError, also if it is too long or nested too deeply."""
    if len(text) > LARGEST:
        raise tomllib.TOMLDecodeError(f"it has more than {LARGEST:,} characters")
    without_spaces = text.translate({ord(" "): None, ord("\t"): None})
    if any(run.count(".") > _DEEPEST for run in re.findall(r"[^\n=\[\]{},#]+", without_spaces)):
        raise tomllib.TOMLDecodeError(f"a key has more than {_DEEPEST} parts")
    try:
        return tomllib.loads(text)
    except RecursionError as error:
        raise tomllib.TOMLDecodeError("it is nested too deeply") from error
