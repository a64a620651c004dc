"""Find places by the directories of an archive: by names of the root, names of folders, and marks.

The outermost directory with a meaning decides for everything below it; the directories above it are wrappers.
"""

from collections.abc import Mapping, Sequence, Set
from typing import NamedTuple

from usufruct.model.applications import Application, Arrange, Folder
from usufruct.model.entries import TOP
from usufruct.model.layout import Layout
from usufruct.model.rulings import Decision, Doubt, Evidence, Option, Put, Skip, SkippedKind, Unwrap, Used
from usufruct.planning.claims import NO_CLAIMS, Claims
from usufruct.planning.folder_names import FolderNames, in_known_spelling
from usufruct.planning.junk import is_junk
from usufruct.planning.lone import lone_name
from usufruct.planning.marks import marks_of
from usufruct.planning.names import folded, folded_path, joined
from usufruct.planning.patterns import Patterns, is_own_type, patterns_of
from usufruct.planning.sayings import says_nothing
from usufruct.planning.tree import Tree

PIECE, APART = "piece", "apart"
"""Answers to whose the directories beside a mark are."""
NOTES_REASON = "kept to read with `usufruct show NAME --notes`"


class Match(NamedTuple):
    """Why everything below a directory belongs in a folder."""

    folder: Folder
    why: str
    """As the user reads it."""
    evidence: Evidence


class Places:
    """Walks the directories of an archive once, and gives every entry below a directory with a meaning its place."""

    def __init__(
        self,
        layout: Layout,
        tree: Tree,
        application: Application,
        claims: Claims = NO_CLAIMS,
        choose: Sequence[str] = (),
    ) -> None:
        self.layout = layout
        self._choose = choose
        self.tree = tree
        self.application = application
        self.names = FolderNames.of(application)
        self.marks = marks_of(tree, application)
        own = {directory for found in self.marks.values() for directory in found}
        self._holding = self._with_those_above(own)
        """The application's pieces, and all that hold one."""
        self._barred = tree.barred.get(application, set())
        """Directories that have a piece's mark and are none."""
        self.foreign = claims.pieces - own
        """Pieces of other applications: names in them mean nothing, and nothing is torn out of them."""
        self._outside: frozenset[int] = claims.named if application.is_shipped else frozenset()
        """Directories in which a name of the root means nothing."""
        self._exact = frozenset(self.names.single)
        """Names of folders, to the letter."""
        self._add_likenesses()
        self.root_folder = next((folder for folder in application.folders if folder.is_root), None)
        self._pieces = self._pieces_by_name()
        self._telling = self._telling_directories()
        self._above_roots = self._directories_above_roots()
        self._takes = {folder.name: patterns_of(*folder.takes) for folder in application.folders}

    def _add_likenesses(self) -> None:
        """Accept similar names of a folder or the root if no directory has exactly that name."""
        by_name, alike = self.tree.directories_by_name, self.tree.names_by_likeness
        exact = {folder.name for name, folder in self.names.single.items() if name in by_name}
        roots = {parts[0]: name for parts, name in self.names.root.items() if len(parts) == 1}
        known = self.names.single.keys() | roots.keys()
        for name, folder in list(self.names.single.items()):
            if folder.name not in exact:
                # A directory `GEL` beside `CSV` is a format of gels, not the folder; `01 Lesson` may be a lesson.
                formats = {folded(pattern.rpartition(".")[2]) for pattern in folder.prefer}
                marked = self.marks.get(folder.name, {}).keys()
                for plain in alike.get(name, ()):
                    if plain not in known and plain not in formats and marked.isdisjoint(by_name[plain]):
                        self.names.single.setdefault(plain, folder)
        if not any(parts[-1] in by_name for parts in self.names.root):
            for root, called in roots.items():
                for plain in alike.get(root, ()):
                    if plain not in self.names.single:
                        self.names.root[plain,] = called

    def _pieces_by_name(self) -> dict[str, tuple[int, Folder]]:
        """Return the uppermost piece with each name, as names are compared, and its folder."""
        found: dict[str, tuple[int, Folder]] = {}
        for folder in self.application.folders:
            # Numbers follow the order of the archive, which means nothing.
            paths = {self.tree.path(directory): directory for directory in self.marks.get(folder.name, {})}
            for path in sorted(paths, key=lambda path: (path.count("/"), path)):
                directory = paths[path]
                if directory != TOP and self.tree.folded[directory] not in self.names.single:
                    found.setdefault(self.tree.folded[directory], (directory, folder))
        return found

    def _telling_directories(self) -> set[int]:
        """Return the directories that may have a meaning, and those above them; the others need no visit."""
        lasts = {parts[-1] for parts in (*self.names.root, *self.names.several)} | self.names.single.keys()
        by_name = self.tree.directories_by_name
        telling = {directory for name in lasts for directory in by_name.get(name, ())}
        telling.update(directory for name in self._pieces for directory in by_name[name])
        return self._holding | self._with_those_above(telling)

    def _directories_above_roots(self) -> set[int]:
        """Return the directories above one with a name of the root that contains a folder."""
        by_name = self.tree.directories_by_name
        roots = (directory for parts in self.names.root for directory in by_name.get(parts[-1], ()))
        holding = {directory for directory in roots if self._root_named(directory) and self._holds_folder(directory)}
        return self._with_those_above({self.tree.parent(directory) for directory in holding})

    def _holds_folder(self, root: int) -> bool:
        """Whether a directory with the name of the root contains something with the path or name of a folder."""
        if self.root_folder:
            return True
        below = (directory for directory in self.tree.below(root) if directory != root)
        return any(
            self._folder_named(directory) or folded_path(self.tree.relative(directory, root)) in self.names.paths
            for directory in below
        )

    def _with_those_above(self, directories: Set[int]) -> set[int]:
        found: set[int] = set()
        for directory in directories:
            while directory >= 0 and directory not in found:
                found.add(directory)
                directory = self.tree.parent(directory)
        return found

    # --- walking -----------------------------------------------------------------------------------------

    def read_archive(self, top: int) -> None:
        """Read an archive from its top, or from the only directory in it if its name has no meaning."""
        while (inner := self._only_below(top)) and not self._means_something(inner):
            top = inner
        self.read_top(top)

    def _only_below(self, directory: int) -> int:
        """Return the directory that everything below another is in, except for notes and junk; 0 if there is none."""
        if self._marked(directory) or any(map(self.layout.is_open, self._plain_rows(directory))):
            return 0
        holding = [child for child in self.tree.children[directory] if self._holds_any(child)]
        return holding[0] if len(holding) == 1 else 0

    def _means_something(self, directory: int) -> bool:
        is_named = self._root_named(directory) or self._folder_named(directory)
        return bool(is_named) or not says_nothing(self.tree.names[directory])

    def read_top(self, top: int, done: frozenset[int] = frozenset()) -> None:
        """Read a directory as the top of an archive. `done` are sub-directories that were read already."""
        if not (marked := self._marked(top)):
            if top not in self.foreign:
                self._read_wrapper(top, done)
            return
        folder, mark = marked
        self._note_wrapper(top)
        beside = {
            child: meant
            for child in self.tree.children[top]
            if child not in done and (meant := self._folder_named(child)) and self._holds_any(child)
        }
        if beside and self._are_of_piece(top, folder, mark, beside):
            beside = {}
        for child, meant in beside.items():
            self._read_named(child, *meant)
        why = f"{mark} marks one of the {folder.name}; it is named after the archive"
        self.place_piece(top, self.tidy_name_at(top), Match(folder, why, Evidence.MARK), done | beside.keys())

    def _holds_any(self, directory: int) -> bool:
        """Whether a directory contains anything that may be placed."""
        return any(self.layout.is_open(row) for here in self.tree.below(directory) for row in self.tree.rows[here])

    def _are_of_piece(self, top: int, folder: Folder, mark: str, beside: Mapping[int, tuple[Folder, str]]) -> bool:
        """Whether directories with folder names beside a mark at the top belong to the piece: the user decides."""
        for word in self._choose:
            if folded(word) in (PIECE, APART):
                self.layout.follow([Used(word)])
                return folded(word) == PIECE
        rows = [row for here in self.tree.below(top) for row in self.tree.rows[here] if self.layout.is_open(row)]
        size = sum(map(self.layout.listing.sizes.__getitem__, rows))
        whole = joined(folder.path, self.tidy_name_at(top))
        of = list(dict.fromkeys(other.name for other, _ in beside.values()))
        options = (
            Option(name=PIECE, answer=("--choose", PIECE), files=len(rows), size=size, example=whole),
            Option(name=APART, answer=("--choose", APART), files=len(rows), size=size, example=", ".join(of)),
        )
        lie = "lies" if len(beside) == 1 else "lie"
        question = (
            f"{' and '.join(self.tree.names[child] for child in beside)} {lie} beside {mark}, which makes the archive "
            f"one piece of {folder.name}. A part of that piece, or for {' and '.join(of)}?"
        )
        self.layout.follow([Decision(question=question, options=options)])
        return False

    def tidy_name_at(self, directory: int) -> str:
        """Return the tidy name of the innermost archive that a directory is in."""
        nested = self.layout.listing.nested
        return next(
            (nested[here] for here in reversed(self.tree.chain(directory)) if here in nested), self.layout.tidy_name
        )

    def _read_wrapper(self, directory: int, done: frozenset[int]) -> None:
        """Look for a meaning in the directories directly below one that has none itself."""
        for child in self.tree.children[directory]:
            if child in done or child not in self._telling or child in self.foreign:
                continue
            if name := self._root_named(child):
                self._note_wrapper(directory)
                self._read_root(child, name)
            elif child in self._above_roots:
                self._read_wrapper(child, done)  # otherwise it would shadow a folder's name
            elif (meant := self._folder_named(child)) and not self._is_of_notes(child):
                self._note_wrapper(directory)
                self._read_named(child, *meant)
            elif (marked := self._marked(child)) and child in self.layout.listing.nested:
                self.read_archive(child)
            elif marked:
                self._note_wrapper(directory)
                folder, mark = marked
                why = f"{mark} marks one of the {folder.name}"
                self.place_piece(child, lone_name(self.layout, self.tree, child), Match(folder, why, Evidence.MARK))
            elif (called_so := self._pieces.get(self.tree.folded[child])) and child not in self._holding | self._barred:
                self._note_wrapper(directory)
                piece, folder = called_so
                why = f"belongs to {self.tree.names[piece]}, which is in this archive too"
                self.place_piece(child, self.tree.names[piece], Match(folder, why, Evidence.MARK))
            else:
                self._read_wrapper(child, done)

    def _is_of_notes(self, directory: int) -> bool:
        """Whether a directory with a folder's name contains notes: it is only similar, or in such a directory."""
        of_notes = self.tree.of_notes
        if self.tree.folded[directory] in self._exact and self.tree.parent(directory) not in of_notes:
            return False
        return directory in of_notes

    def _note_wrapper(self, directory: int) -> None:
        above = self.tree.chain(directory)[1:]
        self.layout.follow(Unwrap(self.tree.path(here), "only wraps the content") for here in above)

    def _marked(self, directory: int) -> tuple[Folder, str] | None:
        """Return the first folder of the definition that the directory is a piece of, and the file that marks it."""
        for folder in self.application.folders:
            if mark := self.marks.get(folder.name, {}).get(directory):
                return folder, mark
        return None

    def _root_named(self, directory: int) -> str | None:
        """Return the name of the root that a directory has."""
        if self._is_outside(directory):
            return None
        for parts, name in self.names.root.items():
            if self._ends_with(directory, parts):
                return name
        return None

    def _folder_named(self, directory: int) -> tuple[Folder, str] | None:
        """Return the folder whose name a directory has, and that name; the longest name counts."""
        for parts, named in self.names.several.items():
            if self._ends_with(directory, parts):
                return named, "/".join(self.tree.path(directory).split("/")[-len(parts) :])
        folder = self.names.single.get(self.tree.folded[directory])
        if not folder or (folder.is_root and self._is_outside(directory)):
            return None
        return folder, self.tree.names[directory]

    def _is_outside(self, directory: int) -> bool:
        """Whether names of the root have no meaning in a directory."""
        return bool(self._outside) and not self._outside.isdisjoint(self.tree.chain(directory))

    def _ends_with(self, directory: int, parts: tuple[str, ...]) -> bool:
        for part in reversed(parts):
            if directory == TOP or self.tree.folded[directory] != part:
                return False
            directory = self.tree.parent(directory)
        return True

    def _weight_of(self, folder: Folder) -> Evidence:
        """Return how strong the name of a folder is as evidence by itself.

        For a shipped definition it is weak if anything may be in the folder: `scripts`, `themes` and `symbols` are used
        by very many programs.
        """
        is_told_apart = folder.mark or any(map(is_own_type, folder.takes))
        return Evidence.FOLDER_NAME if is_told_apart or not self.application.is_shipped else Evidence.EVERYDAY

    def _read_named(self, directory: int, folder: Folder, name: str) -> None:
        """Read a directory with the name of a folder. Longer names that begin there belong to their own folders."""
        first = self.tree.folded[directory]
        # A longer name belongs to one folder only.
        if "/" not in name and (rivals := self.names.shared.get(first)):
            fitting = [rival for rival in rivals if self._fits(directory, rival)]
            folder = (fitting or rivals)[0]
            if len(fitting) != 1:
                self.layout.follow([self._which_folder(directory, fitting or rivals)])
        apart: set[int] = set()
        for parts, other in self.names.several.items():
            if parts[0] != first:
                continue
            for below in self.tree.below(directory):
                if self._ends_with(below, parts) and self.tree.chain(below)[-len(parts)] == directory:
                    apart.add(below)
                    longer = "/".join(self.tree.path(below).split("/")[-len(parts) :])
                    why = f"the archive has a folder called {longer}"
                    self.read_folder(below, Match(other, why, self._weight_of(other)))
        why = f"the archive has a folder called {name}"
        self.read_folder(directory, Match(folder, why, self._weight_of(folder)), frozenset(apart))

    def _fits(self, directory: int, folder: Folder) -> bool:
        """Whether a folder takes everything below a directory."""
        if folder.arrange is Arrange.PIECES:
            return not self.marks.get(folder.name, {}).keys().isdisjoint(self.tree.below(directory))
        takes, names = self._takes[folder.name], self.layout.listing.names
        content = (row for here in self.tree.below(directory) for row in self._plain_rows(here))
        return not takes or all(takes.by_name(names[row]) for row in content if self.layout.is_open(row))

    def _which_folder(self, directory: int, folders: list[Folder]) -> Decision:
        """Return the question for a directory whose name several folders have."""
        listing = self.layout.listing
        rows = [row for here in self.tree.below(directory) for row in self._plain_rows(here)]
        size = sum(listing.sizes[row] for row in rows)
        options = tuple(
            Option(name=one.name, answer=("--into", one.name), files=len(rows), size=size, example=one.path)
            for one in folders
        )
        names = " and ".join(one.name for one in folders)
        return Decision(question=f"{self.tree.names[directory]} may be {names}. Which is meant?", options=options)

    def _read_root(self, root: int, name: str) -> None:
        """Read a directory with a name of the root: the folders are looked for by their paths below it."""
        called = self.tree.names[root]
        self.layout.roots[root] = folded_path(name) in map(folded_path, (*self.application.also, self.application.name))
        found: dict[int, Folder] = {}
        for directory in self.tree.below(root):
            relative = folded_path(self.tree.relative(directory, root))
            if directory != root and (folder := self.names.paths.get(relative)):
                found[directory] = folder
        for directory, folder in found.items():
            deeper = frozenset(other for other in found if other != directory)
            why = f"the archive has the folder {called}/{self.tree.relative(directory, root)}"
            self.read_folder(directory, Match(folder, why, Evidence.ROOT_NAME), deeper)
        done = frozenset(found)
        if self.root_folder:
            why = f"the archive has a folder called {called}"
            self.read_folder(root, Match(self.root_folder, why, Evidence.ROOT_NAME), done)
        else:
            self.layout.follow([Unwrap(self.tree.path(root), f"is the folder of {self.application.title} itself")])
            self.read_top(root, done)

    # --- how files lie in a folder -----------------------------------------------------------------------

    def read_folder(
        self,
        directory: int,
        match: Match,
        done: frozenset[int] = frozenset(),
        *,
        takes_all: bool = False,
        sub: str = "",
    ) -> None:
        """Place everything below a directory in a folder, except for the sub-directories that are `done`.

        `takes_all`: also what the folder does not take otherwise. `sub` is the directory in the folder to place it in.
        """
        folder = match.folder
        while match.evidence != Evidence.ROOT_NAME and (inner := self._only_repeated(directory, folder)):
            self.layout.follow([Unwrap(self.tree.path(directory), f"contains only {self.tree.names[inner]}")])
            directory = inner
        if folder.arrange is Arrange.PIECES and not sub:
            if mark := self.marks.get(folder.name, {}).get(directory):
                why = f"{match.why}; {mark} makes it one piece, named after the archive"
                self.place_piece(directory, self.tidy_name_at(directory), match._replace(why=why), done)
            else:
                self._read_group(directory, directory, match, done)
            return
        takes = patterns_of() if takes_all else self._takes[folder.name]
        for here in self.tree.below(directory, done):
            relative = self.tree.relative(here, directory)
            if folder.arrange is Arrange.LOOSE:
                path = joined(folder.path, sub)
            else:
                path = joined(folder.path, in_known_spelling(folder, joined(sub, relative)))
            if folder.arrange is Arrange.LOOSE or not relative:
                self._skip_notes(here, match.evidence)
            self._place_files(here, relative, path, match, takes)

    def _only_repeated(self, directory: int, folder: Folder) -> int:
        """Return the only sub-directory if it has the folder's name again and nothing is beside it; else 0."""
        if len(self.tree.children[directory]) != 1 or any(map(self.layout.is_open, self._plain_rows(directory))):
            return 0
        child = self.tree.children[directory][0]
        return child if self.names.are_of(folder, self.tree.folded[child]) else 0

    def _plain_rows(self, directory: int) -> list[int]:
        return [row for row in self.tree.rows[directory] if row not in self.tree.notes]

    def _skip_notes(self, here: int, evidence: Evidence) -> None:
        """Skip the notes directly in a directory."""
        # If the directory's name says what it is, only a whole file name makes a readme.
        notes = self.tree.whole_notes if evidence >= Evidence.FOLDER_NAME else self.tree.notes
        if notes:
            rows = [row for row in self.layout.open_among(self.tree.rows[here]) if row in notes]
            self.layout.follow([Skip(rows, SkippedKind.NOTES, NOTES_REASON)])

    def _place_files(self, here: int, relative: str, path: str, match: Match, takes: Patterns) -> None:
        """Place the files directly in a directory of a loose or tree folder; what it does not take stays open."""
        layout, folder = self.layout, match.folder
        names = layout.listing.names
        rows = layout.open_among(self.tree.rows[here])
        if takes:
            taken = [
                row
                for row in rows
                if takes.by_name(names[row]) or (takes.has_paths and takes.by_path(joined(relative, names[row])))
            ]
            others = {*rows}.difference(taken)
            layout.follow([Doubt(others, f"the folder {folder.name} is only for {', '.join(folder.takes)}")])
            rows = taken
        if rows:
            layout.follow([Put(rows, folder, path, match.why, match.evidence)])

    def _read_group(self, directory: int, top: int, match: Match, done: frozenset[int]) -> None:
        """Find the pieces below a directory of a pieces folder. The directories between only group them."""
        folder, evidence = match.folder, match.evidence
        no_piece = f"no {' or '.join(folder.mark)} marks it as one of the {folder.name}"
        self.layout.follow([Doubt(self._plain_rows(directory), no_piece)])
        for child in self.tree.children[directory]:
            if child in done:
                continue
            if mark := self.marks.get(folder.name, {}).get(child):
                for above in self.tree.chain(directory):
                    if above != top and self.tree.path(above).startswith(self.tree.path(top) + "/"):
                        self.layout.follow([Unwrap(self.tree.path(above), f"only groups {folder.name}")])
                name = lone_name(self.layout, self.tree, child)
                self.place_piece(child, name, match._replace(why=f"{match.why}; {mark} marks it"))
            elif other := self._marked(child):
                # The root itself contains pieces of folders that are kept elsewhere.
                other_folder, mark = other
                why = f"{mark} marks one of the {other_folder.name}"
                name = lone_name(self.layout, self.tree, child)
                self.place_piece(child, name, Match(other_folder, why, match.evidence))
            elif (
                directory == top
                and not self._folder_named(child)
                and child not in self._holding | self._barred
                and self._holds_any(child)
            ):
                # A patch or a later part of a piece has no marker file.
                marks = " or ".join(folder.mark)
                why = f"{match.why}; it has no {marks}, so it goes in as it is"
                is_told = evidence is Evidence.ROOT_NAME and not folder.is_root
                weighs = evidence if is_told else Evidence.EVERYDAY
                self.place_piece(child, self.tree.names[child], Match(folder, why, weighs))
            else:
                self._read_group(child, top, match, done)

    def place_piece(self, directory: int, name: str, match: Match, done: frozenset[int] = frozenset()) -> None:
        """Place a directory as a whole under this name. Names inside it have no meaning."""
        layout, folder = self.layout, match.folder
        piece = joined(folder.path, name)
        for here in self.tree.below(directory, done):
            path = joined(piece, self.tree.relative(here, directory))
            if rows := layout.open_among(self.tree.rows[here]):
                layout.follow([Put(rows, folder, path, match.why, match.evidence, piece)])
            elif not self.tree.children[here] and here in self.tree.empty_rows:
                row = self.tree.empty_rows[here]
                if layout.is_open(row) and not is_junk(self.tree.names[here]):
                    above = path.rpartition("/")[0]
                    layout.follow([Put([row], folder, above, match.why, match.evidence, piece)])
