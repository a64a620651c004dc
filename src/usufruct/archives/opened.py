"""What all formats share whose archive is one file."""

from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager

from usufruct.archives.allowance import Allowance
from usufruct.archives.reading import Access
from usufruct.archives.rows import Rows
from usufruct.files.sources import Source
from usufruct.model.entries import Listing
from usufruct.model.facts import Facts


class OpenedFile:
    """An open archive in one file, without entries yet. See `Archive`."""

    def __init__(
        self, path: str, name: str, source: Source, access: Access, allowance: Allowance, facts: Facts | None = None
    ) -> None:
        self.path, self.name = path, name
        self.size = source.size
        self.extent = (0, source.size)
        """From where to where in the file it reaches, as far as its reader understood it."""
        self.facts = facts or Facts()
        self.allowance = allowance
        self._source, self._access = source, access
        self._password: str | None = None
        self._rows = Rows(allowance)
        self.listing: Listing = self._rows.listing

    def refuse_unreadable(self, rows: Iterable[int]) -> None:
        """See `Archive.refuse_unreadable`; in most formats every listed entry can be read."""

    def unlock(self) -> None:
        """See `Archive.unlock`; in most formats nothing is locked."""

    def stream(self, rows: Sequence[int]) -> Iterator[tuple[int, Iterator[bytes]]]:
        """See `Archive.stream`; row after row, in formats that can read each by itself."""
        for row in rows:
            yield row, self._content_of(row)

    def _content_of(self, row: int) -> Iterator[bytes]:
        raise NotImplementedError

    def close(self) -> None:
        """Close the file."""
        self._source.close()

    @contextmanager
    def _closed_on_failure(self) -> Iterator[None]:
        """Close the file if the code inside fails: the caller never gets the archive then."""
        try:
            yield
        except BaseException:
            self.close()
            raise
