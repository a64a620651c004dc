"""Links are judged on the disk that they will lie on."""

import os

from usufruct.model.entries import EntryKind
from usufruct.model.layout import Layout
from usufruct.model.snapshot import Snapshot


def refuse_leading_out(layout: Layout, snapshot: Snapshot) -> bool:
    """Refuse links that would resolve outside their destination by what is there now; True if there are any.

    The rules on what a link may say are the layout's; here it may still meet a link of the user's, or lie in a
    directory that one leads to.
    """
    kinds, found = layout.listing.kinds, False
    if not layout.listing.targets:
        return False
    for row in list(layout.placed_rows()):
        if kinds[row] != EntryKind.LINK:
            continue
        here = snapshot.surveyed(layout.home_of[row])
        target = layout.listing.targets[row]
        reached = os.path.realpath(os.path.join(here.path, target))
        if os.path.commonpath((reached, here.base)) != here.base:
            layout.refuse(row, f"it is a link to {target}, which leads out of the destination, to {reached}")
            found = True
    return found
