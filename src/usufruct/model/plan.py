"""What will be done: a few kinds of steps, whatever the story. Showing a Plan is the dry run."""

from array import array
from collections.abc import Iterator, Sequence
from enum import IntEnum
from typing import NamedTuple

from usufruct.model.layout import Layout, Skipped
from usufruct.model.records import FileState, Layer
from usufruct.model.snapshot import Found, Snapshot


class Conflict(IntEnum):
    """What a placement meets at its destination; the label is what programs read."""

    NONE = 0
    SAME = 1
    """The very same content: left alone and shared."""
    REPLACES = 2
    STAYS = 3
    """What is there stays; the entry is placed beside it under a free name."""

    @property
    def label(self) -> str | None:
        """`same` for SAME; None where nothing is met."""
        return self.name.lower() if self else None


class Place(NamedTuple):
    """Put an entry where nothing is."""

    row: int
    home: int
    name: str


class Replace(NamedTuple):
    """Put an entry where something is, which is kept in the backups; shared instead if the content is the same."""

    row: int
    home: int
    found: Found


class Renew(NamedTuple):
    """Put an entry in the place of the layer that an updated holding has in a destination's stack."""

    row: int
    home: int
    found: Found
    level: int


PlacingStep = Place | Replace | Renew


class Plan:
    """One layout on one disk: what each placed row does there.

    Columns beside the Layout's and the Snapshot's, which together tell the step of each row when it is asked for.
    """

    def __init__(self, layout: Layout, snapshot: Snapshot) -> None:
        self.layout = layout
        self.snapshot = snapshot
        self.conflict_of = bytearray(len(layout.listing))
        self.skipped: list[Skipped] = []
        """Rows that the layout placed and a conflict keeps out."""
        self.open_conflicts: list[int] = []
        """Rows whose conflict only the user can decide; their steps are what `replace` would do."""
        self.beside: dict[int, str] = {}
        """Rows placed beside what is there → the free name that they get."""
        self.unnamed: set[int] = set()
        """Homes in which a free name is wanted and the names there were not surveyed: the plan is to be made again."""
        self.level_of: dict[int, int] = {}
        """Rows that renew a layer of the holding that is updated → its level."""

    def rows(self) -> Iterator[int]:
        """Numbers of the rows that are placed, in the archive's order."""
        rows = self.layout.placed_rows()
        if not self.skipped:
            return rows
        out = {one.row for one in self.skipped}
        return (row for row in rows if row not in out)

    def rows_by_home(self) -> list[Sequence[int]]:
        """The same for each home of the layout."""
        out = {one.row for one in self.skipped}
        rows = self.layout.rows_by_home()
        return [array("I", (row for row in placed if row not in out)) for placed in rows] if out else rows

    def conflict(self, row: int) -> Conflict:
        """What a row meets at its destination."""
        return Conflict(self.conflict_of[row])

    def name(self, row: int) -> str:
        """The name that a row gets: a free one, or that which is there already, or its own."""
        if beside := self.beside.get(row):
            return beside
        found = self.snapshot.found.get(row)
        return found.name if found else self.layout.name(row)

    def step(self, row: int) -> PlacingStep:
        """What is done with a placed row."""
        home, found = self.layout.home_of[row], self.snapshot.found.get(row)
        if found is None or row in self.beside:
            return Place(row, home, self.name(row))
        if row in self.level_of:
            return Renew(row, home, found, self.level_of[row])
        return Replace(row, home, found)

    @property
    def steps(self) -> Iterator[PlacingStep]:
        """The steps of all placed rows, in the archive's order."""
        return map(self.step, self.rows())

    def size_replaced(self, row: int) -> int:
        """Bytes of the file that a row replaces, or shares."""
        found = self.snapshot.found.get(row)
        return found.state.size if found and row not in self.beside else 0


class Detach(NamedTuple):
    """Take a holding's layer out of one destination's stack."""

    directory: int
    """Ledger number."""
    name: str
    levels: tuple[int, ...]
    """The layers that go, the holding's own first."""
    disk: FileState
    """What is on disk now."""
    documented: Layer | None
    """A layer that must be entered first so that the ledger tells what is on disk: the user deleted or edited it."""
    gives_back: Layer | None
    """The layer whose content is put back on disk; None: nothing is put back."""
    changes_disk: bool


class Leave(NamedTuple):
    """Leave a placed file where it is: the user changed it since, or what it replaced cannot be given back."""

    directory: int
    name: str
    disk: FileState
    damaged: bool = False
    """The backup of what it replaced is missing or damaged; nobody changed the file itself."""


RemovalStep = Detach | Leave
