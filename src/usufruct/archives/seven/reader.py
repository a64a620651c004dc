"""7z archives: our own headers; locked content by the common Python library, plain content by libarchive if there."""

import stat
import zlib
from collections import Counter, deque
from collections.abc import Generator, Iterator, Sequence
from contextlib import closing
from functools import partial
from typing import IO, Any

from usufruct.archives.allowance import Allowance
from usufruct.archives.opened import OpenedFile
from usufruct.archives.reading import BLOCK, Access
from usufruct.archives.seven.headers import (
    DirectoryLocked,
    Headers,
    PackedEntry,
    SevenFault,
    UnknownMethod,
    read_headers,
)
from usufruct.archives.system_library import LibraryFault, LibraryReader
from usufruct.errors import ArchiveError, DamagedArchive, PasswordNeeded, UnreadableArchive
from usufruct.files.ahead import END, HandOver, Pump
from usufruct.files.sources import Source, as_file
from usufruct.model.entries import EntryKind

_METHODS = {
    b"\x00": "stored",
    b"\x03": "delta",
    b"\x21": "lzma2",
    b"\x03\x01\x01": "lzma",
    b"\x03\x03\x01\x03": "bcj x86",
    b"\x03\x03\x01\x1b": "bcj2",
    b"\x03\x03\x02\x05": "bcj ppc",
    b"\x03\x03\x04\x01": "bcj ia64",
    b"\x03\x03\x05\x01": "bcj arm",
    b"\x03\x03\x07\x01": "bcj armt",
    b"\x03\x03\x08\x05": "bcj sparc",
    b"\x03\x04\x01": "ppmd",
    b"\x04\x01\x08": "deflate",
    b"\x04\x01\x09": "deflate64",
    b"\x04\x02\x02": "bzip2",
    b"\x04\xf7\x11\x01": "zstd",
    b"\x04\xf7\x11\x02": "brotli",
    b"\x06\xf1\x07\x01": "AES-256",
}
"""Numbers of methods, as Methods.txt of the LZMA SDK has them."""
_BY_LIBRARY = frozenset({"stored", "delta", "lzma2", "lzma", "bcj x86", "bcj2", "ppmd", "deflate", "bzip2"})
"""Methods that every libarchive of the last years reads."""
_LOCK = "AES-256"
_UNIX_MODES = 0x8000
"""Attribute bit: the upper half holds a Unix mode."""
_LONGEST_TARGET = 4096
"""Bytes of a link's text: PATH_MAX of Linux."""
_BLOCKS_AHEAD = 8
"""Blocks that the library gives before they are taken, at most."""


class SevenArchive(OpenedFile):
    """A 7z file, opened. See `Archive`."""

    is_divisible = False

    format = "7z"

    def __init__(self, path: str, name: str, source: Source, access: Access, allowance: Allowance) -> None:
        super().__init__(path, name, source, access, allowance)
        self._names: dict[int, str] = {}
        """Row → name as the archive has it."""
        with self._closed_on_failure():
            self._read_listing()

    def unlock(self) -> None:
        """See `Archive.unlock`."""
        if not self.facts.locked_entries or self._password is not None:
            return
        self._password = self._access.passwords.first_fitting(self.name, self._opens)

    # --- listing -----------------------------------------------------------------------------------------

    def _open(self, file: IO[bytes], password: str | None) -> Any:
        # Only where a 7z is met: the library takes longer to import than a small archive to place.
        import py7zr

        return py7zr.SevenZipFile(file, password=password)

    def _read_listing(self) -> None:
        try:
            headers = self._read_headers()
        except SevenFault as fault:
            raise self._damaged(fault) from fault
        except UnknownMethod as unknown:
            raise self._unreadable(str(unknown)) from unknown
        for entry in headers.entries:
            self._enter(entry)
        used = Counter(entry.folder for entry in headers.entries if entry.folder >= 0)
        methods: Counter[str] = Counter()
        for number, count in used.items():
            for coder in headers.folders[number].coders:
                methods[_METHODS.get(coder.method, f"method {coder.method.hex()}")] += count
        self.facts.packing = tuple(name for name, _ in methods.most_common() if name != _LOCK)
        self.facts.locks = (_LOCK,) if methods[_LOCK] else ()
        self.facts.locked_entries = methods[_LOCK]
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

    def _enter(self, entry: PackedEntry) -> None:
        mode = entry.attributes >> 16 if entry.attributes & _UNIX_MODES else 0
        is_directory = entry.is_directory or bool(entry.attributes & stat.FILE_ATTRIBUTE_DIRECTORY)
        leads_on = bool(entry.attributes & stat.FILE_ATTRIBUTE_REPARSE_POINT) and not mode
        kind = EntryKind.DIRECTORY if is_directory else EntryKind.FILE
        if entry.is_removal:
            self._rows.refuse(entry.name, "it would remove a file")
            return
        if stat.S_ISLNK(mode) or (leads_on and not is_directory):
            kind = EntryKind.LINK
        elif leads_on or stat.S_IFMT(mode) not in (0, stat.S_IFREG, stat.S_IFDIR):
            self._rows.refuse(entry.name, "it is a junction, device, pipe or socket")
            return
        can_run = bool(mode & 0o111) and not kind
        row = self._rows.enter(entry.name, kind, entry.size, entry.modified, entry.checksum, can_run=can_run)
        if row is not None and kind is not EntryKind.DIRECTORY:
            self._names[row] = entry.name

    def _read_targets(self, headers: Headers) -> None:
        """Where links point is their content: read once it is known how that is packed and locked."""
        links = [row for row, kind in enumerate(self.listing.kinds) if kind == EntryKind.LINK]
        for row in links:
            if self.listing.sizes[row] > _LONGEST_TARGET:
                size = self.listing.sizes[row]
                raise self._damaged(f"the link {self.listing.path(row)} has a target of {size:,} bytes")
        if links:
            # All that lies before a link in its folder is unpacked with it.
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
        if not self.facts.locks and _BY_LIBRARY.issuperset(self.facts.packing) and _has_library():
            yield from self._stream_by_library(rows)
        else:
            yield from self._stream_by_python(rows, self._password)

    def _stream_by_library(self, rows: Sequence[int]) -> Iterator[tuple[int, Iterator[bytes]]]:
        waiting = self._by_name(rows)
        left = len(rows)
        try:
            with LibraryReader(self._source, ("7zip",)) as reader:
                for entry in reader.entries():
                    name = entry.name if entry.name is not None else entry.raw.decode("utf-8", "replace")
                    found = waiting.get(name)
                    if found and entry.size:
                        yield found[0], self._checked(found[0], self._library_blocks(reader, found[0]))
                        found.popleft()
                        left -= 1
                        if not left:
                            return
        except LibraryFault as fault:
            raise self._damaged(fault) from fault
        # Names that the two libraries read differently are left to the one that listed them.
        yield from self._stream_by_python([row for rest in waiting.values() for row in rest], None)

    def _by_name(self, rows: Sequence[int]) -> dict[str, deque[int]]:
        waiting: dict[str, deque[int]] = {}
        for row in rows:
            waiting.setdefault(self._names[row], deque()).append(row)
        return waiting

    def _library_blocks(self, reader: LibraryReader, row: int) -> Iterator[bytes]:
        try:
            yield from reader.blocks(BLOCK)
        except LibraryFault as fault:
            raise self._broken(row, f"cannot be unpacked: {fault}") from fault

    def _stream_by_python(
        self, rows: Sequence[int], password: str | None
    ) -> Generator[tuple[int, Iterator[bytes]], None, None]:
        """The library pushes content; a thread of its own lets the reader pull it, a few blocks ahead."""
        waiting = self._by_name(rows)
        with Pump([partial(self._push, sorted(waiting), password)], _BLOCKS_AHEAD) as pump:
            try:
                while (name := pump.take()) is not END:
                    row = waiting[name].popleft()
                    yield row, self._checked(row, self._pulled(row, pump))
            except ArchiveError:
                raise
            except Exception as error:
                self._raise_unreadable(error)
                raise self._damaged(error) from error

    def _push(self, names: list[str], password: str | None, hand_over: HandOver) -> None:
        """Hand over, of each of these files, its name, its blocks, and what stands behind the last."""
        from py7zr.io import Py7zIO, WriterFactory

        class Pipe(Py7zIO):
            """Takes what the library writes of one file."""

            def __init__(self, name: str) -> None:
                self._size = 0
                hand_over(name)

            def write(self, s: bytes | bytearray) -> int:
                for at in range(0, len(s), BLOCK):
                    hand_over(bytes(s[at : at + BLOCK]))
                self._size += len(s)
                return len(s)

            def read(self, size: int | None = None) -> bytes:
                return b""

            def seek(self, offset: int, whence: int = 0) -> int:
                return 0

            def flush(self) -> None:
                return None

            def size(self) -> int:
                return self._size

            def close(self) -> None:
                hand_over(_LAST)

        class Pipes(WriterFactory):
            def create(self, filename: str) -> Py7zIO:
                return Pipe(filename)

        with as_file(self._source) as file:
            self._open(file, password).extract(targets=names, factory=Pipes())

    def _pulled(self, row: int, pump: Pump) -> Iterator[bytes]:
        """The blocks of one file."""
        while True:
            try:
                found = pump.take()
            except Exception as error:
                # What the library raises for garbage, as a wrong password makes it, may be of any kind.
                self._raise_unreadable(error)
                raise self._broken(row, f"cannot be unpacked: {error}") from error
            if found is _LAST or found is END:
                return
            yield found

    def _checked(self, row: int, blocks: Iterator[bytes]) -> Iterator[bytes]:
        size, stated = self.listing.sizes[row], self.listing.checksum(row)
        total = checksum = 0
        for block in blocks:
            total += len(block)
            checksum = zlib.crc32(block, checksum)
            yield block
        is_link = self.listing.kinds[row] == EntryKind.LINK
        if (total != size and not is_link) or (stated is not None and checksum != stated):
            raise self._broken(row, "does not match its size and checksum")

    # --- passwords ---------------------------------------------------------------------------------------

    def _opens_header(self, password: str, found: dict[str, Headers]) -> bool:
        try:
            found[password] = read_headers(self._source, password, self.allowance)
        except SevenFault:
            return False  # a wrong key makes any garbage of the header
        return True

    def _opens(self, password: str) -> bool:
        """Whether the first block of the smallest entry comes out; whole, its checksum proves it."""
        sizes = self.listing.sizes
        row = min((row for row in self._names if sizes[row]), key=lambda row: sizes[row], default=None)
        if row is None:
            return True
        try:
            with closing(self._stream_by_python([row], password)) as stream:
                _, blocks = next(stream, (row, iter(())))
                if next(blocks, None) is not None and sizes[row] <= BLOCK:
                    deque(blocks, maxlen=0)
        except DamagedArchive:
            return False
        return True

    # --- errors ------------------------------------------------------------------------------------------

    def _raise_unreadable(self, error: BaseException) -> None:
        import py7zr

        if isinstance(error, py7zr.UnsupportedCompressionMethodError):
            raise self._unreadable(" and ".join(self.facts.packing) or "a method") from error
        if isinstance(error, py7zr.PasswordRequired):
            raise PasswordNeeded(
                f"{self.name} is locked with a password.", remedy="Name a file that holds it with --password-file."
            ) from error

    def _unreadable(self, method: str) -> UnreadableArchive:
        return UnreadableArchive(
            f"{self.name} is packed with {method}, which cannot be read.",
            remedy="Ask its maker for one packed with LZMA2.",
            path=self.path,
        )

    def _damaged(self, what: object) -> DamagedArchive:
        return DamagedArchive(
            f"{self.name} is a 7z, but is damaged or incomplete: {what or 'it breaks off'}.",
            remedy="Download it again.",
            path=self.path,
        )

    def _broken(self, row: int, what: str) -> DamagedArchive:
        return DamagedArchive(
            f"{self.listing.path(row)} in {self.name} {what}.",
            remedy="The archive is damaged: download it again.",
            path=self.path,
        )


_LAST = object()
"""Stands behind the last block of a file."""


def _has_library() -> bool:
    from usufruct.archives.system_library import library_version

    return library_version() is not None
