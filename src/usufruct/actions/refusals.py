"""Errors for archives that are not placed, whatever is answered."""

from collections.abc import Sequence
from pathlib import Path

from usufruct.archives.reading import Archive
from usufruct.errors import DecisionNeeded, EmptyArchive, MachineError, UnsafeArchive, UsufructError, WrongUsage
from usufruct.files.printable import printable
from usufruct.model.entries import Listing, Refusal
from usufruct.model.layout import Layout

_MOST_NAMED = 3
"""Entries that are named as examples of what there is."""
_MOST_OF_PATH = 160
"""Characters of an entry's path in an error."""


def empty(archive: Archive) -> EmptyArchive:
    """Return the error for an archive that contains nothing."""
    return EmptyArchive(
        f"{archive.name} is an archive that holds nothing.",
        remedy="Look where it came from for another one; downloading it again gives the same.",
        path=archive.path,
    )


def unsafe(archive: Archive, refused: Sequence[Refusal], *, has_rest: bool) -> UnsafeArchive:
    """Return the error for an archive with refused entries; `has_rest`: there are others."""
    first, *others = refused
    more = f" ({len(others)} more entries are unsafe)" if others else ""
    rest = "; `--skip-unsafe` places the rest of it" if has_rest else ""
    return UnsafeArchive(
        f"{archive.name} has an unsafe entry, {_shortened(printable(first.entry))}: {first.reason}{more}.",
        kept="Nothing was placed.",
        remedy=f"Do not trust this archive{rest}.",
        path=archive.path,
    )


def _shortened(path: str) -> str:
    """Return only as much of a path as a person reads."""
    return path if len(path) <= _MOST_OF_PATH else f"{path[: _MOST_OF_PATH // 2]}…{path[-_MOST_OF_PATH // 2 :]}"


def matches_nothing(pattern: str, listing: Listing, archive: Archive) -> WrongUsage:
    """Return the error for a pattern of the user's that matches nothing."""
    first = ", ".join(printable(listing.path(row)) for row in range(min(_MOST_NAMED, len(listing))))
    more = f" and {len(listing) - _MOST_NAMED:,} more" if len(listing) > _MOST_NAMED else ""
    return WrongUsage(
        f"{pattern} matches nothing in {archive.name}.",
        remedy=f"It holds {first}{more}; a pattern may be a file's name, or a path from the top as `look` shows it.",
    )


def nothing_left(layout: Layout) -> DecisionNeeded:
    """Return the error for an archive of which nothing would be placed."""
    if not layout.files:
        return DecisionNeeded("Nothing in it can be placed.", remedy="--full says why, for each entry.")
    return DecisionNeeded(
        "Nothing is left to place: every file that is there already stays.",
        remedy="`--on-clash replace` or `--on-clash both` places them.",
    )


def unread(path: Path, error: BaseException) -> UsufructError:
    """Return the error for an examination that failed in an unforeseen way."""
    if isinstance(error, MemoryError):
        return MachineError(
            f"There is not enough memory to read {path.name}.", remedy="Close other programs.", path=str(path)
        )
    return UsufructError(
        f"{path.name} made Usufruct fail ({type(error).__name__}).",
        remedy="Please report it, with what `usufruct -v` says of it.",
        path=str(path),
    )
