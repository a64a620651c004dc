"""What no directory speaks for: by pattern to a folder that takes it, else aside."""

from usufruct.model.applications import Application, Arrange, Folder
from usufruct.model.entries import TOP
from usufruct.model.layout import AsideKind, Evidence, Layout
from usufruct.planning.junk import is_notes
from usufruct.planning.names import folded, is_archive_name
from usufruct.planning.patterns import Patterns
from usufruct.planning.places import NOTES_REASON, joined
from usufruct.planning.tree import Tree


def place_by_pattern(layout: Layout, tree: Tree, application: Application) -> None:
    """Give every file that is still open to the first folder, in the definition's order, that takes it."""
    takers = [(folder, Patterns(folder.takes)) for folder in application.folders if folder.takes]
    found: dict[str, dict[int, list[int]]] = {}
    content_top = _content_top(layout, tree) if any(takes.has_paths for _, takes in takers) else 0
    names = layout.listing.names
    for directory, rows in enumerate(tree.rows):
        relative = tree.relative(directory, content_top) if directory else ""
        for row in rows:
            if not layout.is_open(row) or (layout.reason_of[row] < 0 and is_notes(names[row])):
                continue
            for folder, takes in takers:
                pattern = takes.by_name(names[row]) or takes.by_path(joined(relative, names[row]))
                if pattern:
                    layout.reason_of[row] = layout.reason(f"{folder.name} takes {pattern}")
                    found.setdefault(folder.name, {}).setdefault(directory, []).append(row)
                    break
    for folder, _ in takers:
        _place_found(layout, tree, folder, found.get(folder.name, {}))


def _content_top(layout: Layout, tree: Tree) -> int:
    """The deepest directory that holds all that is not junk."""
    directories = {
        directory
        for directory, rows in enumerate(tree.rows)
        if any(layout.aside_of[row] != AsideKind.JUNK for row in rows)
    }
    return tree.common(directories) if directories else 0


def _place_found(layout: Layout, tree: Tree, folder: Folder, found: dict[int, list[int]]) -> None:
    """Place the rows that a folder takes by pattern: `found` gives them by directory."""
    known = {folded(name): name for name in folder.known}
    paths: dict[int, str] = {}
    if folder.arrange is Arrange.TREE:
        for directory in found:
            if (path := _from_known(tree, directory, known)) is not None:
                paths[directory] = path
        unknown = {directory for directory in found if directory not in paths}
        if unknown:
            common = tree.common(unknown)
            paths |= {directory: tree.relative(directory, common) for directory in unknown}
    for directory, rows in found.items():
        home = layout.home(folder, joined(folder.path, paths.get(directory, "")))
        for row in rows:
            layout.place(row, home, layout.reason_of[row], Evidence.PATTERN)


def _from_known(tree: Tree, directory: int, known: dict[str, str]) -> str | None:
    """The directory's path from its outermost component in `known` on, in the definition's spelling."""
    if not known:
        return None
    parts = tree.relative(directory, TOP).split("/")
    for depth, part in enumerate(parts):
        if spelling := known.get(folded(part)):
            return "/".join([spelling, *parts[depth + 1 :]])
    return None


def set_rest_aside(layout: Layout, tree: Tree, application: Application) -> None:
    """Give a reason to every row that found no place."""
    notes = layout.reason(NOTES_REASON)
    inside = layout.reason("an archive inside the archive; --nested opens it")
    unmet = layout.reason(f"no folder of {application.name} takes it")
    names = layout.listing.names
    for rows in tree.rows:
        for row in rows:
            if not layout.is_open(row):
                continue
            if is_notes(names[row]) and layout.reason_of[row] < 0:
                layout.set_aside(row, AsideKind.NOTES, notes)
            elif is_archive_name(names[row]):
                layout.set_aside(row, AsideKind.ARCHIVE, inside)
            else:
                doubt = layout.reason_of[row]
                layout.set_aside(row, AsideKind.NOT_TAKEN, doubt if doubt >= 0 else unmet)
