"""Links may point anywhere inside the destination and nowhere else. Nothing is placed through a link."""

from collections.abc import Iterator

from usufruct.model.entries import EntryKind, Listing
from usufruct.model.layout import Layout
from usufruct.model.rulings import Refuse, Skip, SkippedKind
from usufruct.planning.names import spelling_key


def judge_links(layout: Layout) -> Iterator[Skip | Refuse]:
    """Refuse links that lead out of the destination, and entries whose path leads through a link."""
    listing = layout.listing
    if not listing.targets:
        return
    rows = [row for row in layout.placed_rows() if listing.kinds[row] == EntryKind.LINK]
    if not rows:
        return
    links = {spelling_key(_destination(layout, row)) for row in rows}
    through = {number for number, home in enumerate(layout.homes) if any(above in links for above in _above(home.path))}
    beyond = [row for row in layout.placed_rows() if layout.home_of[row] in through]
    yield Refuse(beyond, "its path leads through a link of the archive")
    for row in rows:
        if layout.home_of[row] not in through and (fault := _fault(layout, row)):
            yield leading_out(listing, row, fault)


def leading_out(listing: Listing, row: int, why: str) -> Skip | Refuse:
    """Refuse a link that leads out of the destination.

    In system packages this is no attack: they link to files of other packages.
    """
    return Skip([row], SkippedKind.NOT_TAKEN, why) if listing.is_system_package else Refuse([row], why)


def _destination(layout: Layout, row: int) -> str:
    home = layout.homes[layout.home_of[row]].path
    return f"{home}/{layout.name(row)}" if home else layout.name(row)


def _above(path: str) -> list[str]:
    parts = spelling_key(path).split("/")
    return ["/".join(parts[:depth]) for depth in range(1, len(parts) + 1)]


def _fault(layout: Layout, row: int) -> str | None:
    """Why the link may not be placed.

    A target that first climbs and then only goes in stays inside whatever lies on its way, now and later: each link
    that it may meet there was judged by the same rule. One that goes in and climbs again does not.
    """
    home = layout.homes[layout.home_of[row]]
    # A folder elsewhere is a separate destination: links in it must stay below its path.
    floor = home.folder.path.rstrip("/").split("/") if home.folder and home.folder.is_elsewhere else []
    depth = len([part for part in home.path.split("/") if part]) if not floor else len(home.path.split("/"))
    target = layout.listing.targets[row]
    if target.startswith(("/", "\\")) or target[1:2] == ":":
        return f"it is a link to {target}, outside the destination"
    parts = [part for part in target.replace("\\", "/").split("/") if part not in ("", ".")]
    climbs = next((number for number, part in enumerate(parts) if part != ".."), len(parts))
    if not parts:
        return "it is a link to nothing"
    if "\0" in target:
        return "it is a link to a name with a NUL character"
    if ".." in parts[climbs:]:
        return f"it is a link to {target}, which goes in and climbs out again: where that ends may change"
    if climbs > depth - len(floor):
        return f"it is a link to {target}, which leads out of the destination"
    if not climbs and len(parts) == 1 and spelling_key(parts[0]) == spelling_key(layout.name(row)):
        return "it is a link to itself"
    return None
