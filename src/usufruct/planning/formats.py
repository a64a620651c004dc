"""If an archive has the same thing in several formats, place only the preferred one.

Formats are compared within a directory, and between sibling directories that each have one format, whatever directories
are below them.
"""

from collections.abc import Iterator
from itertools import chain

from msgspec import Struct, field

from usufruct.model.applications import Arrange, Folder
from usufruct.model.layout import Layout
from usufruct.model.rulings import Move, Skip, SkippedKind, Unwrap
from usufruct.planning.names import folded, folded_path, joined
from usufruct.planning.patterns import Patterns, patterns_of
from usufruct.planning.sayings import says_nothing
from usufruct.planning.tree import Tree

_MOST_DIRECTORIES, _AT_LEAST = 24, 2
"""Sibling directories that may hold a format each: more of them are the things themselves."""


class _Formats(Struct):
    """The files of one directory in formats among which a folder prefers some; also those in groups below."""

    folder: Folder
    directory: int
    stems: dict[str, dict[int, list[int]]] = field(default_factory=dict)
    """Folded stem, behind the path of its group → rank of the format, the best 0 → rows."""

    @property
    def ranks(self) -> set[int]:
        return {rank for ranks in self.stems.values() for rank in ranks}


def prefer_formats(layout: Layout, tree: Tree) -> Iterator[Skip | Move | Unwrap]:
    """Skip the less preferred formats of files with the same stem.

    Formats are compared within a directory, and between sibling directories that each have one format.
    """
    if not any(home.folder and home.folder.prefer for home in layout.homes):
        return
    found = _found(layout)
    for here in found:
        for ranks in here.stems.values():
            yield from _keep_best(here.folder, ranks)
    siblings: dict[tuple[str, int], list[_Formats]] = {}
    for here in _by_format(tree, [here for here in found if len(here.ranks) == 1]):
        if len(here.ranks) == 1:
            siblings.setdefault((here.folder.name, tree.parent(here.directory)), []).append(here)
    for several in siblings.values():
        yield from _prefer_between(layout, tree, several)


def _found(layout: Layout) -> list[_Formats]:
    found: dict[tuple[str, int], _Formats] = {}
    ranked: dict[str, list[Patterns]] = {}
    names, directories = layout.listing.names, layout.listing.directory_of
    for row in layout.placed_rows():
        folder = layout.homes[layout.home_of[row]].folder
        if not folder or not folder.prefer or folder.arrange is Arrange.PIECES:
            continue
        if folder.name not in ranked:
            ranked[folder.name] = [patterns_of(pattern) for pattern in folder.prefer]
        ranks = ranked[folder.name]
        rank = next((rank for rank, pattern in enumerate(ranks) if pattern.by_name(names[row])), None)
        if rank is not None:
            here = found.setdefault((folder.name, directories[row]), _Formats(folder, directories[row]))
            stem = folded(_stem(names[row], folder.prefer[rank]))
            here.stems.setdefault(stem, {}).setdefault(rank, []).append(row)
    return list(found.values())


def _by_format(tree: Tree, found: list[_Formats]) -> list[_Formats]:
    """Join the groups below a directory whose name says only their format into one group."""
    whole: dict[tuple[str, int], _Formats] = {}
    for here in found:
        chain = reversed(tree.chain(here.directory)[1:])
        top = next((above for above in chain if _says_only_format(tree.names[above], here)), here.directory)
        group = folded_path(tree.relative(here.directory, top))
        into = whole.setdefault((here.folder.name, top), _Formats(here.folder, top))
        for stem, ranks in here.stems.items():
            into.stems[f"{group}/{stem}" if group else stem] = ranks
    return list(whole.values())


def _keep_best(folder: Folder, ranks: dict[int, list[int]]) -> Iterator[Skip]:
    best = min(ranks)
    for rank, rows in ranks.items():
        if rank > best:
            yield Skip(rows, SkippedKind.OTHER_FORMAT, f"{folder.name} prefers {folder.prefer[best]} of the same name")


def _prefer_between(layout: Layout, tree: Tree, several: list[_Formats]) -> Iterator[Skip | Move | Unwrap]:
    """Between directories that each have one format of the same things, keep the preferred one."""
    if len(several) > _MOST_DIRECTORIES or len({min(here.ranks) for here in several}) < _AT_LEAST:
        return
    several = sorted(several, key=lambda here: min(here.ranks))
    dropped: set[int] = set()
    for number, better in enumerate(several):
        for worse in several[number + 1 :]:
            if better.ranks == worse.ranks or better.directory in dropped:
                continue
            common = set(_agreeing(tree, better, worse))
            if common and 2 * len(common) >= min(len(better.stems), len(worse.stems)):
                for stem in common:
                    yield from _keep_best(better.folder, better.stems[stem] | worse.stems[stem])
                dropped.update((worse.directory,))
                for here in (better, worse):
                    yield from _drop_directory(layout, tree, here)


def _agreeing(tree: Tree, one: _Formats, other: _Formats) -> Iterator[str]:
    """Return the stems that both have. A bare number counts only if the directories' names say their formats."""
    say = all(_says_format(tree.names[here.directory], here) for here in (one, other))
    for stem in one.stems:
        if stem in other.stems and (say or not stem.rpartition("/")[2].isdecimal()):
            yield stem


def _says_format(name: str, here: _Formats) -> bool:
    return _suffix(here) in folded(name)


def _says_only_format(name: str, here: _Formats) -> bool:
    """Whether a name says nothing but a format: `WIF`, `wif files`, `2 - WIFs`."""
    before, said, behind = folded(name).partition(_suffix(here))
    return bool(said) and all(part in ("", "s") or says_nothing(part) for part in (before, behind))


def _suffix(here: _Formats) -> str:
    return folded(here.folder.prefer[min(here.ranks)].rpartition(".")[2])


def _drop_directory(layout: Layout, tree: Tree, here: _Formats) -> Iterator[Move | Unwrap]:
    """Remove a directory that says only the format from the destinations."""
    name, base = tree.names[here.directory], joined(here.folder.path, "")
    for ranks in here.stems.values():
        for row in chain(*ranks.values()):
            home = layout.homes[layout.home_of[row]]
            below = tree.relative(layout.listing.directory_of[row], here.directory)
            above = f"/{home.path}".removesuffix(f"/{joined(name, below)}")[1:]
            if len(base) <= len(above) < len(home.path):
                yield Move([row], joined(above, below), home.piece)
    yield Unwrap(tree.path(here.directory), "its name is only a file format")


def _stem(name: str, pattern: str) -> str:
    """Return a name without its format: what `*` stands for in `*.tar.gz`, else everything before the last dot."""
    tail = pattern[1:]
    if pattern.startswith("*") and tail and not any(c in tail for c in "*?[") and len(tail) < len(name):
        return name[: -len(tail)]
    return name.rpartition(".")[0] or name
