"""What a survey found on disk and in the ledger, frozen, for planning to decide on."""

from array import array
from collections.abc import Iterator, Mapping, Sequence
from typing import NamedTuple

from msgspec import Struct

from usufruct.model.records import TOO_LATE, FileKind, FileState, Layer


class Found(NamedTuple):
    """What is at one destination."""

    name: str
    """As spelled on disk."""
    state: FileState
    stack: tuple[Layer, ...]
    """The layers on record, lowest first; empty where Usufruct never placed anything."""


class Met(Mapping[int, Found]):
    """Row → what is at its destination, or was once; rows where nothing is known of are left out.

    Nearly all that is met are plain files: called as the row is, and never placed by Usufruct. They are columns, and
    one becomes an object when it is asked for.
    """

    def __init__(self, names: Sequence[str] = (), found: Mapping[int, Found] | None = None) -> None:
        """`names` of all rows at their destinations; `found` is known already."""
        self._names = names
        self._met: dict[int, Found | int] = dict(found or {})
        """In the place of a plain file's object its number in the columns."""
        self.other_rows = list(self._met)
        """Rows that meet anything but a plain file."""
        self.plain_rows = array("I")
        self.plain_sizes = array("Q")
        self._times = array("q")
        self._modes = array("H")
        self._inodes = array("q")

    def add(self, row: int, found: Found) -> None:
        """Enter what is no plain file, or what is known of it by now."""
        if row not in self._met:
            self.other_rows.append(row)
        self._met[row] = found

    def add_plain(self, row: int, size: int, modified: int, mode: int, inode: int) -> None:
        """Enter a plain file."""
        # Some file systems have 128-bit inode numbers.
        if not (-TOO_LATE < modified < TOO_LATE and inode < 1 << 63):
            self.add(row, Found(self._names[row], FileState(FileKind.FILE, size, modified, mode, inode), ()))
            return
        self._met[row] = len(self.plain_rows)
        self.plain_rows.append(row)
        self.plain_sizes.append(size)
        self._times.append(modified)
        self._modes.append(mode)
        self._inodes.append(inode)

    def others(self) -> Iterator[tuple[int, Found]]:
        """All but the plain files."""
        return ((row, self[row]) for row in self.other_rows)

    def __getitem__(self, row: int) -> Found:
        found = self._met[row]
        if isinstance(found, int):
            size, time, mode = self.plain_sizes[found], self._times[found], self._modes[found]
            state = FileState(FileKind.FILE, size, time, mode, self._inodes[found])
            found = self._met[row] = Found(self._names[row], state, ())
        return found

    def get(self, row: int, default: Found | None = None) -> Found | None:  # type: ignore[override]
        """As of every mapping, without an error for each of the many rows that meet nothing."""
        return self[row] if row in self._met else default

    def __contains__(self, row: object) -> bool:
        return row in self._met

    def __iter__(self) -> Iterator[int]:
        return iter(self._met)

    def __len__(self) -> int:
        return len(self._met)


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
    found: Met
    kept: frozenset[str] = frozenset()
    """Absolute paths at which the holding that is updated leaves a file where a directory is to be, or the reverse."""

    def surveyed(self, home: int) -> SurveyedHome:
        """A home that something is placed in."""
        found = self.homes[home]
        assert found is not None, "a home with placements was surveyed"
        return found
