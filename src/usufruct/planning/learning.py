"""Propose a definition by looking at an application's folder with content in it, and give the evidence."""

import re
from collections import Counter
from collections.abc import Iterable, Sequence

from msgspec import Struct
from msgspec.structs import replace

from usufruct.model.applications import Arrange
from usufruct.model.entries import TOP, Listing
from usufruct.model.words import count_words
from usufruct.planning.dangers import programs_in
from usufruct.planning.everyday import EVERYDAY, MEDIA, suffix_of
from usufruct.planning.junk import is_junk, is_notes
from usufruct.planning.names import folded, free_name, likenesses, spelling_key
from usufruct.planning.tree import Tree

_ENOUGH = 0.9
"""Share of files that a rule must explain before it is proposed."""
_TWO_SUFFIXES = re.compile(r"(?<=.)\.[^. ]{1,10}\.(?:gz|bz2|xz|zst|zip)$", re.IGNORECASE)
"""Of a packed file the type is both suffixes."""
_MOST_TYPES = 12
"""File types that are listed before a folder is taken to hold anything."""


class LearnedFolder(Struct, frozen=True, kw_only=True):
    """A proposed folder."""

    name: str
    path: str
    arrange: Arrange
    mark: tuple[str, ...] = ()
    takes: tuple[str, ...] = ()
    evidence: tuple[str, ...]
    """What was seen, one thought a line."""


class Learned(Struct, frozen=True, kw_only=True):
    """What was learned from a folder with content."""

    files: int
    size: int
    programs: int
    """Files that can run."""
    folders: tuple[LearnedFolder, ...]
    unexplained: tuple[str, ...]
    """Paths of content that no proposed folder is for."""


def learned_from(listing: Listing) -> Learned:
    """Propose a definition for the application that keeps its content like this."""
    tree = Tree(listing)
    look = _Look(tree)
    folders: list[LearnedFolder] = []
    if whole := look.pieces_at(TOP, "pieces", ".", may_group=False):
        folders.append(whole)
    for child in tree.children[TOP] if not whole else ():
        if child not in tree.of_notes and not is_junk(tree.names[child]) and look.rows_below(child):
            folders.extend(look.folders_at(child))
    loose = look.rows_in(TOP)
    unexplained: tuple[str, ...] = ()
    if loose and not folders:
        folders.append(look.loose_or_tree(TOP, "content", "."))
    else:
        unexplained = tuple(listing.names[row] for row in loose)
    rows = look.rows_below(TOP)
    return Learned(
        files=len(rows),
        size=sum(listing.sizes[row] for row in rows),
        programs=len(programs_in(listing)),
        folders=tuple(_with_own_names(folders)),
        unexplained=unexplained,
    )


class _Look:
    """Looks at the sub-directories of a folder with content."""

    def __init__(self, tree: Tree) -> None:
        self.tree = tree
        self.listing = tree.listing
        self._below: dict[int, int] = {}

    def _count_below(self, directory: int) -> int:
        """How many files of content are in a directory and below it, reckoned once."""
        if not self._below:
            for here in reversed(range(len(self.tree.rows))):
                inner = sum(self._below[child] for child in self.tree.children[here])
                self._below[here] = len(self.rows_in(here)) + inner
        return self._below[directory]

    def rows_in(self, directory: int) -> list[int]:
        """The content directly in a directory: neither junk nor notes."""
        names = self.listing.names
        return [row for row in self.tree.rows[directory] if not is_junk(names[row]) and not is_notes(names[row])]

    def rows_below(self, directory: int) -> list[int]:
        return [row for here in self.tree.below(directory) for row in self.rows_in(here)]

    def folders_at(self, directory: int) -> list[LearnedFolder]:
        """Return the folders that a sub-directory is or consists of."""
        name, path = self.tree.names[directory], self.tree.path(directory)
        if pieces := self.pieces_at(directory, name, path):
            return [pieces]
        children = [child for child in self.tree.children[directory] if self.rows_below(child)]
        if not self.rows_in(directory) and len(children) > 1 and self._differ_in_kind(children):
            return [folder for child in children for folder in self.folders_at(child)]
        return [self.loose_or_tree(directory, name, path)]

    def _differ_in_kind(self, children: Sequence[int]) -> bool:
        """Whether the sub-directories have different types of files each, so that each is a folder of its own."""
        types = [set(self._types(self.rows_below(child))) for child in children]
        return all(not (one & other) for number, one in enumerate(types) for other in types[:number])

    def pieces_at(self, directory: int, name: str, path: str, *, may_group: bool = True) -> LearnedFolder | None:
        """Return the folder if its content comes in pieces: all directories have a file of one name or type."""
        rows = self.rows_below(directory)
        for mark, pieces in self._marks(directory):
            inside = self._explained(pieces)
            groups = {self.tree.parent(piece) for piece in pieces} - {directory}
            siblings = sum(len(self._with_content(group)) for group in {*map(self.tree.parent, pieces)})
            if len(pieces) < _ENOUGH * siblings:
                continue  # half of the pieces have such a file: it means something else
            if len(pieces) > 1 and inside >= _ENOUGH * len(rows) and (may_group or not groups):
                here = f"{inside} of {count_words(len(rows), 'file')} here"
                evidence = [f"{len(pieces)} directories that hold {mark}, with {here}"]
                if groups:
                    evidence.append(
                        f"some lie in {count_words(len(groups), 'group')}, like {self.tree.names[min(groups)]}"
                    )
                return LearnedFolder(
                    name=name, path=path, arrange=Arrange.PIECES, mark=(mark,), evidence=tuple(evidence)
                )
        return None

    def _with_content(self, directory: int) -> list[int]:
        return [child for child in self.tree.children[directory] if self._count_below(child)]

    def _marks(self, directory: int) -> Iterable[tuple[str, list[int]]]:
        """Return possible marks and the directories that each would make a piece, the most telling first."""
        holders: dict[str, list[int]] = {}
        for here in self.tree.below(directory):
            if here == directory:
                continue
            rows = self.rows_in(here)
            for row in rows:
                holders.setdefault(self.listing.names[row], []).append(here)
            # A file type that occurs once in a directory may mark it as well as a name.
            for suffix, count in self._types(rows).items():
                if count == 1:
                    holders.setdefault(suffix, []).append(here)
        found = []
        for mark, pieces in holders.items():
            every = set(pieces)
            if any(above in every for piece in pieces for above in self.tree.chain(piece)[:-1]):
                continue  # a piece is never inside another
            found.append((mark, pieces))
            parents = [self.tree.parent(piece) for piece in pieces]
            called = {self.tree.folded[piece] for piece in pieces}
            if len(called) == 1 and len(set(parents)) == len(parents) and directory not in parents:
                found.append((f"{self.tree.names[pieces[0]]}/{mark}", parents))
        types = self._types(self.rows_below(directory))
        called = {folded(self.tree.names[directory]), *likenesses(self.tree.names[directory])}
        found = [one for one in found if _stem(one[0]) in called or not self._is_content(*one, types)]
        # More files explained, then called as the folder is, then no picture or sound, then of a rarer type, then a
        # name rather than a type.
        return sorted(
            found,
            key=lambda one: (
                -self._explained(one[1]),
                _stem(one[0]) not in called,
                suffix_of(one[0]) in MEDIA,
                types[_type_of(one[0])],
                "*" in one[0],
                len(one[0]),
                one[0],
            ),
        )

    def _is_content(self, mark: str, pieces: list[int], types: Counter[str]) -> bool:
        """Whether the file that each of these directories has is content with equal names, and no mark.

        Pictures and sounds are content. So is a type that most of the files have, unless each directory has exactly one
        file of that type and all are called alike.
        """
        kind = _type_of(mark.rpartition("/")[2])
        if suffix_of(mark) in MEDIA:
            return True
        if 2 * types[kind] <= sum(types.values()):
            return False
        beside = sum(self._types(self.rows_in(piece))[kind] for piece in pieces)
        return mark.startswith("*") or beside > len(pieces)

    def _explained(self, pieces: list[int]) -> int:
        return sum(map(self._count_below, pieces))

    def _types(self, rows: Iterable[int]) -> Counter[str]:
        """Count the types: `*.gel` → number of files."""
        return Counter(_type_of(self.listing.names[row]) for row in rows)

    def loose_or_tree(self, directory: int, name: str, path: str) -> LearnedFolder:
        """Return the folder if its content comes as single files."""
        rows = self.rows_below(directory)
        deep = len(rows) - len(self.rows_in(directory))
        types = self._types(rows)
        order = sorted(types, key=lambda one: (-types[one], one))
        common = [one for one in order[:_MOST_TYPES] if one != "*"]
        explained = sum(types[one] for one in common)
        own = [one for one in common if not _is_everyday(one)]
        is_media = sum(types[one] for one in common if suffix_of(one) in MEDIA) >= _ENOUGH * len(rows)
        takes = tuple(common) if explained >= _ENOUGH * len(rows) and (is_media or own) else ()
        if own and takes and not is_media and len(own) < len(takes):
            # Files beside it, such as pictures, come along; a pattern for them would claim such files of every archive.
            few = sum(types[one] for one in own) < _ENOUGH * len(rows)
            takes = (*own, "*") if few else tuple(own)
        counted = ", ".join(f"{types[one]} {one}" for one in order[:5])
        where = f"{deep} of them in sub-directories" if deep else "all directly in it"
        evidence = [f"{count_words(len(rows), 'file')}, {where}: {counted}"]
        if not takes:
            why = "too many types to list" if explained < _ENOUGH * len(rows) else "types that every program uses"
            evidence.append(f"{why}, so it takes whatever is named for it")
        elif "*" in takes:
            evidence.append("* also takes what comes with these types; alone it does not claim anything")
        arrange = Arrange.TREE if deep else Arrange.LOOSE
        return LearnedFolder(name=name, path=path, arrange=arrange, takes=takes, evidence=tuple(evidence))


def _stem(mark: str) -> str:
    return folded(mark.rpartition("/")[2].partition(".")[0])


def _is_everyday(pattern: str) -> bool:
    return EVERYDAY.issuperset(pattern.split(".")[1:])


def _type_of(name: str) -> str:
    if packed := _TWO_SUFFIXES.search(name):
        return f"*{packed[0].lower()}"
    stem, dot, suffix = name.rpartition(".")
    return f"*.{suffix.lower()}" if dot and stem and len(suffix) <= 10 else "*"


def _with_own_names(folders: list[LearnedFolder]) -> Iterable[LearnedFolder]:
    """Call folders by their paths where their names would be equal."""
    counted = Counter(folded(folder.name) for folder in folders)
    taken: set[str] = set()
    for folder in folders:
        name = folder.path.replace("/", " ") if counted[folded(folder.name)] > 1 else folder.name
        name = free_name(name.lower(), taken) if spelling_key(name) in taken else name.lower()
        taken.add(spelling_key(name))
        yield replace(folder, name=name)
