"""Less common formats, read with libarchive: cab, iso, lha, ar."""

import re
import stat
from collections.abc import Callable, Iterator, Sequence
from functools import partial

from usufruct.archives.allowance import Allowance
from usufruct.archives.archive_library import LibraryEntry, LibraryFault, LibraryReader
from usufruct.archives.damage import checked, damaged, damaged_entry
from usufruct.archives.foreign import is_udf
from usufruct.archives.names import decoded, encoding_for
from usufruct.archives.opened import OpenedFile
from usufruct.archives.reading import BLOCK, Access
from usufruct.errors import UnreadableArchive
from usufruct.files.sources import SliceSource, Source
from usufruct.model.entries import EntryKind
from usufruct.model.facts import Facts

FORMATS = {"cab": "cab", "iso": "iso9660", "lha": "lha", "ar": "ar"}
"""Format → the library's name of it."""


_SHORT_NAME = re.compile(r"[A-Z0-9_]{1,8}(\.[A-Z0-9_]{0,3})?(;1)?")
"""ECMA-119, chapter 7.5, at the level that every system reads."""
_ISO_VOLUME = 0x8000
"""ECMA-119, chapter 8.4: where the volume is described, in which are its blocks and the size of one."""
_AR_HEADER = 60
_FIRST_OF_DEB = "debian-binary"
"""The manual page deb(5): the member that comes first in a package of Debian."""

_CHECKED = ("cab", "lha")
"""Kinds that state checksums of their content."""
_WAITING = 300
"""Bytes that an entry takes until all are known."""


def _end_of_cab(source: Source) -> int:
    return int.from_bytes(source.read_at(8, 4), "little")


def _end_of_iso(source: Source) -> int:
    head = source.read_at(_ISO_VOLUME, 132)
    return int.from_bytes(head[80:84], "little") * int.from_bytes(head[128:130], "little")


def _end_of_ar(source: Source) -> int:
    at = len(b"!<arch>\n")
    while (head := source.read_at(at, _AR_HEADER)).endswith(b"`\n") and len(head) == _AR_HEADER:
        size = head[48:58].strip()
        at += _AR_HEADER + (int(size) + 1) // 2 * 2 if size.isdigit() else source.size
    return at


def _end_of_lha(source: Source) -> int:
    at = 0
    while len(head := source.read_at(at, 28)) >= 21 and head[0] and head[2:3] == b"-":
        level, packed = head[20], int.from_bytes(head[7:11], "little")
        own = {2: int.from_bytes(head[:2], "little"), 3: int.from_bytes(head[24:28], "little")}.get(level, head[0] + 2)
        if own < len(head[:21]):
            break  # no header is so short; it would loop for ever
        at += own + packed
    return at + (source.read_at(at, 1) == b"\0")


_ENDS: dict[str, Callable[[Source], int]] = {
    "cab": _end_of_cab, "iso": _end_of_iso, "ar": _end_of_ar, "lha": _end_of_lha,
}  # fmt: skip
"""Kind → where it ends, as its headers say; the library does not tell."""


class LibraryArchive(OpenedFile):
    """An open archive that libarchive reads. See `Archive`. Each use reads it once from the start."""

    is_divisible = False

    def __init__(self, path: str, name: str, source: Source, kind: str, access: Access, allowance: Allowance) -> None:
        super().__init__(path, name, source, access, allowance, Facts(has_checksums=kind in _CHECKED))
        self.format = kind
        self._row_of: list[int] = []
        """Number of the entry in the stream → row; -1 for entries that are no rows."""
        self._copies: dict[int, int] = {}
        """Row of a hard link → row of the file whose content it has."""
        with self._closed_on_failure():
            self.extent = (0, min(source.size, _ENDS[kind](source)))
            # The library would take data after the archive for damage.
            self._own = SliceSource(source, *self.extent) if kind == "ar" else source
            self._read_listing()

    def stream(self, rows: Sequence[int]) -> Iterator[tuple[int, Iterator[bytes]]]:
        """See `Archive.stream`; in the archive's order, hard links last."""
        copies = [row for row in rows if row in self._copies]
        yield from self._stream(set(rows).difference(copies))
        for copy in copies:
            for _, blocks in self._stream({self._copies[copy]}):
                yield copy, blocks

    def _stream(self, wanted: set[int]) -> Iterator[tuple[int, Iterator[bytes]]]:
        left = len(wanted)
        if not left:
            return
        try:
            with self._opened() as reader:
                for number, _ in enumerate(reader.passed()):
                    row = self._row_of[number] if number < len(self._row_of) else -1
                    if row in wanted:
                        yield row, self._blocks(reader, row)
                        left -= 1
                        if not left:
                            return
        except LibraryFault as fault:
            raise damaged(self, fault) from fault

    def _blocks(self, reader: LibraryReader, row: int) -> Iterator[bytes]:
        broken = partial(damaged_entry, self, self.listing.path(row))
        try:
            yield from checked(reader.blocks(BLOCK), self.listing.sizes[row], None, broken)
        except LibraryFault as fault:
            raise broken(f"cannot be unpacked: {fault}") from fault

    def _counted(self, block: bytes) -> int:
        self.allowance.read(len(block))
        return len(block)

    def _opened(self) -> LibraryReader:
        try:
            return LibraryReader(self._own, (FORMATS[self.format],))
        except UnreadableArchive as error:
            raise UnreadableArchive(
                f"{self.name} is of the format {self.format}, which is read with libarchive; that is not installed.",
                remedy=error.remedy,
                path=self.path,
            ) from error

    def _read_listing(self) -> None:
        entries: list[LibraryEntry] = []
        try:
            with self._opened() as reader:
                for entry in reader.entries():
                    self.allowance.keep(_WAITING + len(entry.raw) + len(entry.target) + len(entry.hard_link))
                    if entry.size is None and stat.S_ISREG(entry.mode):
                        # Some packers put the size after the data: then it must be read to know.
                        entry = entry._replace(size=sum(map(self._counted, reader.blocks(BLOCK))))
                    entries.append(entry)
        except LibraryFault as fault:
            raise damaged(self, fault) from fault
        unsaid = [entry.raw for entry in entries if entry.name is None and not entry.raw.isascii()]
        encoding = "utf-8"
        if unsaid:
            is_from_dos = self.format in ("lha", "cab")
            encoding = encoding_for(unsaid, self._access.names, is_from_dos=is_from_dos).tell(self.facts)
        paths: dict[str, int] = {}
        for entry in entries:
            name = entry.name if entry.name is not None else decoded(entry.raw, encoding)
            self._row_of.append(self._enter(entry, name, paths))
        self.listing.is_system_package = self.format == "ar" and self.listing.names[:1] == [_FIRST_OF_DEB]
        if self.format == "iso" and all(map(_SHORT_NAME.fullmatch, self.listing.names)):
            self.facts.has_better_names = is_udf(self._source)

    def _enter(self, entry: LibraryEntry, name: str, paths: dict[str, int]) -> int:
        """The row of an entry, or -1."""
        file_type = stat.S_IFMT(entry.mode)
        if self.format == "ar":
            name = name.rstrip("/")  # how some packers end names there
        size = entry.size or 0
        can_run = bool(entry.mode & 0o111) and self.format not in ("iso", "cab")
        if entry.hard_link:
            source = paths.get(entry.hard_link)
            if source is None:
                self._rows.refuse(
                    name, f"it is a hard link to {entry.hard_link}, which is not in the archive before it"
                )
                return -1
            source = self._copies.get(source, source)
            row = self._rows.enter(name, EntryKind.FILE, self.listing.sizes[source], entry.modified, can_run=can_run)
            if row is not None:
                self._copies[row] = source
        elif file_type == stat.S_IFDIR:
            row = self._rows.enter(name, EntryKind.DIRECTORY, 0, entry.modified)
        elif file_type == stat.S_IFLNK:
            row = self._rows.enter(name, EntryKind.LINK, 0, entry.modified, target=entry.target)
        elif file_type in (stat.S_IFREG, 0):
            row = self._rows.enter(name, EntryKind.FILE, size, entry.modified, can_run=can_run)
            if row is not None:
                paths[name] = row
        else:
            self._rows.refuse(name, "it is a device, pipe or socket")
            return -1
        return -1 if row is None else row
