"""Judge links on the disk where they will be."""

import os
from collections.abc import Iterator

from usufruct.files.paths import is_below, real_path
from usufruct.model.entries import EntryKind
from usufruct.model.layout import Layout
from usufruct.model.rulings import Refuse, Skip, SkippedKind
from usufruct.model.snapshot import Snapshot
from usufruct.planning.links import leading_out


def refuse_leading_out(layout: Layout, snapshot: Snapshot) -> Iterator[Skip | Refuse]:
    """Refuse links that would lead out of their destination because of what is on disk.

    The layout has judged what a link says. Here it may still lead through a link of the user's, or be in a directory
    that one leads to.
    """
    kinds, targets = layout.listing.kinds, layout.listing.targets
    for row in [row for row in layout.placed_rows() if kinds[row] == EntryKind.LINK] if targets else ():
        here = snapshot.surveyed(layout.home_of[row])
        reached = real_path(os.path.join(here.path, targets[row]))
        if not is_below(reached, here.base):
            why = f"it is a link to {targets[row]}, which leads out of the destination, to {reached}"
            yield leading_out(layout.listing, row, why)


def skip_dangling(layout: Layout, snapshot: Snapshot) -> Iterator[Skip]:
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
            yield Skip([row], SkippedKind.NOT_TAKEN, why)
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
