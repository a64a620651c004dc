"""Enter what a reader finds into a Listing, safely."""

from collections.abc import Sequence

from usufruct.archives.allowance import Allowance
from usufruct.archives.paths import UnsafeName, safe_path
from usufruct.model.entries import TOP, EntryKind, Listing, Refusal
from usufruct.planning.names import tidy_name

_LONGEST_PATH = 4096
"""Characters of a path: what is longer can be made on few systems."""
_MOST_LEVELS = 200
_LARGEST = 1 << 62
"""Bytes of a file: more is no size."""
_FIRST_TIME, _LAST_TIME = -(1 << 62), (1 << 63) - 1
"""Nanoseconds since 1970 that files may have: from 1824 to 2262. A time beyond is none."""
_HOLES = 16
"""Bytes of holes that count as one: they take time to hash, and hardly any room."""
_DIRECTORY = 150
"""Bytes that a directory takes besides its path."""


class Rows:
    """Fills a Listing, and keeps what only the reader needs of each row."""

    def __init__(self, allowance: Allowance) -> None:
        self._allowance = allowance
        self.listing = Listing()
        self.directories: dict[str, int] = {}
        """Paths as the archive writes them → number of the directory, of those that were found safe."""
        self._below = ""

    def begin_part(self, name: str) -> None:
        """Start another archive: from now on all entries are below its own directory."""
        self._below = name
        self.directories.clear()
        self.listing.nested[self._directory("")] = tidy_name(name)

    def enter(
        self,
        name: str,
        kind: EntryKind,
        size: int,
        modified: int | None,
        checksum: int | None = None,
        *,
        can_run: bool = False,
        target: str = "",
        holes: int = 0,
    ) -> int | None:
        """Enter an entry under its normalised path; returns None if it is unsafe (then refused) or the top itself.

        `holes`: how many of its bytes are zeros that are not stored. Raises UnsafeArchive beyond the limits.
        """
        allowance = self._allowance
        allowance.entries()
        allowance.keep(len(name) + len(target))
        if not 0 <= size <= _LARGEST:
            self.refuse(name[:_LONGEST_PATH], "it states a size that no file can have")
            return None
        allowance.unpack(size - holes + holes // _HOLES)
        if modified is not None and not _FIRST_TIME < modified <= _LAST_TIME:
            modified = None
        try:
            if len(name) > _LONGEST_PATH:
                name = name[:_LONGEST_PATH]
                raise UnsafeName(f"its path is longer than {_LONGEST_PATH:,} characters")
            # Files of one directory mostly follow each other: normalise its path once.
            above, _, last = name.rpartition("/")
            if above and last and last not in (".", "..") and "\\" not in last and "\0" not in last:
                directory = self.directories.get(above)
                if directory is None:
                    directory = self.directories[above] = self._directory(safe_path(above + "/"))
            else:
                path = safe_path(name)
                if not path:
                    if kind is not EntryKind.DIRECTORY:
                        self.refuse(name, "it has no name")
                    return None
                above, _, last = path.rpartition("/")
                directory = self._directory(above) if above or self._below else TOP
        except UnsafeName as unsafe:
            self.refuse(name, str(unsafe))
            return None
        if kind is EntryKind.DIRECTORY:
            self._allowance.keep(len(name) + _DIRECTORY)
        row = self.listing.add(directory, last, kind, size, modified, checksum, can_run=can_run, target=target)
        if holes:
            self.listing.holes[row] = holes
        return row

    def _directory(self, path: str) -> int:
        """Return the number of a directory; enters it and its parents if they are new."""
        path = f"{self._below}/{path}".strip("/") if self._below else path
        if path.count("/") >= _MOST_LEVELS:
            raise UnsafeName(f"it is more than {_MOST_LEVELS} folders deep")
        # Each directory is kept with its full path, so deep ones take more than their names.
        for above in self.listing.unknown(path):
            self._allowance.entries()
            self._allowance.keep(len(above) + _DIRECTORY)
        return self.listing.directory(path)

    def count(self, names: Sequence[str], sizes: Sequence[int]) -> None:
        """Count files with these names and sizes; raises UnsafeArchive beyond the limits."""
        self._allowance.entries(len(names))
        self._allowance.keep(sum(map(len, names)))
        self._allowance.unpack(sum(sizes))

    def refuse(self, name: str, reason: str) -> None:
        """Refuse an entry because of its kind."""
        self._allowance.entries()
        self._allowance.keep(len(name))
        self.listing.refused.append(Refusal(name, reason))
