"""Show downloads that wait."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from usufruct.actions.arrivals import ADDED, ARRIVING, DAMAGED, INCOMPLETE, LOCKED, NEW, NEWER, UNSAFE
from usufruct.actions.downloads import age_of
from usufruct.cli.screen import in_columns, size_words, styled
from usufruct.files.printable import printable

if TYPE_CHECKING:
    from usufruct.actions.downloads import Waiting

READY, ASKS = "ready", "asks"
"""What is new, in the words of who reads it: it can be added at once, or needs an answer first."""
_ROLES = {
    READY: "good",
    ASKS: "care",
    NEWER: "good",
    ADDED: "quiet",
    ARRIVING: "care",
    LOCKED: "care",
    INCOMPLETE: "care",
    DAMAGED: "bad",
    UNSAFE: "bad",
}

_AGES = ((60, "s"), (60, "min"), (24, "h"), (365, "d"))


def lines_of(found: Sequence[Waiting]) -> list[str]:
    """Return one aligned line for each download."""
    rows = [
        (
            _label(one),
            size_words(one.size),
            age_words(age_of(one)),
            one.application or "",
            _name(one),
        )
        for one in found
    ]
    return in_columns(rows, frozenset({1, 2}), _style, in_full=True)


def _label(one: Waiting) -> str:
    return (ASKS if one.asks else READY) if one.state == NEW else one.state


def _name(one: Waiting) -> str:
    file_name = one.path.replace("\\", "/").rpartition("/")[2]
    set_words = f" (a set of {one.files})" if one.files > 1 else ""
    # The reason begins with the name, which is printed already.
    reason = one.detail.removeprefix(f"{file_name} ").rstrip(".")
    told = {ADDED: f"as {one.detail}", NEWER: f"than {one.detail}", "older": f"than {one.detail}"}
    detail = told.get(one.state, reason)
    return f"{printable(file_name)}{set_words}{f' · {printable(detail)}' if detail else ''}"


def _style(column: int, text: str) -> str:
    if column == 0:
        return styled(text, _ROLES.get(text.strip(), "quiet"))
    return styled(text, "place") if column == 3 else styled(text, "quiet") if column in (1, 2) else text


def age_words(seconds: float) -> str:
    """Return `5 min`, `3 d`."""
    value, unit = seconds, "s"
    for size, unit in _AGES:  # noqa: B007 - the unit of the last step counts
        if value < size:
            break
        value /= size
    else:
        unit = "y"
    return f"{int(value)} {unit}"
