"""Find what packages contain for package managers and the desktop: it is no content of any application.

These places are those of the Filesystem Hierarchy Standard and the freedesktop.org standards; `*.dist-info` is from the
specification of Python wheels.
"""

import re
from collections.abc import Iterator

from usufruct.model.entries import TOP
from usufruct.model.layout import Layout
from usufruct.model.rulings import Skip, SkippedKind
from usufruct.planning.junk import can_be_read
from usufruct.planning.tree import Tree

_SHARED = frozenset("doc man info applications metainfo appdata lintian bug doc-base menu mime icons/hicolor".split())
"""Below `usr/share`: what describes a program to the system, its own icons among it."""
_ICONS = "pixmaps"
"""Directly in it lie programs' icons; in directories below it lies what the programs themselves read."""
_READ = ("doc", "man", "info")
_INSTALLED = re.compile(r".+\.(?:dist|egg)-info")
_MANIFESTS = frozenset(
    "debian-binary package.json package-lock.json yarn.lock composer.json pkg-info setup.py setup.cfg pyproject.toml "
    "manifest.in cargo.toml cargo.lock bower.json".split()
)
_CONTROL = re.compile(r"control\.tar(?:\.\w+)?")


def skip_plumbing(layout: Layout, tree: Tree) -> Iterator[Skip]:
    """Skip files in places where packages describe themselves; texts among them are kept as notes."""
    names = layout.listing.names
    for directory, is_read in _plumbing_directories(tree).items():
        rows = layout.open_among(tree.rows[directory])
        notes = {row for row in rows if is_read and (row in tree.notes or can_be_read(names[row]))}
        yield Skip(notes, SkippedKind.NOTES, "documentation of the package")
        yield Skip({*rows} - notes, SkippedKind.JUNK, "tells the system about the package; no content")


def skip_manifests(layout: Layout, tree: Tree) -> Iterator[Skip]:
    """Skip files at the top that describe a package, unless they are marks."""
    names = layout.listing.names
    for directory in _tops(tree):
        rows = [row for row in layout.open_among(tree.rows[directory]) if names[row].lower() in _MANIFESTS]
        yield Skip(rows, SkippedKind.JUNK, "describes the package to its manager; no content")


def _plumbing_directories(tree: Tree) -> dict[int, bool]:
    """Return these directories and all below them, and whether each contains documentation."""
    tops: dict[int, bool] = {}
    alone: dict[int, bool] = {}
    for usr in tree.directories_by_name.get("usr", ()):
        for share in (child for child in tree.children[usr] if tree.names[child] == "share"):
            for directory in tree.children[share]:
                name = tree.names[directory]
                if name in _SHARED:
                    tops[directory] = name in _READ
                if name == _ICONS:
                    alone[directory] = False
                if name == "icons":
                    own = (child for child in tree.children[directory] if f"icons/{tree.names[child]}" in _SHARED)
                    tops |= dict.fromkeys(own, False)
    for directory in tree.listing.nested:
        if _CONTROL.fullmatch(tree.path(directory).rpartition("/")[2]):
            tops[directory] = False
    tops |= dict.fromkeys((here for here, name in enumerate(tree.names) if _INSTALLED.fullmatch(name)), False)
    return alone | {below: is_read for top, is_read in tops.items() for below in tree.below(top)}


def _tops(tree: Tree) -> list[int]:
    """Return the directories from the top down to the first one with files in it."""
    tops = [TOP]
    while not tree.rows[tops[-1]] and len(tree.children[tops[-1]]) == 1:
        tops.append(tree.children[tops[-1]][0])
    return tops[-1:]
