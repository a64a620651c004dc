"""What no directory speaks for: by pattern to a folder that takes it, or skipped."""

import posixpath
import re
from collections.abc import Iterable, Mapping, Sequence, Set

from msgspec import Struct

from usufruct.model.applications import Application, Arrange, Folder
from usufruct.model.entries import TOP, EntryKind
from usufruct.model.layout import Evidence, Layout, SkippedKind
from usufruct.planning.everyday import EVERYDAY, suffix_of
from usufruct.planning.junk import can_be_read
from usufruct.planning.lone import lone_name
from usufruct.planning.names import folded, joined
from usufruct.planning.patterns import Patterns, is_own_type, letters_of, patterns_of
from usufruct.planning.places import NOTES_REASON
from usufruct.planning.sayings import is_not_current, is_of_system, says_nothing
from usufruct.planning.tree import Tree


def place_by_pattern(layout: Layout, tree: Tree, application: Application, foreign: Set[int] = frozenset()) -> None:
    """Give every file that is still open to the folder that takes it by its narrowest pattern.

    Nothing is torn out of the pieces of other applications, which `foreign` names.
    """
    torn = {below for piece in foreign for below in tree.below(piece)}
    takers = _takers(application)
    matched = _matched(layout, tree, takers)
    without_own = _without_own_types(application, matched)
    named = {home.folder.name for home in layout.homes if home.folder}
    names, directories = layout.listing.names, layout.listing.directory_of
    found: dict[str, dict[int, list[int]]] = {}
    for row in sorted(matched):
        if layout.listing.kinds[row] == EntryKind.DIRECTORY or not layout.is_open(row):
            continue
        if (layout.reason_of[row] < 0 and row in tree.notes) or directories[row] in torn:
            continue
        taker = matched[row]
        if row in tree.archives and not letters_of(taker.pattern):
            continue  # a bare `*` names no archive: it is to be opened
        if taker.folder.name in without_own and layout.reason_of[row] >= 0 and suffix_of(names[row]) in EVERYDAY:
            continue  # it lies in another folder's directory, and nothing says that it is anything else
        if taker.folder.name in named and suffix_of(names[row]) in EVERYDAY:
            why = f"the archive has a separate folder for {taker.folder.name}"
            layout.doubt(row, layout.reason(why))
            continue
        found.setdefault(taker.folder.name, {}).setdefault(directories[row], []).append(row)
    for folder in application.folders:
        if here := found.get(folder.name):
            _leave_not_current(layout, tree, folder, here)
            _place_found(layout, tree, folder, here, matched)


def _without_own_types(application: Application, matched: Mapping[int, "_Taker"]) -> set[str]:
    """The folders with types of the application's own, of which the archive has none."""
    special = {folder.name for folder in application.folders if any(map(is_own_type, folder.takes))}
    met = {(taker.folder.name, taker.pattern) for taker in matched.values()} if special else ()
    return special - {folder for folder, pattern in met if is_own_type(pattern)}


def skip_notes(layout: Layout, tree: Tree) -> None:
    """Skip what can be read in directories of notes, but for what a name or a mark below them spoke for."""
    reason, names = layout.reason(NOTES_REASON), layout.listing.names
    for directory in tree.of_notes:
        for row in tree.rows[directory]:
            if layout.is_open(row) and (row in tree.notes or can_be_read(names[row])):
                layout.skip(row, SkippedKind.NOTES, reason)


_TWO_SUFFIXES = re.compile(r"\*\.[^.*?\[\]]+\.[^.*?\[\]]+")
"""`*.crate.zip`, which is a type of the application's own."""


class _Taker(Struct, frozen=True):
    """One pattern of a folder."""

    folder: Folder
    pattern: str
    patterns: Patterns
    """The same, ready to be asked."""


def _takers(application: Application) -> list[_Taker]:
    """All patterns, the narrower before the wider, else in the definition's order."""
    takers = [
        _Taker(folder, pattern, patterns_of(pattern)) for folder in application.folders for pattern in folder.takes
    ]
    return sorted(takers, key=lambda taker: -letters_of(taker.pattern))


def _matched(layout: Layout, tree: Tree, takers: Sequence[_Taker]) -> dict[int, _Taker]:
    """Row → the first of these that takes it."""
    found: dict[int, _Taker] = {}
    with_paths = [taker for taker in takers if taker.patterns.has_paths]
    content_top = _content_top(layout, tree) if with_paths else 0
    paths: list[str] = []
    if with_paths:
        relative = [tree.relative(directory, content_top) if directory else "" for directory in range(len(tree.rows))]
        names, directories = layout.listing.names, layout.listing.directory_of
        paths = [joined(relative[directory], name) for directory, name in zip(directories, names, strict=True)]
    for taker in takers:
        if taker.patterns.has_paths:
            rows: Iterable[int] = (row for row, path in enumerate(paths) if taker.patterns.by_path(path))
        else:
            rows = taker.patterns.found_in(tree.by_form)
        for row in rows:
            found.setdefault(row, taker)
    return found


def _content_top(layout: Layout, tree: Tree) -> int:
    """The deepest directory that holds all that is not junk."""
    directories = {
        directory
        for directory, rows in enumerate(tree.rows)
        if any(layout.skipped_as[row] != SkippedKind.JUNK for row in rows)
    }
    return tree.common(directories) if directories else 0


def _leave_not_current(layout: Layout, tree: Tree, folder: Folder, found: dict[int, list[int]]) -> None:
    """Leave what lies in directories of older or unused content, where the folder takes anything outside of such."""
    stale: dict[int, str] = {}
    for directory in found:
        if name := next(
            (tree.names[here] for here in tree.chain(directory)[1:] if is_not_current(tree.names[here])), ""
        ):
            stale[directory] = name
    if len(stale) == len(found):
        return
    for directory, name in stale.items():
        for row in found.pop(directory):
            layout.doubt(row, layout.reason(f"the folder {name} holds older or unfinished content"))


def _place_found(
    layout: Layout, tree: Tree, folder: Folder, found: dict[int, list[int]], matched: Mapping[int, _Taker]
) -> None:
    """Place the rows that a folder takes by pattern: `found` gives them by directory."""
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
    names = layout.listing.names
    for directory, rows in found.items():
        home = layout.home(folder, joined(folder.path, paths.get(directory, "")))
        for row in rows:
            pattern = matched[row].pattern
            why = f"{pattern} files go to {folder.name}" if letters_of(pattern) else "it came with the other content"
            reason = layout.reason(why)
            layout.place(row, home, reason, _evidence_of(pattern, names[row]))


def _evidence_of(pattern: str, name: str) -> Evidence:
    if not letters_of(pattern):
        return Evidence.ANYTHING
    suffixes = pattern.lower().split(".")[1:] if _TWO_SUFFIXES.fullmatch(pattern) else [suffix_of(name)]
    return Evidence.EVERYDAY if EVERYDAY.issuperset(suffixes) else Evidence.PATTERN


def _kept_together(layout: Layout, tree: Tree, folder: Folder, common: int, found: dict[int, list[int]]) -> str:
    """The directory that what came together keeps: one that says something; empty where it needs none."""
    if not folder.gather:
        return ""
    if folder.is_root:
        return tree.names[common] if common in found else ""
    if sum(map(len, found.values())) == 1:
        return ""
    return telling_name(layout, tree, common)


def telling_name(layout: Layout, tree: Tree, directory: int) -> str:
    """The name of a directory, or of the nearest above it that says something; the archive's tidy name if none does."""
    nested, application = layout.listing.nested, layout.application
    names = (*application.also, application.name, posixpath.basename(application.root)) if application else ()
    roots = {folded(name) for name in names}
    for here in reversed(tree.chain(directory)[1:]):
        if is_of_system(tree.path(here)):
            break
        if here in nested or not (says_nothing(tree.names[here]) or tree.folded[here] in roots):
            return lone_name(layout, tree, here)
    return layout.tidy_name


def _from_known(tree: Tree, directory: int, known: dict[str, str]) -> str | None:
    """The directory's path from its outermost component in `known` on, in the definition's spelling."""
    if not known:
        return None
    parts = tree.relative(directory, TOP).split("/")
    for depth, part in enumerate(parts):
        if spelling := known.get(folded(part)):
            return "/".join([spelling, *parts[depth + 1 :]])
    return None


def skip_rest(layout: Layout, tree: Tree, application: Application) -> None:
    """Give a reason to every row that found no place."""
    notes = layout.reason(NOTES_REASON)
    inside = layout.reason("an archive inside this one; --nested opens it")
    unmet = layout.reason(f"{application.title} has no folder for it")
    doubts = layout.reason_of
    special = [row for row in (*tree.notes, *tree.archives) if layout.is_open(row)]
    for row in special:
        if doubts[row] < 0 and row in tree.notes:
            layout.skip(row, SkippedKind.NOTES, notes)
        elif row in tree.archives:
            layout.skip(row, SkippedKind.ARCHIVE, inside)
    layout.skip_open(SkippedKind.NOT_TAKEN, unmet)
