"""Entering what a reader finds into a Listing, safely."""

from usufruct.archives.paths import UnsafeName, safe_path
from usufruct.errors import UnsafeArchive
from usufruct.model.entries import TOP, EntryKind, Listing, Refusal


class Rows:
    """Fills a Listing and keeps beside it what only the reader needs of each row."""

    def __init__(self, name: str, path: str, most: int = 1) -> None:
        """`name` and `path` are those of the archive, for messages."""
        self._name, self._path, self._most = name, path, most
        self.listing = Listing()
        self._left = most
        self.directories: dict[str, int] = {}
        """Paths as the archive writes them → number of the directory, of those that were found safe."""

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
    ) -> int | None:
        """Enter one entry under its normalised path; None if it is unsafe (then refused) or the top itself.

        Raises UnsafeArchive for more entries than the limit.
        """
        self.count(1)
        try:
            # Archives name many files of one directory after another: its path is normalised once.
            above, separator, last = name.rpartition("/")
            if separator and last and last not in (".", "..") and "\\" not in last and "\0" not in last:
                directory = self.directories.get(above)
                if directory is None:
                    directory = self.directories[above] = self.listing.directory(safe_path(above + "/"))
            else:
                path = safe_path(name)
                if not path:
                    if kind is not EntryKind.DIRECTORY:
                        self.refuse(name, "it has no name")
                    return None
                above, _, last = path.rpartition("/")
                directory = self.listing.directory(above) if above else TOP
        except UnsafeName as unsafe:
            self.refuse(name, str(unsafe))
            return None
        return self.listing.add(directory, last, kind, size, modified, checksum, can_run=can_run, target=target)

    def count(self, more: int) -> None:
        """Count entries against the limit; raises UnsafeArchive beyond it."""
        self._left -= more
        if self._left < 0:
            raise UnsafeArchive(
                f"{self._name} is refused: it holds more than {self._most:,} entries.",
                remedy="Raise the limit in the settings if you trust it.",
                path=self._path,
            )

    def refuse(self, name: str, reason: str) -> None:
        """Refuse an entry for what it is."""
        self.listing.refused.append(Refusal(name, reason))
