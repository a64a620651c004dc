"""Summarise what is known: no download is opened and nothing is compared."""

import os
from collections import Counter
from contextlib import suppress

from msgspec import Struct

from usufruct.actions.arrivals import LOCKED, NEW, Seen, folders_of, seen_before
from usufruct.actions.context import Context
from usufruct.actions.history import Step, history
from usufruct.actions.listing import list_holdings
from usufruct.planning.names import is_archive_name

_NEWEST = 3


class Overview(Struct, frozen=True):
    """The numbers of a summary."""

    ready: int
    """Downloads that are known to fit one application."""
    asked: int
    """Those that are known to need an answer first."""
    unknown: int
    """Other archives in the downloads folders: nobody looked at them, or they are incomplete."""
    applications: dict[str, tuple[int, int]]
    """Application, or empty for none → its holdings and their files."""
    away: tuple[str, ...]
    """Holdings whose drive is not there."""
    last: Step | None
    """The newest change that is not undone."""

    @property
    def is_beginning(self) -> bool:
        """Whether nothing has been added yet."""
        return not self.applications and self.last is None


def standing(context: Context) -> Overview:
    """Return the summary; nothing is changed."""
    holdings = list_holdings(context)
    counts: dict[str, tuple[int, int]] = {}
    for holding in holdings:
        number, files = counts.get(holding.application or "", (0, 0))
        counts[holding.application or ""] = number + 1, files + holding.files
    steps, _ = history(context, _NEWEST)
    # A waiting download that was added before is recognised by its path.
    waiting = _waiting(context, {holding.archive for holding in holdings})
    return Overview(
        ready=waiting["ready"],
        asked=waiting["asked"],
        unknown=waiting["unknown"],
        applications=counts,
        away=tuple(holding.name for holding in holdings if holding.is_away),
        last=next((step for step in steps if step.done), None),
    )


def _waiting(context: Context, added: set[str]) -> Counter[str]:
    """Count the archives in the downloads folders that are ready, that need an answer, and the unknown ones."""
    known = seen_before(context.paths.data / "downloads.json")
    found: Counter[str] = Counter()
    for folder in folders_of(context):
        entries: list[os.DirEntry[str]] = []
        with suppress(OSError), os.scandir(folder) as there:
            entries = [one for one in there if one.path not in added and not one.name.startswith(".")]
        for one in entries:
            with suppress(OSError):  # a dangling link, or a file that has just been removed
                now = one.stat()
                seen = known.of(one.path, now.st_size, now.st_mtime_ns)
                if seen or is_archive_name(one.name):  # a known file need not be called an archive
                    found[_standing_of(seen)] += 1
    return found


def _standing_of(seen: Seen | None) -> str:
    if seen and seen.state == NEW:
        return "ready" if seen.application and not seen.asks else "asked"
    if seen and seen.state == LOCKED:
        return "asked"
    return "other" if seen else "unknown"
