"""What will be done: a few kinds of steps, whatever the story. Showing a Plan is the dry run."""

from dataclasses import dataclass, field
from enum import StrEnum
from typing import NamedTuple

from usufruct.model.layout import Aside, Layout
from usufruct.model.records import FileState, Layer
from usufruct.model.snapshot import Found, Snapshot


class Clash(StrEnum):
    """What a placement meets at its destination."""

    SAME = "same"
    """The very same content: left alone and shared."""
    REPLACES = "replaces"
    STAYS = "stays"
    """What is there stays; the entry is placed beside it under a free name."""


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


@dataclass(slots=True)
class Plan:
    """One layout on one disk: what each placed row does there."""

    layout: Layout
    snapshot: Snapshot
    steps: list[PlacingStep] = field(default_factory=list)
    clashes: dict[int, Clash] = field(default_factory=dict)
    """Row → what it meets; rows that meet nothing are left out."""
    asides: list[Aside] = field(default_factory=list)
    """Rows that the layout placed and a clash keeps out."""
    open_clashes: list[int] = field(default_factory=list)
    """Rows whose clash only the user can decide; their steps are what `replace` would do."""

    @property
    def names(self) -> dict[int, str]:
        """Row → name at the destination, of rows that get another than the layout gave them."""
        if Clash.STAYS not in self.clashes.values():
            return {}
        return {
            step.row: step.name
            for step in self.steps
            if isinstance(step, Place) and self.clashes.get(step.row) is Clash.STAYS
        }


class TakeOut(NamedTuple):
    """Take a holding's layer out of one destination's stack."""

    directory: int
    """Ledger number."""
    name: str
    levels: tuple[int, ...]
    """The layers that go."""
    disk: FileState
    """What is on disk now."""
    documented: Layer | None
    """A layer that must be entered first so that the ledger tells what is on disk: the user deleted or edited it."""
    gives_back: Layer | None
    """What comes to lie on disk instead; None with `changes_disk`: nothing does."""
    changes_disk: bool


class Leave(NamedTuple):
    """Leave a file that the user changed since where it is."""

    directory: int
    name: str
    disk: FileState


RemovalStep = TakeOut | Leave
