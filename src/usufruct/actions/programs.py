"""Look at content whose names do not say whether it can run."""

from itertools import islice

from usufruct.actions.download import Variant
from usufruct.actions.request import Request
from usufruct.model.applications import Programs
from usufruct.model.entries import EntryKind
from usufruct.planning.tree import Tree
from usufruct.survey.contents import idle_entries_among, programs_among

_MOST_LOOKED_AT = 64 << 20
"""Bytes of content that are unpacked only to see whether any of it is a program."""
_MOST_FILES_LOOKED_AT = 1000
_MOST_ENTRIES, _LARGEST_ENTRY = 100, 1 << 16
"""Desktop entries that are read for whether they start anything, and bytes of each."""


def finds_programs(variant: Variant, request: Request, *, in_all: bool) -> bool:
    """Look at content whose names do not say whether it can run; return whether the listing knows more programs now.

    `in_all`: other content than desktop entries is looked at too, where that takes a moment.
    """
    layout, listing = variant.layout, variant.layout.listing
    application = layout.application
    if application is None or (request.choices.programs or application.programs) is Programs.ALLOW:
        return False
    known, idle = set(listing.programs), set(listing.harmless)
    entries = [row for row, name in enumerate(listing.names) if _may_be_idle(name, listing.sizes[row])]
    if 0 < len(entries) <= _MOST_ENTRIES and not idle and variant.archive.is_divisible:
        with request.access.passwords.known_only():
            listing.harmless.update(idle_entries_among(variant.archive, entries))
    if request.known_programs:
        listing.programs.update(row for row in layout.placed_rows() if listing.path(row) in request.known_programs)
    placed, kinds = layout.home_of, listing.kinds
    untold = (row for row in Tree.of(listing).untold if placed[row] >= 0 and kinds[row] == EntryKind.FILE)
    rows = sorted(islice(untold, _MOST_FILES_LOOKED_AT + 1))
    # A packed stream must be unpacked as far as the last of them.
    looked_at = rows if variant.archive.is_divisible else range(len(listing))
    size = sum(map(listing.sizes.__getitem__, looked_at))
    if in_all and 0 < len(rows) <= _MOST_FILES_LOOKED_AT and size <= _MOST_LOOKED_AT:
        with request.access.passwords.known_only():
            listing.programs.update(programs_among(variant.archive, rows))
    return listing.programs != known or listing.harmless != idle


def _may_be_idle(name: str, size: int) -> bool:
    return name.endswith(".desktop") and size <= _LARGEST_ENTRY
