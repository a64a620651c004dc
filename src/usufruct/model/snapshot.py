"""What a survey found on disk and in the ledger, frozen, for planning to decide on."""

from collections.abc import Mapping
from typing import NamedTuple

from msgspec import Struct, field

from usufruct.model.records import FileState, Layer


class Found(NamedTuple):
    """What is at one destination."""

    name: str
    """As spelled on disk."""
    state: FileState
    stack: tuple[Layer, ...]
    """The layers on record, lowest first; empty where Usufruct never placed anything."""


class SurveyedHome(Struct, frozen=True):
    """One home of a layout, on this disk."""

    path: str
    """Absolute, links resolved, in the spelling on disk."""
    base: str
    """Absolute path of the destination that must not be left: the root, or a folder that lies elsewhere."""
    exists: bool
    taken: frozenset[str] | None = None
    """Spelling keys of all names on disk or on record here; None where nobody asked for them."""


class Snapshot(Struct, frozen=True):
    """All homes of a layout, by their number there; None where nothing is placed."""

    root: str
    """The root's absolute path, links resolved."""
    homes: tuple[SurveyedHome | None, ...]
    found: Mapping[int, Found] = field(default_factory=dict)
    """Row → what is at its destination, or was once; rows where nothing is known of are left out."""

    def surveyed(self, home: int) -> SurveyedHome:
        """A home that something is placed in."""
        found = self.homes[home]
        assert found is not None, "a home with placements was surveyed"
        return found
