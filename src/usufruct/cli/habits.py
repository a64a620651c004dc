"""Understand command lines as people write them: options anywhere, words of other programs, a path alone."""

import os
from collections.abc import Callable, Collection, Sequence
from typing import NamedTuple

from usufruct.errors import WrongUsage

_ANYWHERE = frozenset(("-q", "--quiet", "-v", "--verbose", "--plain"))
_YES = frozenset(("-y", "--yes"))
_HELP = frozenset(("help", "/?", "/h", "/help", "-?"))
_MEANT = {
    "install": "add", "extract": "add", "unpack": "add", "unzip": "add", "place": "add", "put": "add",
    "delete": "remove", "uninstall": "remove", "rm": "remove", "del": "remove", "erase": "remove",
    "ls": "list", "dir": "list", "info": "look", "inspect": "look", "open": "look", "preview": "look", "test": "look",
    "verify": "check", "fix": "repair", "upgrade": "add", "update": "add", "revert": "undo", "log": "history",
    "find": "list", "search": "list", "config": "settings", "zip": "pack", "compress": "pack", "export": "carry",
    "backup": "carry", "restore": "undo", "apps": "app", "scan": "downloads", "status": "downloads",
}  # fmt: skip
"""Words that people type for our commands → the command."""


class Line(NamedTuple):
    """A command line in order."""

    whole: list[str]
    """Options of all commands, which stand before it."""
    words: list[str]
    """The command with its own words."""


def in_order(words: Sequence[str], commands: Collection[str], takes_yes: Callable[[Sequence[str]], bool]) -> Line:
    """Return the line with the options of all commands in front, and with foreign words replaced.

    `takes_yes` tells whether a command with its words has the option `--yes`. Raises WrongUsage with the command to
    type for a word of another program.
    """
    own, whole, rest = [], [], list(words)
    behind: list[str] = []
    if "--" in rest:
        at = rest.index("--")
        rest, behind = rest[:at], rest[at:]
    is_json = says_yes = False
    for word in rest:
        if word in _ANYWHERE:
            whole.append(word)
        elif word == "--json":
            is_json = True
        elif word in _YES:
            says_yes = True
        else:
            own.append(word)
    own = _meant([*own], commands)
    if own and own[0] in commands:
        own += ["--json"] * is_json
        own += ["--yes"] * (says_yes and takes_yes(own))
    else:
        whole += ["--json"] * is_json
    return Line(whole, [*own, *behind])


def _meant(words: list[str], commands: Collection[str]) -> list[str]:
    if not words:
        return words
    first, *rest = words
    if first.lower() in _HELP:
        return [*rest[:1], "--help"]
    if any(word in ("/?", "-?") for word in rest):
        return [*(word for word in words if word not in ("/?", "-?")), "--help"]
    if first == "version":
        return ["--version"]
    if first in commands or first.startswith("-"):
        return words
    if os.path.lexists(path := meant_path(first)):
        return ["look", path, *rest]
    if command := _MEANT.get(first.lower()):
        from usufruct.cli.screen import shell_words

        raise WrongUsage(
            f"There is no command {first}; here it is called {command}.",
            remedy=f"Type `{shell_words(['usufruct', command, *rest])}`.",
        )
    return words


def meant_path(word: str) -> str:
    """Return the path that a word means: without quotes, blanks or the beginning of an address, if that exists.

    Otherwise return the word as it is.
    """
    plain = word.strip().strip("\"'\u201c\u201d\u201e\u2018\u2019")
    candidates = [word, plain]
    if plain.lower().startswith("file:"):
        from urllib.parse import unquote

        candidates.append(unquote(plain[5:].removeprefix("//localhost").removeprefix("//")))
    candidates += [one.replace("\\", "/") for one in candidates if "\\" in one]
    candidates += [os.path.expanduser(one) for one in candidates if one.startswith("~")]  # noqa: PTH111
    return next((one for one in candidates if one and os.path.lexists(one)), word)
