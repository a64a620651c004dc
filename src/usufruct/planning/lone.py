"""Name a directory that is all of an archive: its own name without version, branch and hash."""

import re

from usufruct.model.entries import TOP
from usufruct.model.layout import Layout
from usufruct.planning.names import folded, tidy_name
from usufruct.planning.tree import Tree

_BRANCH = re.compile(r"(?i)[-_.](?:master|main|trunk|(?=[0-9a-f]*[0-9])[0-9a-f]{7,40})$")
"""What the hosts of repositories put behind the name: a branch, or a commit's hash."""


def lone_name(layout: Layout, tree: Tree, directory: int) -> str:
    """Return the name of a directory at its destination.

    If it is all of its archive, and has the name of the archive, a branch or a commit, that is the name without
    version, branch and hash: programs look for `mesh-tools`, not for `mesh-tools-1.2`.
    """
    name, nested = tree.names[directory], layout.listing.nested
    archive = next((here for here in reversed(tree.chain(directory)[:-1]) if here in nested), TOP)
    if directory not in tree.chain(tree.content_tops.get(archive, TOP)):
        return name
    plain = _BRANCH.sub("", name)
    if plain == name and folded(tidy_name(name)) != folded(nested.get(archive, layout.tidy_name)):
        return name
    return tidy_name(plain)
