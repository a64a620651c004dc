"""Find the free names that files and pieces of an updated holding already have, so that they keep them."""

from typing import NamedTuple

from usufruct.ledger import Ledger
from usufruct.ledger.layers import names_of_holding
from usufruct.model.plan import Plan
from usufruct.planning.names import is_numbered, joined, unnumbered, without_number


class KeptNames(NamedTuple):
    """Free names that a holding's files and pieces have now."""

    rows: dict[int, str]
    """By row, for files that are in no piece."""
    pieces: dict[str, str]
    """By the path of the piece."""


def kept_names(plan: Plan, ledger: Ledger, holding: int) -> KeptNames:
    """Return the present names of files and pieces that would otherwise get another free name."""
    layout, kept = plan.layout, KeptNames({}, {})
    has: dict[str, set[str]] = {}
    for _, directory, name, _ in names_of_holding(ledger, holding):
        has.setdefault(directory, set()).add(name)
    # A name that the archive itself uses is not a free name.
    rows_of = layout.rows_by_home()
    pieces = {home.piece for home in layout.homes}
    for row in plan.beside:
        number, name = layout.home_of[row], layout.name(row)
        home, directory = layout.homes[number], plan.snapshot.surveyed(number).path
        if not home.piece:
            free = has.get(directory, set()) - set(map(layout.name, rows_of[number]))
            # If the user edited the file with this name, the next name is that of the file placed beside it.
            own = without_number(name, layout.listing.names[row])
            order = [(len(one), one) for one in free if is_numbered(one, own)]
            if later := [one for one in order if one > (len(name), name)]:
                kept.rows[row] = min(later)[1]
            continue
        inside, parent = home.path[len(home.piece) :], home.piece.rpartition("/")[0]
        above, _, piece = directory.removesuffix(inside).rpartition("/")
        own = unnumbered(piece)
        order = []
        for path in has:
            over, _, other = path.removesuffix(inside).rpartition("/")
            # A name that was tried, because something in it was edited, is the name of a home by now.
            is_free = joined(parent, other) not in pieces
            if over == above and is_free and is_numbered(other, own) and name in has[path]:
                order.append((len(other), other))
        if order:
            kept.pieces.setdefault(home.piece, min(order)[1])
    return kept
