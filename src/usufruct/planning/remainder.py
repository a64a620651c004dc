"""What no directory speaks for: by pattern to a folder that takes it, else aside."""

from usufruct.model.applications import Application, Arrange, Folder
from usufruct.model.entries import TOP, EntryKind
from usufruct.model.layout import AsideKind, Evidence, Layout
from usufruct.planning.names import folded
from usufruct.planning.patterns import Patterns
from usufruct.planning.places import NOTES_REASON, joined
from usufruct.planning.tree import Tree


def place_by_pattern(layout: Layout, tree: Tree, application: Application) -> None:
    """Give every file that is still open to the first folder, in the definition's order, that takes it."""
    takers = [(folder, Patterns(folder.takes)) for folder in application.folders if folder.takes]
    found: dict[str, dict[int, list[int]]] = {}
    by_name = [takes.found_in(tree.by_form) for _, takes in takers]
    has_paths = any(takes.has_paths for _, takes in takers)
    rows = range(len(layout.listing)) if has_paths else sorted(set().union(*by_name))
    content_top = _content_top(layout, tree) if has_paths else 0
    names, directories = layout.listing.names, layout.listing.directory_of
    for row in rows:
        if layout.listing.kinds[row] == EntryKind.DIRECTORY or not layout.is_open(row):
            continue
        if layout.reason_of[row] < 0 and row in tree.notes:
            continue
        directory = directories[row]
        for (folder, takes), matched in zip(takers, by_name, strict=True):
            pattern = matched.get(row)
            if not pattern and takes.has_paths:
                relative = tree.relative(directory, content_top) if directory else ""
                pattern = takes.by_path(joined(relative, names[row]))
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
    kinds, doubts = layout.listing.kinds, layout.reason_of
    special = tree.notes | tree.archives
    for row in layout.open_rows():
        if row not in special and kinds[row] != EntryKind.DIRECTORY:
            layout.aside_of[row] = AsideKind.NOT_TAKEN
            if doubts[row] < 0:
                doubts[row] = unmet
        elif kinds[row] == EntryKind.DIRECTORY:
            continue
        elif doubts[row] < 0 and row in tree.notes:
            layout.set_aside(row, AsideKind.NOTES, notes)
        elif row in tree.archives:
            layout.set_aside(row, AsideKind.ARCHIVE, inside)
        else:
            layout.set_aside(row, AsideKind.NOT_TAKEN, doubts[row] if doubts[row] >= 0 else unmet)
