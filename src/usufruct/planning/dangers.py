"""Find entries that deserve a second look before they are placed."""

from itertools import compress

from usufruct.model.entries import EntryKind, Listing
from usufruct.planning.junk import can_run, may_be_programs
from usufruct.planning.tree import Tree


def programs_in(listing: Listing) -> list[int]:
    """Rows of files that the system could start."""
    kinds, names, marked = listing.kinds, listing.names, listing.runnable
    found = listing.programs
    if not marked and not found and not may_be_programs(Tree.of(listing).by_form.by_suffix):
        return []
    return [
        row
        for row, name in enumerate(names)
        if kinds[row] == EntryKind.FILE and (row in found or can_run(name, is_marked=row in marked))
    ]


def links_in(listing: Listing) -> list[int]:
    """Rows of symbolic links."""
    return list(compress(range(len(listing)), map(EntryKind.LINK.__eq__, listing.kinds)))


def disguised_in(listing: Listing) -> list[int]:
    """Return the rows whose names look like others: they have control characters, or marks that turn the text."""
    everything = "".join(listing.names)
    if everything.isprintable():
        return []
    return [
        row for row, name in enumerate(listing.names) if not name.isprintable() and (_turns(name) or _controls(name))
    ]


def _turns(name: str) -> bool:
    return any("\u202a" <= c <= "\u202e" or "\u2066" <= c <= "\u2069" for c in name)


def _controls(name: str) -> bool:
    return any(c < " " or "\x7f" <= c < "\xa0" for c in name)
