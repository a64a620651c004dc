"""Words as they are typed in the shells of this system."""

import re
import shlex
from collections.abc import Iterable

from usufruct.files.platform import this_platform

_PLAIN = re.compile(r"[\w@+=:,./\\-]+")
_EXPANDED = re.compile(r"[$`%]")


def has_home_sign() -> bool:
    """Whether a shell here replaces `~` by the home for every command."""
    return this_platform().has_posix_shells


def quoted(word: str) -> str:
    """One word, quoted if a shell would otherwise change it."""
    if this_platform().has_posix_shells:
        return shlex.quote(word)
    return word if _PLAIN.fullmatch(word) else _in_quotes(word)


def _in_quotes(word: str) -> str:
    # Both shells on Windows know double quotes, but PowerShell expands their content; single ones prevent that.
    return "'" + word.replace("'", "''") + "'" if _EXPANDED.search(word) else f'"{word}"'


def setting(variable: str, value: str) -> str:
    """The command that sets a variable for what is started from then on."""
    if this_platform().has_posix_shells:
        return f"export {variable}={quoted(value)}"
    return f"$env:{variable} = {_in_quotes(value)}"


def typed(words: Iterable[str]) -> str:
    """A command's words as one line."""
    return " ".join(map(quoted, words))
