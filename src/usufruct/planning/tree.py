"""An archive's directories, as the rules walk them."""

from array import array
from collections.abc import Iterator
from functools import cached_property, lru_cache
from itertools import chain

from usufruct.model.applications import Application
from usufruct.model.entries import TOP, EntryKind, Listing
from usufruct.planning.everyday import EVERYDAY
from usufruct.planning.junk import (
    is_directory_of_notes,
    is_junk,
    is_notes,
    may_be_notes,
    may_hold_junk,
    only_content_tells,
)
from usufruct.planning.names import folded, is_archive_name, likenesses, may_be_archives
from usufruct.planning.patterns import NamesByForm
from usufruct.planning.sayings import says_nothing

_MOST_NAMES = 20_000
"""Different names of directories beyond which none is looked at for what it is like."""
Marks = dict[str, dict[int, str]]
"""Folder name → directory → path below it of the file that marks it as a piece of that folder."""


class Tree:
    """The directories of a listing, with the rows and directories directly in each.

    Directories have the same numbers as in the listing; parents come before their children.
    """

    def __init__(self, listing: Listing) -> None:
        count = len(listing.directories)
        self.listing = listing
        self.names = [path.rpartition("/")[2] for path in listing.directories]
        for directory, tidy in listing.nested.items():
            self.names[directory] = tidy
        self.folded = [folded(name) for name in self.names]
        self.children: list[list[int]] = [[] for _ in range(count)]
        for number in range(1, count):
            self.children[listing.parents[number]].append(number)
        self.rows: list[array[int]] = [array("I") for _ in range(count)]
        """Files and links directly in each directory."""
        self.marks: dict[Application, Marks] = {}
        self.barred: dict[Application, set[int]] = {}
        """What was looked for already: the pieces, and those that have a mark but are none."""
        self.empty_rows: dict[int, int] = {}
        """Directory → the row that names it, for directories the archive names itself."""
        for row, (directory, kind) in enumerate(zip(listing.directory_of, listing.kinds, strict=True)):
            if kind == EntryKind.DIRECTORY:
                self.empty_rows[listing.directory(listing.path(row))] = row
            else:
                self.rows[directory].append(row)

    @classmethod
    def of(cls, listing: Listing) -> "Tree":
        """Return the tree of a complete listing; all definitions share it."""
        return _tree_of(listing)

    @cached_property
    def directories_by_name(self) -> dict[str, list[int]]:
        """The directories with each name, as names are compared."""
        found: dict[str, list[int]] = {}
        for directory, name in enumerate(self.folded):
            found.setdefault(name, []).append(directory)
        return found

    @cached_property
    def names_by_likeness(self) -> dict[str, list[str]]:
        """For each similar name, the names of directories that it is similar to, as names are compared."""
        found: dict[str, list[str]] = {}
        if len(self.directories_by_name) > _MOST_NAMES:
            return found
        for plain, directories in self.directories_by_name.items():
            for like in likenesses(self.names[directories[0]]) if plain else ():
                found.setdefault(like, []).append(plain)
        return found

    @cached_property
    def by_form(self) -> NamesByForm:
        """The names of the rows, arranged for patterns."""
        return NamesByForm(self.listing.names)

    @cached_property
    def notes(self) -> frozenset[int]:
        """Rows with names of notes."""
        by_suffix, names = self.by_form.by_suffix, self.listing.names
        candidates = (row for suffix, rows in by_suffix.items() if may_be_notes(suffix) for row in rows)
        return frozenset(row for row in chain(candidates, self.by_form.without_suffix) if is_notes(names[row]))

    @cached_property
    def whole_notes(self) -> frozenset[int]:
        """Rows of notes whose whole names say so."""
        names = self.listing.names
        return frozenset(row for row in self.notes if is_notes(names[row], by_whole_name=True))

    @cached_property
    def of_notes(self) -> frozenset[int]:
        """Directories of notes and previews, and all below them; none if there is nothing else."""
        below = bytearray(len(self.names))
        for directory in range(1, len(self.names)):
            below[directory] = below[self.parent(directory)] or is_directory_of_notes(self.names[directory])
        apart = self.junk | self.notes
        has_more = any(row not in apart for here, rows in enumerate(self.rows) if not below[here] for row in rows)
        return frozenset(here for here, is_below in enumerate(below) if is_below) if has_more else frozenset()

    @cached_property
    def is_everyday(self) -> bytearray:
        """For each row, whether its type is used by very many programs."""
        found, names = bytearray(len(self.listing)), self.listing.names
        for suffix, rows in self.by_form.by_suffix.items():
            for row in rows if suffix[1:] in EVERYDAY else ():
                found[row] = len(names[row]) > len(suffix)
        return found

    @cached_property
    def junk(self) -> frozenset[int]:
        """Rows of junk, by their own names or names of directories above them."""
        names = self.listing.names
        below = bytearray(len(self.names))
        for directory in range(1, len(self.names)):
            below[directory] = below[self.parent(directory)] or is_junk(self.names[directory])
        by_name = may_hold_junk(names)
        return frozenset(
            row
            for directory, rows in enumerate(self.rows)
            for row in (rows if by_name or below[directory] else ())
            if below[directory] or is_junk(names[row])
        )

    @cached_property
    def archives(self) -> frozenset[int]:
        """Rows with names of archives."""
        by_suffix, names = self.by_form.by_suffix, self.listing.names
        candidates = (row for suffix, rows in by_suffix.items() if may_be_archives(suffix) for row in rows)
        return frozenset(row for row in candidates if is_archive_name(names[row]))

    @property
    def untold(self) -> Iterator[int]:
        """Rows whose names do not say whether they can run."""
        names = self.listing.names
        for suffix, rows in self.by_form.by_suffix.items():
            is_told = not only_content_tells(f"x{suffix}")
            # A name that is all suffix, as `.png`, has none.
            candidates = [row for row in rows if len(names[row]) == len(suffix)] if is_told else rows
            yield from (row for row in candidates if only_content_tells(names[row]))
        yield from self.by_form.without_suffix

    @cached_property
    def content_tops(self) -> dict[int, int]:
        """For the top and each opened archive, the deepest directory that contains all of its content."""
        apart, nested = self.junk | self.notes, self.listing.nested
        content: dict[int, set[int]] = {TOP: set()}
        for here, rows in enumerate(self.rows):
            if rows and not apart.issuperset(rows):
                content[TOP].add(here)
                for archive in nested.keys() & self.chain(here) if nested else ():
                    content.setdefault(archive, set()).add(here)
        return {archive: self.common(directories or {archive}) for archive, directories in content.items()}

    @cached_property
    def only_top(self) -> str:
        """The name of the outermost directory with all content, if it has a meaning; else empty."""
        chain = self.chain(self.content_tops[TOP])
        return next((self.names[here] for here in chain[1:] if not says_nothing(self.names[here])), "")

    def path(self, directory: int) -> str:
        """Return the directory's path from the archive's top."""
        return self.listing.directories[directory]

    def parent(self, directory: int) -> int:
        """Return the directory above; -1 above the top."""
        return self.listing.parents[directory]

    def below(self, directory: int, without: "set[int] | frozenset[int]" = frozenset()) -> Iterator[int]:
        """Yield the directory and all below it, parents first, except for the sub-directories in `without`."""
        stack = [directory]
        while stack:
            here = stack.pop()
            yield here
            stack.extend(child for child in reversed(self.children[here]) if child not in without)

    def relative(self, directory: int, top: int) -> str:
        """Return the directory's path below `top`, without opened archives; empty for `top` itself."""
        if self.listing.nested:
            below = self.chain(directory)[len(self.chain(top)) :]
            return "/".join(self.names[here] for here in below if here not in self.listing.nested)
        if top == TOP:
            return self.path(directory)
        return self.path(directory)[len(self.path(top)) + 1 :]

    def common(self, directories: "set[int]") -> int:
        """Return the deepest directory that contains all of these, or the only one of them."""
        chains = [self.chain(directory) for directory in directories]
        common = TOP
        for level in zip(*chains, strict=False):
            if any(here != level[0] for here in level):
                break
            common = level[0]
        return common

    def chain(self, directory: int) -> list[int]:
        """Return the directories from the top down to this one."""
        chain = [directory]
        while chain[-1] != TOP:
            chain.append(self.parent(chain[-1]))
        return chain[::-1]


@lru_cache(maxsize=2)
def _tree_of(listing: Listing) -> Tree:
    # Keep only the last ones: a command may look at very many archives.
    return Tree(listing)
