"""Where each entry of an archive would go, and why: a Layout, before anyone looked at the disk."""

from array import array
from collections.abc import Iterable, Iterator, Sequence
from itertools import compress
from operator import and_, not_
from typing import NamedTuple

from msgspec import Struct

from usufruct.model.applications import Application, Folder
from usufruct.model.entries import EntryKind, Listing, Refusal
from usufruct.model.rulings import (
    Compare,
    Decision,
    Doubt,
    Evidence,
    Move,
    Put,
    Refuse,
    Rename,
    Ruling,
    Skip,
    SkippedKind,
    Unwrap,
    Used,
)

_IS_PLACED = (-1).__lt__
_IS_NOT_PLACED = (0).__gt__
"""Tells that a home's number stands for none.

Passing over all rows without a step of Python for each is what keeps large archives quick.
"""


_LEFT_OUT = frozenset(SkippedKind) - {SkippedKind.JUNK, SkippedKind.NOTES, SkippedKind.DUPLICATE}


class Home(Struct, frozen=True):
    """A directory that entries go to."""

    folder: Folder | None
    """The application's folder it belongs to; None without an application."""
    path: str
    """Relative to the root, `/`-separated, empty for the root itself; absolute where the folder lies elsewhere."""
    piece: str = ""
    """Path of the piece that the directory is part of, in the same form; empty outside pieces."""

    @property
    def is_elsewhere(self) -> bool:
        """The path is an absolute one, outside the root."""
        return self.folder is not None and self.folder.is_elsewhere


class Placement(NamedTuple):
    """An entry and its destination."""

    row: int
    """The entry's number in the Listing."""
    home: Home
    name: str
    """The file's name in that directory."""
    why: str

    @property
    def to(self) -> str:
        """The destination, relative to the root with `/`, or absolute where the folder lies elsewhere."""
        return f"{self.home.path}/{self.name}" if self.home.path else self.name


class Skipped(NamedTuple):
    """An entry that is not placed."""

    row: int
    kind: SkippedKind
    reason: str


class Layout:
    """One archive against one application (or none): a place or a reason for every entry.

    Columns that run beside the Listing's, for the same reason. Every file and link of the listing is either
    placed or skipped; directories are rows only where a piece needs an empty one.
    """

    def __init__(self, listing: Listing, application: Application | None, tidy_name: str) -> None:
        rows = len(listing)
        self.listing = listing
        self.application = application
        self.tidy_name = tidy_name
        self.homes: list[Home] = []
        self.reasons: list[str] = []
        self.wrappers: dict[str, str] = {}
        """Directories of the archive that only wrap, each with the reason it was dropped."""
        self.roots: dict[int, bool] = {}
        """Directories with a name of the root → whether it is the application's own name or one in `also`."""
        self.refused: list[Refusal] = list(listing.refused)
        """Entries that are unsafe to place: those the archive's reader refused, then those the rules did."""
        self.decisions: list[Decision] = []
        self.used_choices: set[str] = set()
        """The `--choose` words that named an alternative."""
        self.unmatched: tuple[str, ...] = ()
        """Patterns of the user's that match nothing."""
        self.undecided: set[int] = set()
        """Rows of one destination and one size, whose content must be compared before the layout is final."""
        self.home_of: array[int] = array("i", [-1]) * rows
        self.reason_of: array[int] = array("i", [-1]) * rows
        self.skipped_as = bytearray(rows)
        self.evidence_of = bytearray(rows)
        self._by_home: tuple[bytes, list[array[int]]] | None = None
        """What `rows_by_home` gave last, and the homes that it was made of: several ask for the same."""
        self.renamed: dict[int, str] = {}
        """Rows that get another name than their own."""
        self._has_doubts = False
        self._home_numbers: dict[tuple[str, str, str], int] = {}
        self._reason_numbers: dict[str, int] = {}

    def _home(self, folder: Folder | None, path: str, piece: str = "") -> int:
        """The number of this home, entered if new."""
        key = (folder.name if folder else "", path, piece)
        number = self._home_numbers.get(key)
        if number is None:
            number = self._home_numbers[key] = len(self.homes)
            self.homes.append(Home(folder, path, piece))
        return number

    def _reason(self, text: str) -> int:
        """The number of this reason, entered if new."""
        number = self._reason_numbers.get(text)
        if number is None:
            number = self._reason_numbers[text] = len(self.reasons)
            self.reasons.append(text)
        return number

    def follow(self, rulings: Iterable[Ruling]) -> Sequence[Ruling]:
        """Carry out what a rule says, and return it.

        The rule is heard to its end first: it judges the layout as it found it.
        """
        heard = (*rulings,)
        for ruling in heard:
            match ruling:
                case Put(rows, folder, path, why, evidence, piece):
                    self._place(rows, self._home(folder, path, piece), self._reason(why), evidence)
                case Move(rows, path, piece):
                    for row in rows:
                        if self.home_of[row] >= 0:
                            self.home_of[row] = self._home(self.homes[self.home_of[row]].folder, path, piece)
                case Rename(row, name):
                    self.renamed[row] = name
                case Skip(rows, kind, why):
                    reason = self._reason(why)
                    home_of, skipped_as, reason_of = self.home_of, self.skipped_as, self.reason_of
                    for row in rows:
                        home_of[row], skipped_as[row], reason_of[row] = -1, kind, reason
                case Refuse(rows, why):
                    for row in rows:
                        self.home_of[row], self.skipped_as[row], self.reason_of[row] = -1, 0, -1
                        self.refused.append(Refusal(self.listing.path(row), why))
                case Doubt(rows, why):
                    if open_rows := self.open_among(rows):
                        reason, self._has_doubts = self._reason(why), True
                        for row in open_rows:
                            self.reason_of[row] = reason
                case Unwrap(path, why):
                    self.wrappers.setdefault(path, why)
                case Used(word):
                    self.used_choices.add(word)
                case Compare(rows):
                    self.undecided.update(rows)
                case Decision():
                    self.decisions.append(ruling)
        return heard

    def _place(self, rows: Iterable[int], home: int, reason: int, evidence: Evidence) -> None:
        home_of, reason_of, evidence_of = self.home_of, self.reason_of, self.evidence_of
        for row in rows:
            home_of[row] = home
            reason_of[row] = reason
            evidence_of[row] = evidence

    def skip_open(self, kind: SkippedKind, why: str) -> None:
        """Skip every file and link that is open still, for what was doubted of it or else for this reason."""
        reason = self._reason(why)
        if self.homes or self._has_doubts:
            kinds = self.listing.kinds
            for row in self.open_rows():
                if kinds[row] != EntryKind.DIRECTORY:
                    self.skipped_as[row] = kind
                    if self.reason_of[row] < 0:
                        self.reason_of[row] = reason
            return
        # Most definitions match nothing in an archive, and that must not take a step for each entry.
        said = [(row, self.reason_of[row]) for row in compress(range(len(self.skipped_as)), self.skipped_as)]
        self.skipped_as = self.skipped_as.translate(bytes([kind, *range(1, 256)]))
        self.reason_of = array("i", [reason]) * len(self.skipped_as)
        for row, reason in said:
            self.reason_of[row] = reason
        for row in compress(range(len(self.skipped_as)), map(EntryKind.DIRECTORY.__eq__, self.listing.kinds)):
            self.skipped_as[row], self.reason_of[row] = 0, -1

    def is_open(self, row: int) -> bool:
        """The row has neither a place nor a reason yet."""
        return self.home_of[row] < 0 and not self.skipped_as[row]

    def open_among(self, rows: Iterable[int]) -> list[int]:
        """Those of these rows that have neither a place nor a reason yet."""
        home_of, skipped_as = self.home_of, self.skipped_as
        return [row for row in rows if home_of[row] < 0 and not skipped_as[row]]

    def open_rows(self) -> Sequence[int]:
        """The rows that have neither a place nor a reason yet."""
        if len(self.skipped_as) - self.skipped_as.count(0) == self.home_of.count(-1):
            return ()  # entries without a home were skipped
        is_open = map(and_, map(_IS_NOT_PLACED, self.home_of), map(not_, self.skipped_as))
        return list(compress(range(len(self.home_of)), is_open))

    def name(self, row: int) -> str:
        """The row's name at its destination."""
        return self.renamed.get(row) or self.listing.names[row]

    @property
    def names(self) -> Sequence[str]:
        """Each row's name at its destination, by number; for loops over very many."""
        if not self.renamed:
            return self.listing.names
        names = list(self.listing.names)
        for row, name in self.renamed.items():
            names[row] = name
        return names

    def placed_rows(self) -> Iterator[int]:
        """Numbers of the rows that have a place, in the archive's order."""
        return compress(range(len(self.home_of)), map(_IS_PLACED, self.home_of))

    def rows_by_home(self) -> list[Sequence[int]]:
        """For each home the rows that are placed there, in the archive's order."""
        homes = self.home_of.tobytes()
        if not self._by_home or self._by_home[0] != homes or len(self._by_home[1]) != len(self.homes):
            rows: list[array[int]] = [array("I") for _ in self.homes]
            add = [placed.append for placed in rows]
            for row, home in enumerate(self.home_of):
                if home >= 0:
                    add[home](row)
            self._by_home = homes, rows
        return [*self._by_home[1]]

    @property
    def placements(self) -> Iterator[Placement]:
        """All placements, in the archive's order."""
        for row in self.placed_rows():
            yield Placement(row, self.homes[self.home_of[row]], self.name(row), self.reasons[self.reason_of[row]])

    @property
    def skipped(self) -> Iterator[Skipped]:
        """All that is skipped, in the archive's order."""
        for row in compress(range(len(self.skipped_as)), self.skipped_as):
            yield Skipped(row, SkippedKind(self.skipped_as[row]), self.reasons[self.reason_of[row]])

    def rows_skipped(self, *kinds: SkippedKind) -> list[int]:
        """Numbers of the rows that are skipped for one of these kinds of reason."""
        return list(compress(range(len(self.skipped_as)), map(frozenset(kinds).__contains__, self.skipped_as)))

    @property
    def files(self) -> int:
        """How many files and links are placed."""
        placed = len(self.home_of) - self.home_of.count(-1)
        if not placed or EntryKind.DIRECTORY not in self.listing.kinds:
            return placed
        kinds = compress(self.listing.kinds, map(_IS_PLACED, self.home_of))
        return sum(map(EntryKind.DIRECTORY.__ne__, kinds))

    @property
    def size(self) -> int:
        """Bytes placed."""
        return sum(compress(self.listing.sizes, map(_IS_PLACED, self.home_of)))

    @property
    def left_out(self) -> int:
        """How many files and links are content and are not placed, whatever the reason."""
        told = map(_LEFT_OUT.__contains__, self.skipped_as)
        return sum(told) + len(self.refused) - len(self.listing.refused)

    @property
    def evidence(self) -> Evidence:
        """The strongest evidence by which a place was found for any entry, whatever was left out of it since."""
        return Evidence(max(self.evidence_of, default=0))
