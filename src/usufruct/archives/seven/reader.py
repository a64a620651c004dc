"""7z archives: the headers list the entries and say how each folder is packed."""

import stat
from collections import Counter, deque
from collections.abc import Generator, Iterable, Iterator, Sequence
from contextlib import closing
from functools import partial
from itertools import groupby

from usufruct.archives.allowance import Allowance
from usufruct.archives.damage import checked, damaged, damaged_entry
from usufruct.archives.opened import OpenedFile
from usufruct.archives.reading import BLOCK, Access
from usufruct.archives.seven.ciphers import forget_keys
from usufruct.archives.seven.folders import SevenFault, UnknownMethod
from usufruct.archives.seven.headers import DirectoryLocked, Headers, PackedEntry, read_headers
from usufruct.archives.seven.unpacking import ERRORS, LOCK, method_name, plain_blocks, unknown_method
from usufruct.errors import DamagedArchive, UnreadableArchive
from usufruct.files.sources import Source
from usufruct.model.entries import EntryKind

_UNIX_MODES = 0x8000
"""Attribute bit: the upper half holds a Unix mode."""
_LONGEST_TARGET = 4096
"""Bytes of a link's text: PATH_MAX of Linux."""


class SevenArchive(OpenedFile):
    """An open 7z archive. See `Archive`."""

    is_divisible = False

    format = "7z"

    def __init__(self, path: str, name: str, source: Source, access: Access, allowance: Allowance) -> None:
        super().__init__(path, name, source, access, allowance)
        self._headers = Headers()
        self._places: dict[int, tuple[int, int]] = {}
        """Row → number of the folder that it is packed in, and where it begins in it."""
        with self._closed_on_failure():
            self._read_listing()

    def unlock(self) -> None:
        """See `Archive.unlock`."""
        if not self.facts.locked_entries or self._password is not None:
            return
        self._password = self._access.passwords.first_fitting(self.name, self._opens)

    def refuse_unreadable(self, rows: Iterable[int]) -> None:
        """See `Archive.refuse_unreadable`."""
        for number in sorted({self._places[row][0] for row in rows if row in self._places}):
            if unknown := unknown_method(self._headers.folders[number]):
                raise self._unreadable(unknown)

    def close(self) -> None:
        """Close the file, and clear the keys."""
        super().close()
        forget_keys()

    # --- listing -----------------------------------------------------------------------------------------

    def _read_listing(self) -> None:
        try:
            headers = self._headers = self._read_headers()
        except SevenFault as fault:
            raise damaged(self, fault) from fault
        except UnknownMethod as unknown:
            raise self._unreadable(str(unknown)) from unknown
        self.extent = (0, headers.end)
        begun = [0] * len(headers.folders)
        for entry in headers.entries:
            row = self._enter(entry)
            if entry.folder >= 0:
                if row is not None:
                    self._places[row] = entry.folder, begun[entry.folder]
                begun[entry.folder] += entry.size
        used = Counter(entry.folder for entry in headers.entries if entry.folder >= 0)
        methods: Counter[str] = Counter()
        for number, count in used.items():
            for coder in headers.folders[number].coders:
                methods[method_name(coder.method)] += count
        self.facts.packing = tuple(name for name, _ in methods.most_common() if name != LOCK)
        self.facts.locks = (LOCK,) if methods[LOCK] else ()
        self.facts.locked_entries = methods[LOCK]
        self.facts.is_solid = any(folder.streams > 1 for folder in headers.folders)
        self._read_targets(headers)

    def _read_headers(self) -> Headers:
        try:
            return read_headers(self._source, None, self.allowance)
        except DirectoryLocked:
            self.facts.hides_names = True
        found: dict[str, Headers] = {}
        self._password = self._access.passwords.first_fitting(
            self.name, lambda password: self._opens_header(password, found)
        )
        return found[self._password]

    def _enter(self, entry: PackedEntry) -> int | None:
        """Return the row of an entry; None if it is refused."""
        mode = entry.attributes >> 16 if entry.attributes & _UNIX_MODES else 0
        is_directory = entry.is_directory or bool(entry.attributes & stat.FILE_ATTRIBUTE_DIRECTORY)
        leads_on = bool(entry.attributes & stat.FILE_ATTRIBUTE_REPARSE_POINT) and not mode
        kind = EntryKind.DIRECTORY if is_directory else EntryKind.FILE
        if entry.is_removal:
            self._rows.refuse(entry.name, "it would remove a file")
            return None
        if stat.S_ISLNK(mode) or (leads_on and not is_directory):
            kind = EntryKind.LINK
        elif leads_on or stat.S_IFMT(mode) not in (0, stat.S_IFREG, stat.S_IFDIR):
            self._rows.refuse(entry.name, "it is a junction, device, pipe or socket")
            return None
        can_run = bool(mode & 0o111) and not kind
        return self._rows.enter(entry.name, kind, entry.size, entry.modified, entry.checksum, can_run=can_run)

    def _read_targets(self, headers: Headers) -> None:
        """Read the targets of links, which are their content, once its methods and lock are known."""
        links = [row for row, kind in enumerate(self.listing.kinds) if kind == EntryKind.LINK]
        for row in links:
            if self.listing.sizes[row] > _LONGEST_TARGET:
                size = self.listing.sizes[row]
                raise damaged(self, f"the link {self.listing.path(row)} has a target of {size:,} bytes")
        if links:
            # Everything before a link in its folder is unpacked with it.
            self.allowance.read(sum(folder.size for folder in headers.folders))
        for row, blocks in self.stream(links):
            target = b"".join(blocks).decode("utf-8", "replace")
            self.allowance.keep(len(target))
            self.listing.targets[row] = target
            self.listing.sizes[row] = 0

    # --- content -----------------------------------------------------------------------------------------

    def stream(self, rows: Sequence[int]) -> Iterator[tuple[int, Iterator[bytes]]]:
        """See `Archive.stream`; in the archive's order, empty files first."""
        empty = [row for row in rows if not self.listing.sizes[row] and self.listing.kinds[row] == EntryKind.FILE]
        for row in empty:
            yield row, iter(())
        rows = sorted(set(rows).difference(empty))
        if not rows:
            return
        self.unlock()
        yield from self._stream(rows, self._password)

    def _stream(self, rows: Sequence[int], password: str | None) -> Generator[tuple[int, Iterator[bytes]], None, None]:
        """Yield the content of files that are not empty, folder by folder."""
        places = sorted((*self._places[row], row) for row in rows)
        for number, inside in groupby(places, key=lambda place: place[0]):
            with closing(plain_blocks(self._source, self._headers.folders[number], password)) as blocks:
                folder = _FolderReader(blocks)
                for _, begin, row in inside:
                    content = self._content(folder, row, begin)
                    size, checksum = self.listing.sizes[row], self.listing.checksum(row)
                    yield row, checked(content, size, checksum, partial(self._broken, row))

    def _content(self, folder: "_FolderReader", row: int, begin: int) -> Iterator[bytes]:
        try:
            for _ in folder.take(begin - folder.at):
                pass
            yield from folder.take(self.listing.sizes[row])
        except UnknownMethod as unknown:
            raise self._unreadable(str(unknown)) from unknown
        except ERRORS as error:
            raise self._broken(row, f"cannot be unpacked: {error or 'it breaks off'}") from error

    # --- passwords ---------------------------------------------------------------------------------------

    def _opens_header(self, password: str, found: dict[str, Headers]) -> bool:
        try:
            found[password] = read_headers(self._source, password, self.allowance)
        except SevenFault:
            return False  # a wrong key produces garbage
        return True

    def _opens(self, password: str) -> bool:
        """Whether a password unpacks the first block of the quickest entry; its checksum decides if it is whole."""
        sizes, locked = self.listing.sizes, set()
        for number, folder in enumerate(self._headers.folders):
            if any(method_name(coder.method) == LOCK for coder in folder.coders):
                locked.add(number)
        rows = [row for row, (folder, _) in self._places.items() if folder in locked and sizes[row]]
        row = min(rows, key=lambda row: self._places[row][1] + sizes[row], default=None)
        if row is None:
            return True
        try:
            with closing(self._stream([row], password)) as stream:
                _, blocks = next(stream)
                if next(blocks, None) is not None and sizes[row] <= BLOCK:
                    deque(blocks, maxlen=0)
        except DamagedArchive:
            return False
        return True

    # --- errors ------------------------------------------------------------------------------------------

    def _unreadable(self, method: str) -> UnreadableArchive:
        return UnreadableArchive(
            f"{self.name} is packed with {method}, which cannot be read.",
            remedy="Ask its maker for a zip, or for a 7z with another method.",
            path=self.path,
        )

    def _broken(self, row: int, what: str) -> DamagedArchive:
        return damaged_entry(self, self.listing.path(row), what)


class _FolderReader:
    """A stream of blocks that is read piece by piece."""

    def __init__(self, blocks: Iterator[bytes]) -> None:
        self.at = 0
        """Bytes that were taken."""
        self._blocks = blocks
        self._rest = b""

    def take(self, count: int) -> Iterator[bytes]:
        """Yield the next bytes in blocks; fewer if the stream ends."""
        while count > 0:
            block = self._rest or next(self._blocks, b"")
            while not block:
                if (more := next(self._blocks, None)) is None:
                    return
                block = more
            piece, self._rest = block[:count], block[count:]
            count -= len(piece)
            self.at += len(piece)
            yield piece
