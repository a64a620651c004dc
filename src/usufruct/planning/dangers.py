"""What in an archive deserves a second look before it is placed."""

from usufruct.model.entries import EntryKind, Listing
from usufruct.planning.junk import can_run


def programs_in(listing: Listing) -> list[int]:
    """Rows of files that the system could start."""
    kinds, names, marked = listing.kinds, listing.names, listing.runnable
    return [
        row for row, name in enumerate(names) if kinds[row] == EntryKind.FILE and can_run(name, is_marked=row in marked)
    ]


def links_in(listing: Listing) -> list[int]:
    """Rows of symbolic links."""
    return [row for row, kind in enumerate(listing.kinds) if kind == EntryKind.LINK]


def disguised_in(listing: Listing) -> list[int]:
    """Rows of names that show as something else: control characters, or marks that turn the direction of writing."""
    return [row for row, name in enumerate(listing.names) if (not name.isascii() and _turns(name)) or _controls(name)]


def _turns(name: str) -> bool:
    return any("\u202a" <= c <= "\u202e" or "\u2066" <= c <= "\u2069" for c in name)


def _controls(name: str) -> bool:
    return not name.isprintable() and any(c < " " or "\x7f" <= c < "\xa0" for c in name)
