"""Find the directories of an archive that are pieces of an application: those that contain a folder's mark."""

from collections.abc import Iterator

from usufruct.model.applications import Application
from usufruct.model.entries import TOP, EntryKind
from usufruct.planning.names import joined
from usufruct.planning.patterns import Patterns, patterns_of
from usufruct.planning.tree import Marks, Tree


def marks_of(tree: Tree, application: Application) -> Marks:
    """Return the directories that are pieces, for each folder of pieces; they are looked for once in a tree."""
    if application not in tree.marks:
        tree.marks[application] = _marks_in(tree, application)
    return tree.marks[application]


def _marks_in(tree: Tree, application: Application) -> Marks:
    marks: Marks = {}
    names, directory_of, kinds = tree.listing.names, tree.listing.directory_of, tree.listing.kinds

    def found_by(path: str) -> Iterator[tuple[int, int]]:
        """Yield files that match the last component, each with the directory above the components before it."""
        *above, last = [patterns_of(part) for part in path.split("/")]
        pieces: dict[int, int] = {}
        for row in sorted({*last.found_in(tree.by_form)}):
            directory = directory_of[row]
            if directory not in pieces:
                pieces[directory] = _above(tree, directory, above)
            if pieces[directory] >= 0 and kinds[row] != EntryKind.DIRECTORY:
                yield row, pieces[directory]

    for folder in application.folders:
        if not folder.mark:
            continue
        found = marks.setdefault(folder.name, {})
        matches = sorted(match for mark in folder.mark for match in found_by(mark))
        for row, piece in matches:
            found.setdefault(piece, joined(tree.relative(directory_of[row], piece), names[row]))
        for barred in folder.unless if found else ():
            for _, piece in found_by(barred):
                if found.pop(piece, None):
                    tree.barred.setdefault(application, set()).add(piece)
    return marks


def _above(tree: Tree, directory: int, parts: list[Patterns]) -> int:
    """Return the directory above the last components of `directory` if these match `parts`, else -1."""
    for part in reversed(parts):
        if directory == TOP or not part.by_name(tree.names[directory]):
            return -1
        directory = tree.parent(directory)
    return directory
