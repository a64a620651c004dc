"""Links may point anywhere inside the destination and nowhere else; nothing is placed through one."""

from usufruct.model.entries import EntryKind
from usufruct.model.layout import Layout
from usufruct.planning.names import spelling_key

_MOST_STEPS = 64


def judge_links(layout: Layout) -> None:
    """Refuse links that lead out of the destination, and entries whose path leads through a link."""
    listing = layout.listing
    if not listing.targets:
        return
    links = {
        spelling_key(_destination(layout, row)): row
        for row in layout.placed_rows()
        if listing.kinds[row] == EntryKind.LINK
    }
    if not links:
        return
    through = {number for number, home in enumerate(layout.homes) if any(above in links for above in _above(home.path))}
    for row in list(layout.placed_rows()):
        if layout.home_of[row] in through:
            layout.refuse(row, "its path leads through a link of the archive")
    for key, row in links.items():
        if layout.home_of[row] >= 0 and (fault := _fault(layout, links, row, key)):
            layout.refuse(row, fault)


def _destination(layout: Layout, row: int) -> str:
    home = layout.homes[layout.home_of[row]].path
    return f"{home}/{layout.name(row)}" if home else layout.name(row)


def _above(path: str) -> list[str]:
    parts = spelling_key(path).split("/")
    return ["/".join(parts[:depth]) for depth in range(1, len(parts) + 1)]


def _fault(layout: Layout, links: dict[str, int], row: int, key: str) -> str | None:
    """Why the link may not be placed, following it through the archive's other links."""
    home = layout.homes[layout.home_of[row]]
    # A folder that lies elsewhere is a destination of its own: links in it must stay below its path.
    floor = home.folder.path.rstrip("/").split("/") if home.folder and home.folder.is_elsewhere else []
    here = [part for part in home.path.split("/") if part] if not floor else home.path.split("/")
    target = layout.listing.targets[row]
    pending = target.replace("\\", "/").split("/")[::-1]
    if target.startswith(("/", "\\")) or target[1:2] == ":":
        return f"it is a link to {target}, outside the destination"
    for _ in range(_MOST_STEPS):
        if not pending:
            return None
        part = pending.pop()
        if part == "..":
            if len(here) <= len(floor):
                return f"it is a link to {target}, which leads out of the destination"
            here.pop()
        elif part not in ("", "."):
            step = spelling_key("/".join([*here, part]))
            if step in links and step != key:
                further = layout.listing.targets[links[step]].replace("\\", "/")
                if further.startswith("/") or further[1:2] == ":":
                    return f"it is a link to {target}, which leads out of the destination"
                pending.extend(further.split("/")[::-1])
            elif step == key:
                return "it is a link to itself"
            else:
                here.append(part)
    return f"it is a link to {target}, through too many other links"
