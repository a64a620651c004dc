"""Place everything in one folder that the user named."""

from usufruct.model.applications import Arrange, Folder
from usufruct.model.entries import TOP
from usufruct.model.layout import Layout
from usufruct.model.rulings import Evidence, Unwrap
from usufruct.planning.lone import lone_name
from usufruct.planning.names import joined
from usufruct.planning.places import Match, Places
from usufruct.planning.remainder import telling_name
from usufruct.planning.tree import Tree


def place_into(layout: Layout, tree: Tree, places: Places, folder: Folder, sub: str = "") -> None:
    """Read all content as lying below the folder's name, whatever the folder takes, or in a directory `sub` of it.

    Directories common to all of it are dropped; in a tree folder the deepest one stays, unless `sub` says where. In a
    pieces folder those are only the ones above a piece; where nothing is marked, each directory is a piece, and loose
    files make one under the archive's name. With `sub` nothing is made a piece.
    """
    why = f"you said --into {joined(folder.name, sub)}"
    content = {here for here, rows in enumerate(tree.rows) if any(_is_content(layout, tree, row) for row in rows)}
    if not content:
        return
    if folder.arrange is not Arrange.PIECES or sub:
        top = tree.common(content)
        _drop(layout, tree, top)
        if folder.arrange is Arrange.TREE and not sub and folder.gather and not folder.is_root:
            alone = sum(1 for here in content for row in tree.rows[here] if _is_content(layout, tree, row)) == 1
            sub = "" if alone else telling_name(layout, tree, top)
        places.read_folder(top, Match(folder, why, Evidence.FOLDER_NAME), takes_all=True, sub=sub)
    elif places.marks.get(folder.name) and not _is_one_piece(layout, tree, places, folder, content):
        places.read_folder(TOP, Match(folder, why, Evidence.FOLDER_NAME))
        _place_unmarked(layout, tree, places, folder, why)
    else:
        _place_unmarked(layout, tree, places, folder, why)


def _is_one_piece(layout: Layout, tree: Tree, places: Places, folder: Folder, content: set[int]) -> bool:
    """Whether marked directories would tear the only top directory apart, because it has other content too."""
    top = tree.common(content)
    return top != TOP and top not in places.marks[folder.name] and _holds_files(layout, tree, top)


def _place_unmarked(layout: Layout, tree: Tree, places: Places, folder: Folder, why: str) -> None:
    """Make pieces of the directories that have no mark."""
    holding = _directories_with_content(layout, tree)
    top = TOP
    while not _holds_files(layout, tree, top):
        inner = [child for child in tree.children[top] if child in holding]
        if len(inner) != 1:
            break
        top = inner[0]
    if top not in holding:
        return
    if top != TOP and _holds_files(layout, tree, top):
        _drop(layout, tree, tree.parent(top))
        places.place_piece(
            top, lone_name(layout, tree, top), Match(folder, f"{why}; it is one directory", Evidence.FOLDER_NAME)
        )
        return
    _drop(layout, tree, top)
    apart = frozenset(tree.children[top])
    for child in tree.children[top]:
        if child in holding:
            match = Match(folder, f"{why}; it is a directory", Evidence.FOLDER_NAME)
            places.place_piece(child, tree.names[child], match)
    if _holds_files(layout, tree, top):
        loose = f"{why}; loose files go together under the archive's name"
        places.place_piece(top, places.tidy_name_at(top), Match(folder, loose, Evidence.FOLDER_NAME), apart)


def _is_content(layout: Layout, tree: Tree, row: int) -> bool:
    return layout.is_open(row) and row not in tree.notes


def _holds_files(layout: Layout, tree: Tree, directory: int) -> bool:
    return any(_is_content(layout, tree, row) for row in tree.rows[directory])


def _directories_with_content(layout: Layout, tree: Tree) -> set[int]:
    """Return the directories that contain open content, at any depth."""
    return {
        above
        for directory in range(len(tree.rows))
        if _holds_files(layout, tree, directory)
        for above in tree.chain(directory)
    }


def _drop(layout: Layout, tree: Tree, top: int) -> None:
    """Record the directories down to `top` as wrappers."""
    layout.follow(Unwrap(tree.path(above), "is common to all of the content") for above in tree.chain(top)[1:])
