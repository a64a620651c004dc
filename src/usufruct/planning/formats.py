"""Of one thing in several formats, only the most preferred is placed."""

from usufruct.model.applications import Arrange
from usufruct.model.layout import AsideKind, Layout
from usufruct.planning.names import folded
from usufruct.planning.patterns import Patterns


def prefer_formats(layout: Layout) -> None:
    """Set aside the less preferred formats of each stem, per destination directory."""
    if not any(home.folder and home.folder.prefer for home in layout.homes):
        return
    stems: dict[tuple[int, str], list[tuple[int, int]]] = {}
    ranked: dict[str, list[Patterns]] = {}
    names = layout.listing.names
    for row in layout.placed_rows():
        number = layout.home_of[row]
        folder = layout.homes[number].folder
        if not folder or not folder.prefer or folder.arrange is Arrange.PIECES:
            continue
        ranks = ranked.setdefault(folder.name, [Patterns([pattern]) for pattern in folder.prefer])
        name = names[row]
        for rank, pattern in enumerate(ranks):
            if pattern.by_name(name):
                stem = folded(_stem(name, folder.prefer[rank]))
                stems.setdefault((number, stem), []).append((rank, row))
                break
    for (number, _), found in stems.items():
        best = min(rank for rank, _ in found)
        for rank, row in found:
            if rank > best:
                folder = layout.homes[number].folder
                assert folder
                reason = f"{folder.name} prefers {folder.prefer[best]} of the same name"
                layout.set_aside(row, AsideKind.OTHER_FORMAT, layout.reason(reason))


def _stem(name: str, pattern: str) -> str:
    """The name without its format: what `*` stands for in `*.tar.gz`, else all before the last dot."""
    tail = pattern[1:]
    if pattern.startswith("*") and tail and not any(c in tail for c in "*?[") and len(tail) < len(name):
        return name[: -len(tail)]
    return name.rpartition(".")[0] or name
