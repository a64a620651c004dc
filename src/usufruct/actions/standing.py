"""How things stand, told from what is known already: no download is opened and nothing is compared."""

import os
from collections import Counter
from contextlib import suppress

import msgspec
import platformdirs
from msgspec import Struct

from usufruct.actions.context import Context
from usufruct.actions.history import Step, history
from usufruct.actions.listing import list_holdings
from usufruct.files.paths import expanded
from usufruct.files.small_texts import small_file
from usufruct.planning.names import is_archive_name

_LARGEST = 64 << 20
"""Bytes of what is remembered of downloads."""
_NEWEST = 3


class _LookedAt(Struct):
    size: int
    modified: int
    application: str = ""
    state: str = ""
    asks: bool = False


class _Downloads(Struct):
    downloads: dict[str, _LookedAt] = {}


class Overview(Struct, frozen=True):
    """What there is, in numbers."""

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
        """Nothing has been added yet."""
        return not self.applications and self.last is None


def standing(context: Context) -> Overview:
    """How things stand now; changes nothing."""
    holdings = list_holdings(context)
    counts: dict[str, tuple[int, int]] = {}
    for holding in holdings:
        number, files = counts.get(holding.application or "", (0, 0))
        counts[holding.application or ""] = number + 1, files + holding.files
    steps, _ = history(context, _NEWEST)
    # What waits and came from here already is known by its path.
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
    """How many archives in the downloads folders are ready, need an answer, or neither is known."""
    try:
        known = msgspec.json.decode(
            small_file(context.places.data / "downloads.json", _LARGEST), type=_Downloads
        ).downloads
    except (OSError, msgspec.DecodeError, RecursionError):
        known = {}
    found: Counter[str] = Counter()
    named = context.settings().downloads
    folders = [str(expanded(one).absolute()) for one in named.split(os.pathsep) if one] if named else []
    for folder in folders or [platformdirs.user_downloads_dir()]:
        with suppress(OSError), os.scandir(folder) as there:
            for one in there:
                if one.name.startswith(".") or one.path in added or not is_archive_name(one.name):
                    continue
                seen = known.get(one.path)
                if seen is None or seen.modified < one.stat().st_mtime_ns:
                    found["unknown"] += 1
                elif seen.state == "new":
                    found["ready" if seen.application and not seen.asks else "asked"] += 1
                elif seen.state == "locked":
                    found["asked"] += 1
    return found
