"""What an archive holds: a Listing, one row an Entry."""

from array import array
from collections.abc import Iterable, Iterator, Sequence
from enum import IntEnum

from msgspec import Struct


class EntryKind(IntEnum):
    """What an entry is."""

    FILE = 0
    DIRECTORY = 1
    LINK = 2
    """A symbolic link; its text is in `Entry.target`."""


class Entry(Struct, frozen=True, kw_only=True):
    """One file, link or directory of an archive."""

    path: str
    """From the archive's top, `/`-separated, no leading or trailing `/`, no `.` or `..`."""
    kind: EntryKind = EntryKind.FILE
    size: int = 0
    """Bytes once unpacked."""
    modified: int | None = None
    """Nanoseconds since 1970 UTC; None where the archive does not say."""
    can_run: bool = False
    """The archive marks the file as executable."""
    target: str = ""
    """Where a link points, as written."""
    checksum: int | None = None
    """The CRC-32 of the content where the archive states it before reading."""


class Refusal(Struct, frozen=True):
    """An entry that is never placed because it is unsafe."""

    entry: str
    """The name as the archive has it."""
    reason: str


NO_TIME = -(1 << 62)
NO_CHECKSUM = -1
TOP = 0
"""The number of the archive's top in `Listing.directories`."""


class Listing:
    """All entries of one archive as a table, in the archive's order.

    Columns rather than one object an entry, because archives of 200,000 entries are met and every rule looks
    at them: a row costs about a third of an object. Rows are numbered from 0; `entry(number)` gives one as a
    value. Directories have numbers of their own, parents before children, the archive's top being `TOP`.
    """

    def __init__(self) -> None:
        self.directories: list[str] = [""]
        """Paths of all directories that occur, named in the archive or implied."""
        self.parents: array[int] = array("i", [-1])
        self.names: list[str] = []
        """Last component of each row's path."""
        self.directory_of: array[int] = array("I")
        """Number of the directory that holds each row."""
        self.kinds = bytearray()
        self.sizes: array[int] = array("Q")
        self.times: array[int] = array("q")
        self.checksums: array[int] = array("q")
        self.runnable: set[int] = set()
        """Rows that the archive marks as executable."""
        self.programs: set[int] = set()
        """Rows whose content was found to be that of a program."""
        self.harmless: set[int] = set()
        """Rows that are called as programs are, and whose content was found to start nothing."""
        self.targets: dict[int, str] = {}
        self.holes: dict[int, int] = {}
        """Rows of sparse files → bytes that are zeros and not stored."""
        self.refused: list[Refusal] = []
        self.nested: dict[int, str] = {}
        """Directories that are archives opened in turn → the tidy name they are compared by."""
        self.are_parts = False
        """The archives directly at the top were named one by one, to complete one another: the later lies over."""
        self.is_system_package = False
        """A package of an operating system, whose absolute links count from its own top."""
        self._numbers: dict[str, int] = {"": TOP}

    @classmethod
    def of(cls, entries: Iterable[Entry]) -> "Listing":
        """The table of these entries."""
        listing = cls()
        for entry in entries:
            parent, _, name = entry.path.rpartition("/")
            listing.add(
                listing.directory(parent),
                name,
                entry.kind,
                entry.size,
                entry.modified,
                entry.checksum,
                can_run=entry.can_run,
                target=entry.target,
            )
        return listing

    def __len__(self) -> int:
        return len(self.names)

    def directory(self, path: str) -> int:
        """The number of the directory at this normalised path, entered with its parents if new."""
        number = self._numbers.get(path)
        if number is not None:
            return number
        for above in self.unknown(path):
            parent = self._numbers[above.rpartition("/")[0]]
            self._numbers[above] = len(self.directories)
            self.directories.append(above)
            self.parents.append(parent)
        return self._numbers[path]

    def unknown(self, path: str) -> list[str]:
        """A directory and those above it that are not entered yet, the uppermost first."""
        found = []
        while path not in self._numbers:
            found.append(path)
            path = path.rpartition("/")[0]
        return found[::-1]

    def add(
        self,
        directory: int,
        name: str,
        kind: int,
        size: int,
        modified: int | None,
        checksum: int | None = None,
        *,
        can_run: bool = False,
        target: str = "",
    ) -> int:
        """Append a row and give its number."""
        number = len(self.names)
        self.directory_of.append(directory)
        self.names.append(name)
        self.kinds.append(kind)
        self.sizes.append(size)
        self.times.append(NO_TIME if modified is None else modified)
        self.checksums.append(NO_CHECKSUM if checksum is None else checksum)
        if can_run:
            self.runnable.add(number)
        if kind == EntryKind.LINK:
            self.targets[number] = target
        elif kind == EntryKind.DIRECTORY:
            self.directory(self.path(number))
        return number

    def add_files(
        self,
        directories: Sequence[int],
        names: Sequence[str],
        sizes: Sequence[int],
        times: Sequence[int | None],
        checksums: Sequence[int],
    ) -> None:
        """Append many files, none of which can run, by columns of one length."""
        self.directory_of.extend(directories)
        self.names.extend(names)
        self.kinds.extend([EntryKind.FILE] * len(names))
        self.sizes.extend(sizes)
        self.times.extend([NO_TIME if time is None else time for time in times])
        self.checksums.extend(checksums)

    def add_all(self, other: "Listing", prefix: str, without: "frozenset[int]" = frozenset()) -> list[int]:
        """Append the rows of another listing below a directory; gives the numbers of those appended.

        Rows in `without` are left out; what the other refused is refused here too.
        """
        before = f"{prefix}/" if prefix else ""
        taken = []
        for number in range(len(other)):
            if number in without:
                continue
            above = other.directories[other.directory_of[number]]
            directory = self.directory(f"{before}{above}".rstrip("/"))
            self.add(
                directory,
                other.names[number],
                other.kinds[number],
                other.sizes[number],
                other.modified(number),
                other.checksum(number),
                can_run=number in other.runnable,
                target=other.targets.get(number, ""),
            )
            taken.append(number)
        for directory, tidy in other.nested.items():
            self.nested[self.directory(f"{before}{other.directories[directory]}")] = tidy
        self.refused.extend(Refusal(f"{before}{refusal.entry}", refusal.reason) for refusal in other.refused)
        return taken

    def path(self, number: int) -> str:
        """The row's path from the archive's top."""
        directory = self.directories[self.directory_of[number]]
        return f"{directory}/{self.names[number]}" if directory else self.names[number]

    def modified(self, number: int) -> int | None:
        """The row's time in nanoseconds since 1970 UTC, or None."""
        time = self.times[number]
        return None if time == NO_TIME else time

    def checksum(self, number: int) -> int | None:
        """The row's CRC-32, or None where the archive does not state it."""
        checksum = self.checksums[number]
        return None if checksum == NO_CHECKSUM else checksum

    def entry(self, number: int) -> Entry:
        """The row as a value."""
        return Entry(
            path=self.path(number),
            kind=EntryKind(self.kinds[number]),
            size=self.sizes[number],
            modified=self.modified(number),
            can_run=number in self.runnable,
            target=self.targets.get(number, ""),
            checksum=self.checksum(number),
        )

    def __iter__(self) -> Iterator[Entry]:
        return (self.entry(number) for number in range(len(self)))
