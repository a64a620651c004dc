"""Place what no directory decides about: by pattern in the folder that takes it; the rest is skipped."""

import posixpath
import re
from array import array
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence, Set
from itertools import groupby

from msgspec import Struct

from usufruct.model.applications import Application, Arrange, Folder
from usufruct.model.entries import TOP
from usufruct.model.layout import Layout
from usufruct.model.rulings import Doubt, Evidence, Put, Skip, SkippedKind
from usufruct.planning.everyday import EVERYDAY
from usufruct.planning.junk import can_be_read
from usufruct.planning.lone import lone_name
from usufruct.planning.names import folded, joined
from usufruct.planning.patterns import Patterns, is_own_type, letters_of, patterns_of
from usufruct.planning.places import NOTES_REASON
from usufruct.planning.sayings import is_not_current, is_of_system, says_nothing
from usufruct.planning.tree import Tree


def place_by_pattern(
    layout: Layout, tree: Tree, application: Application, foreign: Set[int] = frozenset()
) -> Iterator[Put | Doubt]:
    """Place every file that is still open in the folder with the narrowest pattern for it.

    `foreign` are pieces of other applications: nothing is taken out of them.
    """
    torn = {below for piece in foreign for below in tree.below(piece)}
    takers = _takers(application)
    taker_of = _matched(layout, tree, takers)
    without_own = _without_own_types(application, [takers[number] for number in {*taker_of} if number >= 0])
    named = {home.folder.name for home in layout.homes if home.folder}
    reason_of, home_of, skipped_as, is_everyday = layout.reason_of, layout.home_of, layout.skipped_as, tree.is_everyday
    # Readme files, and archives that only a bare `*` matches: those are to be opened.
    apart = {row for row in tree.notes if reason_of[row] < 0}
    taken_archives = (row for row in tree.archives if taker_of[row] >= 0)
    apart.update(row for row in taken_archives if not letters_of(takers[taker_of[row]].pattern))
    found: dict[str, dict[int, list[int]]] = {}
    for directory, rows in enumerate(tree.rows):
        if directory in torn:
            continue
        here = [row for row in rows if taker_of[row] >= 0 > home_of[row] and not skipped_as[row] and row not in apart]
        for number, same in groupby(here, taker_of.__getitem__):
            name, taken = takers[number].folder.name, list(same)
            if name in without_own:
                # A common file type in another folder's directory: nothing suggests that it belongs elsewhere.
                taken = [row for row in taken if not is_everyday[row] or reason_of[row] < 0]
            if name in named:
                doubted = [row for row in taken if is_everyday[row]]
                yield Doubt(doubted, f"the archive has a separate folder for {name}")
                taken = [row for row in taken if not is_everyday[row]]
            if taken:
                found.setdefault(name, {}).setdefault(directory, []).extend(taken)
    for folder in application.folders:
        if by_directory := found.get(folder.name):
            stale = _not_current(tree, by_directory)
            for directory, name in stale.items():
                yield Doubt(by_directory.pop(directory), f"the folder {name} holds older or unfinished content")
            yield from _place_found(layout, tree, folder, by_directory, takers, taker_of)


def _without_own_types(application: Application, met: Iterable["_Taker"]) -> set[str]:
    """Return the folders that take types of the application's own, if the archive has none of these types."""
    special = {folder.name for folder in application.folders if any(map(is_own_type, folder.takes))}
    return special - {taker.folder.name for taker in met if is_own_type(taker.pattern)}


def skip_notes(layout: Layout, tree: Tree) -> Iterator[Skip]:
    """Skip readable files in directories of notes, unless a name or a mark below gave them a place."""
    names = layout.listing.names
    for directory in tree.of_notes:
        rows = layout.open_among(tree.rows[directory])
        notes = [row for row in rows if row in tree.notes or can_be_read(names[row])]
        yield Skip(notes, SkippedKind.NOTES, NOTES_REASON)


_TWO_SUFFIXES = re.compile(r"\*\.[^.*?\[\]]+\.[^.*?\[\]]+")
"""`*.crate.zip`, which is a type of the application's own."""


class _Taker(Struct, frozen=True):
    """A pattern of a folder."""

    folder: Folder
    pattern: str
    patterns: Patterns
    """The same, ready to be asked."""


def _takers(application: Application) -> list[_Taker]:
    """Return all patterns, the narrower before the wider, otherwise in the definition's order."""
    takers = [
        _Taker(folder, pattern, patterns_of(pattern)) for folder in application.folders for pattern in folder.takes
    ]
    return sorted(takers, key=lambda taker: -letters_of(taker.pattern))


def _matched(layout: Layout, tree: Tree, takers: Sequence[_Taker]) -> "array[int]":
    """Return for each row the number of the first of these patterns that matches it; -1 if none does."""
    found = array("i", [-1]) * len(layout.listing)
    paths: list[str] = []
    if any(taker.patterns.has_paths for taker in takers):
        content_top = _content_top(layout, tree)
        relative = [tree.relative(directory, content_top) if directory else "" for directory in range(len(tree.rows))]
        names, directories = layout.listing.names, layout.listing.directory_of
        paths = [joined(relative[directory], name) for directory, name in zip(directories, names, strict=True)]
    for number, taker in enumerate(takers):
        if taker.patterns.has_paths:
            rows: Iterable[int] = (row for row, path in enumerate(paths) if taker.patterns.by_path(path))
        else:
            rows = taker.patterns.found_in(tree.by_form)
        for row in rows:
            if found[row] < 0:
                found[row] = number
    return found


def _content_top(layout: Layout, tree: Tree) -> int:
    """Return the deepest directory that contains everything except junk."""
    directories = {
        directory
        for directory, rows in enumerate(tree.rows)
        if any(layout.skipped_as[row] != SkippedKind.JUNK for row in rows)
    }
    return tree.common(directories) if directories else 0


def _not_current(tree: Tree, found: Collection[int]) -> dict[int, str]:
    """Return those of these directories that are for older or unused content, unless all are, and what says so."""
    stale: dict[int, str] = {}
    for directory in found:
        if name := next(
            (tree.names[here] for here in tree.chain(directory)[1:] if is_not_current(tree.names[here])), ""
        ):
            stale[directory] = name
    return stale if len(stale) < len(found) else {}


def _place_found(
    layout: Layout,
    tree: Tree,
    folder: Folder,
    found: Mapping[int, Sequence[int]],
    takers: Sequence[_Taker],
    taker_of: Sequence[int],
) -> Iterator[Put]:
    """Place the rows that a folder takes by pattern, given by directory."""
    known = {folded(name): name for name in folder.known}
    paths: dict[int, str] = {}
    if folder.arrange is Arrange.TREE:
        for directory in found:
            if (path := _from_known(tree, directory, known)) is not None:
                paths[directory] = path
        unknown = {directory: rows for directory, rows in found.items() if directory not in paths}
        if unknown:
            common = tree.common(set(unknown))
            above = _kept_together(layout, tree, folder, common, unknown)
            paths |= {directory: joined(above, tree.relative(directory, common)) for directory in unknown}
    for directory, rows in found.items():
        path = joined(folder.path, paths.get(directory, ""))
        for number, same in groupby(rows, taker_of.__getitem__):
            pattern = takers[number].pattern
            if not letters_of(pattern):
                yield Put([*same], folder, path, "it came with the other content", Evidence.ANYTHING)
                continue
            why = f"{pattern} files go to {folder.name}"
            by_pattern = _evidence_of(pattern)
            for is_everyday, alike in groupby(same, tree.is_everyday.__getitem__):
                by_name = Evidence.EVERYDAY if is_everyday else Evidence.PATTERN
                yield Put([*alike], folder, path, why, by_pattern or by_name)


def _evidence_of(pattern: str) -> Evidence:
    """Return what a pattern with two suffixes says, whatever the name; NONE if the name tells."""
    if not _TWO_SUFFIXES.fullmatch(pattern):
        return Evidence.NONE
    return Evidence.EVERYDAY if EVERYDAY.issuperset(pattern.lower().split(".")[1:]) else Evidence.PATTERN


def _kept_together(layout: Layout, tree: Tree, folder: Folder, common: int, found: Mapping[int, Sequence[int]]) -> str:
    """Return the directory that keeps files of one archive together in a folder; empty if they need none."""
    if not folder.gather:
        return ""
    if folder.is_root:
        return tree.names[common] if common in found else ""
    if sum(map(len, found.values())) == 1:
        return ""
    return telling_name(layout, tree, common)


def telling_name(layout: Layout, tree: Tree, directory: int) -> str:
    """Return the nearest name with a meaning, of the directory or one above it; else the archive's tidy name."""
    application = layout.application
    names = (*application.also, application.name, posixpath.basename(application.root)) if application else ()
    roots = {folded(name) for name in names}
    for here in reversed(tree.chain(directory)[1:]):
        if is_of_system(tree.path(here)):
            break
        if not (says_nothing(tree.names[here]) or tree.folded[here] in roots):
            return lone_name(layout, tree, here)
    return layout.tidy_name


def _from_known(tree: Tree, directory: int, known: dict[str, str]) -> str | None:
    """Return the directory's path from the outermost component that is in `known`, as the definition spells it."""
    if not known:
        return None
    parts = tree.relative(directory, TOP).split("/")
    for depth, part in enumerate(parts):
        if spelling := known.get(folded(part)):
            return "/".join([spelling, *parts[depth + 1 :]])
    return None


def skip_notes_and_archives(layout: Layout, tree: Tree) -> Iterator[Skip]:
    """Skip the readme files and archives that found no place."""
    notes = [row for row in layout.open_among(tree.notes) if layout.reason_of[row] < 0]
    yield Skip(notes, SkippedKind.NOTES, NOTES_REASON)
    archives = {*layout.open_among(tree.archives)}.difference(notes)
    yield Skip(archives, SkippedKind.ARCHIVE, "an archive inside this one; --nested opens it")
