"""Find sibling directories with the same things in several sizes, qualities, languages or for several systems."""

import re
from collections.abc import Iterator

from usufruct.model.applications import Arrange
from usufruct.model.choices import Choices
from usufruct.model.layout import Layout
from usufruct.model.rulings import Decision, Evidence, Option, Skip, SkippedKind, Used
from usufruct.planning.names import folded, folded_path
from usufruct.planning.tree import Tree

_SIZES = frozenset(
    "hd sd fhd uhd qhd ld lq hq mq lowres hires highres midres lores low medium mid high ultra small large big "
    "tiny huge lowquality highquality lossless lossy compressed uncompressed".split()
)
_RESOLUTION = re.compile(r"\d{1,2}k|\d{3,4}p|\d{1,3}(?:dpi|bit|khz)")
_SYSTEMS = frozenset("win windows win32 win64 mac macos osx linux unix x64 x86 arm64".split())
_LANGUAGES = frozenset(
    "en de fr es it nl pl pt ru ja jp zh cn ko cs sv da fi nb no tr el hu ro uk english german deutsch french francais "
    "spanish espanol italian italiano dutch polish portuguese russian japanese chinese korean".split()
)
_WORD = re.compile(r"[^\W_]+")
_MOST = 24
"""Directories that are compared; where there are more, they are the things themselves."""


def decide_variants(layout: Layout, tree: Tree, choices: Choices) -> Iterator[Skip | Used | Decision]:
    """Skip variants that were not chosen; ask if none was chosen, although a tree could hold them all."""
    words = {folded_path(word.strip("/")): word for word in choices.choose}
    # Ask once about the same names in several directories.
    alike: dict[tuple[str, ...], dict[str, list[int]]] = {}
    for directories in _variants(layout, tree):
        called = sorted((tree.names[directory], directory) for directory in directories)
        names = alike.setdefault(tuple(name for name, _ in called), {})
        for name, directory in called:
            names.setdefault(name, []).append(directory)
    for names in alike.values():
        chosen = [name for name in names if folded(name) in words]
        yield from (Used(words[folded(name)]) for name in chosen)
        if "all" in words:
            yield Used(words["all"])
        elif chosen:
            why = f"{' and '.join(chosen)} was chosen instead"
            for name, directories in names.items():
                if name not in chosen:
                    yield Skip(_rows_below(layout, tree, *directories), SkippedKind.NOT_CHOSEN, why)
        else:
            yield _question(layout, tree, names)


def _variants(layout: Layout, tree: Tree) -> Iterator[list[int]]:
    """Return groups of sibling directories that hold the same things in other sizes, languages and the like."""
    used = _used(layout, tree)
    for parent in sorted(used, key=tree.path):
        children = used[parent]
        if len(children) < 2:
            continue
        alike: dict[str, list[int]] = {}
        for child in children:
            for base, _ in _readings(tree.names[child]):
                alike.setdefault(base, []).append(child)
        for several in alike.values():
            if 2 <= len(several) <= _MOST and _hold_the_same(layout, tree, several):
                yield sorted(several)


def _used(layout: Layout, tree: Tree) -> dict[int, list[int]]:
    """Return for each directory those directly in it that contain anything placed in a tree, at any depth."""
    trees = {number for number, home in enumerate(layout.homes) if home.folder and home.folder.arrange is Arrange.TREE}
    directories = layout.listing.directory_of
    by_home = layout.rows_by_home() if trees else []
    here = {directories[row] for number in trees for row in by_home[number]}
    found: dict[int, list[int]] = {}
    seen = set()
    for directory in here:
        while directory > 0 and directory not in seen:
            seen.add(directory)
            found.setdefault(tree.parent(directory), []).append(directory)
            directory = tree.parent(directory)
    return found


def _readings(name: str) -> Iterator[tuple[str, str]]:
    """Return what is left of a name without the one word that names a variant, and the kind of that word."""
    found = [(match.span(), kind) for match in _WORD.finditer(name) if (kind := _kind_of(match[0].lower()))]
    if len(found) == 1:
        ((start, end), kind), *_ = found
        yield f"{kind}:{folded(name[:start])}|{folded(name[end:])}", kind


def _kind_of(word: str) -> str:
    if word in _SIZES or _RESOLUTION.fullmatch(word):
        return "size"
    return "system" if word in _SYSTEMS else "language" if word in _LANGUAGES else ""


def _hold_the_same(layout: Layout, tree: Tree, several: list[int]) -> bool:
    kinds = {kind for directory in several for _, kind in _readings(tree.names[directory])}
    stems = []
    for directory in several:
        rows = _rows_below(layout, tree, directory)
        if not rows or not all(_is_in_tree(layout, row) for row in rows):
            return False
        # Below a folder's own directory, a language may well be part of the content.
        if kinds != {"size"} and any(layout.evidence_of[row] >= Evidence.FOLDER_NAME for row in rows):
            return False
        stems.append({_stem(layout, tree, row, directory) for row in rows})
    smallest = min(stems, key=len)
    return all(2 * len(smallest & other) >= len(smallest) for other in stems if other is not smallest)


def _is_in_tree(layout: Layout, row: int) -> bool:
    folder = layout.homes[layout.home_of[row]].folder
    return folder is not None and folder.arrange is Arrange.TREE


def _stem(layout: Layout, tree: Tree, row: int, top: int) -> str:
    """Return a file's path below its variant's directory, without its type and the word for the variant."""
    listing = layout.listing
    below = tree.relative(listing.directory_of[row], top)
    name = listing.names[row].rpartition(".")[0] or listing.names[row]
    words = [word for word in _WORD.findall(name.lower()) if not _kind_of(word)]
    return f"{folded_path(below)}/{''.join(words)}"


def _rows_below(layout: Layout, tree: Tree, *directories: int) -> list[int]:
    every = (here for directory in directories for here in tree.below(directory))
    return [row for here in every for row in tree.rows[here] if layout.home_of[row] >= 0]


def _question(layout: Layout, tree: Tree, names: dict[str, list[int]]) -> Decision:
    options = []
    for name in sorted(names, key=folded):
        rows = _rows_below(layout, tree, *names[name])
        size = sum(layout.listing.sizes[row] for row in rows)
        shown = layout.listing.path(rows[0])
        options.append(Option(name=name, answer=("--choose", name), files=len(rows), size=size, example=shown))
    files, size = sum(option.files for option in options), sum(option.size for option in options)
    options.append(Option(name="all", answer=("--choose", "all"), files=files, size=size))
    *first, last = sorted(names, key=folded)
    return Decision(
        question=f"{', '.join(first)} and {last} contain the same files in different versions. Which do you want?",
        options=tuple(options),
    )
