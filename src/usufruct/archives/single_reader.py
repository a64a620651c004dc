"""A single compressed file, read as an archive with one entry."""

from collections.abc import Iterator, Sequence

from usufruct.archives.allowance import Allowance
from usufruct.archives.damage import damaged
from usufruct.archives.names import decoded, encoding_for
from usufruct.archives.opened import OpenedFile
from usufruct.archives.reading import BLOCK, Access
from usufruct.archives.streams.decompress import PACKING_ERRORS, Ended, plain_stream
from usufruct.files.sources import Source, as_file
from usufruct.model.entries import EntryKind
from usufruct.model.facts import Facts

_GZIP_NAME, _GZIP_EXTRA = 0x08, 0x04
_SUFFIXES = (".gz", ".xz", ".zst", ".bz2", ".lz4", ".lzma", ".lz", ".z")


class SingleFile(OpenedFile):
    """An open compressed file. See `Archive`.

    The formats do not state the size at the start, so the file is read once to learn it.
    """

    is_divisible = False

    def __init__(
        self, path: str, name: str, source: Source, compression: str, access: Access, allowance: Allowance
    ) -> None:
        facts = Facts(packing=(compression,), has_checksums=compression != "Z")
        super().__init__(path, name, source, access, allowance, facts)
        self.format = compression
        with self._closed_on_failure():
            size, ended = 0, Ended()
            for block in self._blocks(ended):
                allowance.read(len(block))
                size += len(block)
            self.extent = (0, source.size if ended.at is None else ended.at)
            head = source.read_at(0, 4096)
            inner, modified = _gzip_header(head, access) if compression == "gz" else ("", None)
            self._rows.enter(inner or _without_suffix(name), EntryKind.FILE, size, modified)

    def stream(self, rows: Sequence[int]) -> Iterator[tuple[int, Iterator[bytes]]]:
        """See `Archive.stream`."""
        for row in rows:
            yield row, self._blocks()

    def _blocks(self, ended: Ended | None = None) -> Iterator[bytes]:
        try:
            with as_file(self._source, BLOCK) as file, plain_stream(file, self.format, self.allowance, ended) as plain:
                while block := plain.read(BLOCK):
                    yield block
        except PACKING_ERRORS as error:
            raise damaged(self, error) from error


def _without_suffix(name: str) -> str:
    stem = next((name[: -len(suffix)] for suffix in _SUFFIXES if name.lower().endswith(suffix)), name)
    return stem or name


def _gzip_header(head: bytes, access: Access) -> tuple[str, int | None]:
    """Return the name and time in a gzip header; only the name's last component counts."""
    seconds = int.from_bytes(head[4:8], "little")
    modified = seconds * 1_000_000_000 if seconds else None
    at = 10
    if head[3] & _GZIP_EXTRA:
        at += 2 + int.from_bytes(head[at : at + 2], "little")
    if not head[3] & _GZIP_NAME:
        return "", modified
    raw = head[at : head.find(b"\0", at)]
    encoding = "ascii" if raw.isascii() else encoding_for([raw], access.names).encoding
    return decoded(raw, encoding).replace("\\", "/").rpartition("/")[2], modified
