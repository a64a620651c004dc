"""Judge links on the disk where they will be."""

import os

from usufruct.files.paths import is_below, real_path
from usufruct.model.entries import EntryKind
from usufruct.model.layout import Layout, SkippedKind
from usufruct.model.snapshot import Snapshot


def refuse_leading_out(layout: Layout, snapshot: Snapshot) -> bool:
    """Refuse links that would lead out of their destination because of what is on disk; return if there are any.

    The layout has judged what a link says. Here it may still lead through a link of the user's, or be in a directory
    that one leads to.
    """
    kinds, found = layout.listing.kinds, False
    if not layout.listing.targets:
        return False
    for row in list(layout.placed_rows()):
        if kinds[row] != EntryKind.LINK:
            continue
        here = snapshot.surveyed(layout.home_of[row])
        target = layout.listing.targets[row]
        reached = real_path(os.path.join(here.path, target))
        if not is_below(reached, here.base):
            fault = f"it is a link to {target}, which leads out of the destination, to {reached}"
            if layout.listing.is_system_package:
                layout.skip(row, SkippedKind.NOT_TAKEN, layout.reason(fault))
            else:
                layout.refuse(row, fault)
                found = True
    return found


def skip_dangling(layout: Layout, snapshot: Snapshot) -> None:
    """Skip links to files that are neither placed nor there: they would lead nowhere."""
    kinds, targets = layout.listing.kinds, layout.listing.targets
    links = [row for row in layout.placed_rows() if kinds[row] == EntryKind.LINK] if targets else []
    if not links:
        return
    there = _destinations(layout, snapshot)
    while links:
        dangling = []
        for row in links:
            here = snapshot.surveyed(layout.home_of[row])
            reached = os.path.normpath(os.path.join(here.path, targets[row]))
            if reached not in there and not os.path.lexists(reached):
                dangling.append(row)
        for row in dangling:
            there.discard(f"{snapshot.surveyed(layout.home_of[row]).path}/{layout.name(row)}")
            why = f"is a link to {targets[row]}, which is neither placed nor there"
            layout.skip(row, SkippedKind.NOT_TAKEN, layout.reason(why))
        # A link to a skipped link is dangling too.
        links = [row for row in links if row not in dangling] if dangling else []


def _destinations(layout: Layout, snapshot: Snapshot) -> set[str]:
    """The paths of all that is placed, and of the directories above."""
    found: set[str] = set()
    for number, rows in enumerate(layout.rows_by_home()):
        if rows:
            here = snapshot.surveyed(number)
            found.update(f"{here.path}/{layout.name(row)}" for row in rows)
            path = here.path
            while path not in found and len(path) > len(here.base):
                found.add(path)
                path = os.path.dirname(path)
            found.add(here.base)
    return found
