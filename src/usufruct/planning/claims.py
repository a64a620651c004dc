"""Find the directories of an archive that any application claims, by its marks and names."""

from collections.abc import Iterable

from msgspec import Struct

from usufruct.model.applications import Application
from usufruct.model.entries import Listing
from usufruct.planning.folder_names import FolderNames
from usufruct.planning.marks import marks_of
from usufruct.planning.tree import Tree


class Claims(Struct, frozen=True):
    """The directories that are claimed, and how."""

    pieces: frozenset[int] = frozenset()
    """Pieces of any application: nobody else tears anything out of them."""
    named: frozenset[int] = frozenset()
    """With a name of a root or a folder of the user's own: in them a shipped definition's root name means nothing."""


NO_CLAIMS = Claims()


def claims_of(listing: Listing, applications: Iterable[Application]) -> Claims:
    """Return the directories that these applications claim."""
    tree = Tree.of(listing)
    pieces: set[int] = set()
    named: set[int] = set()
    for application in applications:
        for marked in marks_of(tree, application).values():
            pieces.update(marked)
        if not application.is_shipped:
            names = FolderNames.of(application)
            for name in (*names.single, *(parts[0] for parts in names.root if len(parts) == 1)):
                named.update(tree.directories_by_name.get(name, ()))
    return Claims(frozenset(pieces), frozenset(named))
