"""Xar: a table of contents in XML, compressed with zlib, followed by the files.

Source: the format's description in the wiki of the xar project.
"""

import hashlib
import lzma
from collections.abc import Callable, Iterable, Iterator
from datetime import datetime
from functools import partial
from xml.parsers import expat

from msgspec import Struct

from usufruct.archives.allowance import Allowance
from usufruct.archives.damage import damaged, damaged_entry
from usufruct.archives.opened import OpenedFile
from usufruct.archives.reading import BLOCK, Access
from usufruct.archives.streams.decompress import PACKING_ERRORS, bunzip2, stored, unxz, unzlib
from usufruct.errors import DamagedArchive, UnreadableArchive
from usufruct.files.sources import SliceSource, Source
from usufruct.model.entries import EntryKind
from usufruct.model.facts import Facts

_HEADER = 28
"""Bytes of the smallest header."""
_KEPT = 400
"""Bytes that an entry takes besides its texts while the table is read."""
_LONGEST_TEXT = 4096
_MOST_LEVELS = 200
"""Directories inside one another, as the table nests them."""
_DIGESTS = ("md5", "sha1", "sha256", "sha512")
_ENCODINGS: dict[str, tuple[str, Callable[[Iterable[bytes]], Iterator[bytes]]]] = {
    "application/octet-stream": ("stored", stored),
    "application/x-gzip": ("gz", unzlib),
    "application/x-bzip2": ("bz2", bunzip2),
    "application/x-xz": ("xz", unxz),
    "application/x-lzma": ("lzma", partial(unxz, form=lzma.FORMAT_AUTO)),
}
"""Style in the table → its name for people, and what unpacks it."""
_WANTED = frozenset(
    "name type mode mtime link data/offset data/length data/size data/extracted-checksum data/archived-checksum".split()
)
"""The texts of an entry that are read."""
_STRETCH, _HAS_STRETCH = ("offset", "length", "size"), ("data", "ea", "checksum", "signature", "x-signature")
"""Elements that tell of a stretch of the heap, and those that have one."""


class _Fault(Exception):
    """The table of contents is invalid; the message says how."""


_FAULTS: tuple[type[Exception], ...] = (_Fault, expat.ExpatError, *PACKING_ERRORS)


class _XarEntry(Struct):
    """One file of the table, with its texts."""

    number: str
    above: "_XarEntry | None"
    texts: dict[str, str]
    style: str = "application/octet-stream"
    digest: str = ""
    """Which of `_DIGESTS` the content has."""
    linked: str = ""
    """Number of the entry whose content a hard link has."""
    row: int = -1

    def path(self) -> str:
        """Return the full path, from the nesting in the table."""
        names, entry = [], self
        while entry:
            names.append(entry.texts.get("name", ""))
            entry = entry.above  # type: ignore[assignment]
        return "/".join(reversed(names))

    def number_of(self, key: str) -> int:
        """Return a text as a number; 0 if it is missing."""
        try:
            return max(0, int(self.texts.get(key, "0")))
        except ValueError:
            raise _Fault(f"{key} of an entry is no number") from None


class XarArchive(OpenedFile):
    """An open xar. See `Archive`."""

    format = "xar"
    is_divisible = True

    def __init__(self, path: str, name: str, source: Source, access: Access, allowance: Allowance) -> None:
        super().__init__(path, name, source, access, allowance, Facts(has_checksums=True))
        self._entries: dict[int, _XarEntry] = {}
        """Row → entry whose content it has."""
        with self._closed_on_failure():
            try:
                self._read_table()
            except _FAULTS as fault:
                raise damaged(self, fault) from fault

    # --- listing -----------------------------------------------------------------------------------------

    def _read_table(self) -> None:
        head = self._source.read_at(0, _HEADER)
        size, packed = int.from_bytes(head[4:6], "big"), int.from_bytes(head[8:16], "big")
        if len(head) < _HEADER or size < _HEADER or size + packed > self._source.size:
            raise _Fault("it breaks off")
        self._heap = size + packed
        table = _Table(self.allowance)
        for block in unzlib(_blocks_of(self._source, size, packed)):
            self.allowance.read(len(block))
            table.feed(block)
        table.end()
        self.extent = (0, min(self.size, self._heap + table.end_of_heap))
        by_number = {entry.number: entry for entry in table.entries}
        links = []
        for entry in table.entries:
            if entry.texts.get("type") == "hardlink" and entry.linked not in ("", "original"):
                links.append(entry)
            else:
                self._enter(entry)
        for entry in links:
            self._enter_link(entry, by_number.get(entry.linked))
        styles = {entry.style for entry in self._entries.values()}
        self.facts.packing = tuple(sorted(_ENCODINGS[style][0] if style in _ENCODINGS else style for style in styles))

    def _enter(self, entry: _XarEntry) -> None:
        kind = entry.texts.get("type", "file")
        if kind == "directory":
            self._rows.enter(entry.path(), EntryKind.DIRECTORY, 0, _time(entry))
        elif kind == "symlink":
            target = entry.texts.get("link", "")
            self._rows.enter(entry.path(), EntryKind.LINK, 0, _time(entry), target=target)
        elif kind in ("file", "hardlink"):
            self._enter_file(entry, entry)
        else:
            self._rows.refuse(entry.path(), "it is a device, pipe or socket")

    def _enter_file(self, entry: _XarEntry, content: _XarEntry) -> None:
        size = content.number_of("data/size")
        can_run = bool(_mode(entry) & 0o111)
        row = self._rows.enter(entry.path(), EntryKind.FILE, size, _time(entry), can_run=can_run)
        if row is not None:
            entry.row = row
            self._entries[row] = content

    def _enter_link(self, entry: _XarEntry, original: _XarEntry | None) -> None:
        if original is None or original.row < 0:
            self._rows.refuse(entry.path(), "it is a hard link to a file that is not in the archive")
        else:
            self._enter_file(entry, original)

    # --- content -----------------------------------------------------------------------------------------

    def _content_of(self, row: int) -> Iterator[bytes]:
        entry, size = self._entries[row], self.listing.sizes[row]
        if entry.style not in _ENCODINGS:
            raise UnreadableArchive(
                f"{self.listing.path(row)} in {self.name} cannot be read: it is packed as {entry.style[:80]}.",
                remedy="Leave it out with --skip, or unpack it with the program that made it.",
                path=self.path,
            )
        digest = hashlib.new(entry.digest, usedforsecurity=False) if entry.digest in _DIGESTS else None
        total = 0
        begin, length = self._heap + entry.number_of("data/offset"), entry.number_of("data/length")
        try:
            for block in _ENCODINGS[entry.style][1](_blocks_of(self._source, begin, length)) if length else ():
                total += len(block)
                if total > size:
                    break
                if digest:
                    digest.update(block)
                yield block
        except PACKING_ERRORS as error:
            raise self._broken(row, f"cannot be unpacked: {error}") from error
        stated = entry.texts.get("data/extracted-checksum", "").lower()
        if total != size or (digest and length and digest.hexdigest() != stated):
            raise self._broken(row, "does not match its size and checksum")

    def _broken(self, row: int, what: str) -> DamagedArchive:
        return damaged_entry(self, self.listing.path(row), what)


class _Table:
    """Reads the XML piece by piece, and keeps only what is needed."""

    def __init__(self, allowance: Allowance) -> None:
        self.entries: list[_XarEntry] = []
        self._allowance = allowance
        self._path: list[str] = []
        """The elements that are open, below the file that is."""
        self._open: list[tuple[_XarEntry, list[str]]] = []
        """The files that are open, each with the elements that were open around it."""
        self.end_of_heap = 0
        """Bytes of the heap behind the table: contents, attributes, checksums, signatures."""
        self._stretch: dict[str, int] = {}
        """Of the stretch of the heap that is being told: its offset, and its length or size."""
        self._text = ""
        self._parser = expat.ParserCreate()
        self._parser.buffer_text = True
        self._parser.StartElementHandler = self._begin
        self._parser.EndElementHandler = self._close
        self._parser.CharacterDataHandler = self._add
        self._parser.EntityDeclHandler = self._refuse

    def feed(self, block: bytes) -> None:
        """Parse the next bytes."""
        self._parser.Parse(block, False)

    def end(self) -> None:
        """Raise expat's error if the XML is incomplete."""
        self._parser.Parse(b"", True)

    def _refuse(self, *_: object) -> None:
        raise _Fault("it declares entities")

    def _begin(self, name: str, attributes: dict[str, str]) -> None:
        self._text = ""
        if name == "file":
            if len(self._open) >= _MOST_LEVELS:
                raise _Fault(f"it nests more than {_MOST_LEVELS} directories")
            self._allowance.entries()
            self._allowance.keep(_KEPT)
            entry = _XarEntry(attributes.get("id", "")[:99], self._open[-1][0] if self._open else None, {})
            self.entries.append(entry)
            self._open.append((entry, self._path))
            self._path = []
            return
        self._path.append(name)
        if len(self._path) > _MOST_LEVELS:
            raise _Fault("its elements are nested too deeply")
        if self._open:
            entry, path = self._open[-1][0], "/".join(self._path)
            if path == "data/encoding":
                entry.style = attributes.get("style", "")[:200]
            elif path == "data/extracted-checksum":
                entry.digest = attributes.get("style", "").lower()[:20]
            elif path == "type":
                entry.linked = attributes.get("link", "")[:99]

    def _add(self, text: str) -> None:
        if len(self._text) <= _LONGEST_TEXT:
            self._text += text

    def _close(self, name: str) -> None:
        if name == "file" and not self._path:
            _, self._path = self._open.pop()
            return
        path = "/".join(self._path)
        if name in _STRETCH and (text := self._text.strip()).isdecimal() and len(text) < 20:
            self._stretch[name] = int(text)
        elif name in _HAS_STRETCH:
            length = self._stretch.get("length", self._stretch.get("size", 0))
            self.end_of_heap = max(self.end_of_heap, self._stretch.get("offset", 0) + length)
            self._stretch = {}
        if self._open and path in _WANTED:
            self._allowance.keep(len(self._text))
            self._open[-1][0].texts[path] = self._text[: _LONGEST_TEXT + 1].strip("\r\n\t ")
        self._path.pop()


def _time(entry: _XarEntry) -> int | None:
    try:
        return int(datetime.fromisoformat(entry.texts.get("mtime", "")).timestamp()) * 1_000_000_000
    except (ValueError, OverflowError, OSError):
        return None


def _mode(entry: _XarEntry) -> int:
    try:
        return int(entry.texts.get("mode", "0"), 8)
    except ValueError:
        return 0


def _blocks_of(source: Source, begin: int, size: int) -> Iterator[bytes]:
    part = SliceSource(source, begin, size)
    at = 0
    while block := part.read_at(at, BLOCK):
        yield block
        at += len(block)
