"""The headers of 7z, also packed and locked ones: entries, positions and methods.

The layout is in 7zFormat.txt of the public domain LZMA SDK.

Our own parser, because the common library makes an object of each entry before anything can be counted.
"""

import struct
import zlib
from collections.abc import Iterator
from itertools import accumulate, islice

from msgspec import Struct, field

from usufruct.archives.allowance import Allowance
from usufruct.archives.seven.folders import LOCK, Coder, CoderChain, SevenFault
from usufruct.archives.seven.unpacking import ERRORS, plain_blocks
from usufruct.archives.times import of_windows
from usufruct.files.sources import Source

_START = struct.Struct("<6s2BL2QL")
"""7zFormat.txt, SignatureHeader: mark, version, checksum; offset, size and checksum of the headers."""
(_END, _HEADER, _PROPERTIES, _MORE_STREAMS, _STREAMS, _FILES, _PACKED, _FOLDERS, _SUBSTREAMS, _SIZES, _DIGESTS,
 _FOLDER, _UNPACKED, _COUNTS, _EMPTY, _EMPTY_FILE, _ANTI, _NAMES) = range(18)  # fmt: skip
_TIMES, _ATTRIBUTES, _ENCODED = 0x14, 0x15, 0x17
"""More of the same list."""
_MOST_CODERS = 32
"""Of one folder; the format's own tools write at most a few."""


class DirectoryLocked(Exception):
    """The header is locked, and no password was given."""


class PackedEntry(Struct):
    """One entry, as the header describes it."""

    name: str
    size: int = 0
    checksum: int | None = None
    folder: int = -1
    """Number of the folder that holds its content; -1 where it has none."""
    is_directory: bool = False
    is_removal: bool = False
    """It says that a file of this name shall be removed."""
    modified: int | None = None
    """Nanoseconds since 1970."""
    attributes: int = 0


class Headers(Struct):
    """The content of the headers."""

    folders: list[CoderChain] = field(default_factory=list)
    entries: list[PackedEntry] = field(default_factory=list)
    hides_names: bool = False
    end: int = _START.size
    """Where the file's last header ends."""


class _Bytes:
    """Reads a header's bytes field by field."""

    def __init__(self, data: bytes) -> None:
        self.data = data
        self.at = 0

    def take(self, count: int) -> bytes:
        taken = self.data[self.at : self.at + count]
        if count < 0 or len(taken) != count:
            raise SevenFault("its header is incomplete")
        self.at += count
        return taken

    def byte(self) -> int:
        return self.take(1)[0]

    def number(self) -> int:
        """Return a number of one to nine bytes: the first byte's leading ones say how many follow."""
        first = self.byte()
        mask, value, shift = 0x80, 0, 0
        while mask and first & mask:
            value |= self.byte() << shift
            shift += 8
            mask >>= 1
        return value | (first & (mask - 1)) << shift if mask else value

    def count(self) -> int:
        """Return a count of things that take at least a byte each: more than there are bytes is an error."""
        count = self.number()
        if count > len(self.data) - self.at:
            raise SevenFault(f"its header states {count:,} parts and is too short for them")
        return count

    def bits(self, count: int) -> Iterator[bool]:
        """Return so many bits, the highest of each byte first."""
        data = self.take(-(-count // 8))
        return (bool(data[number >> 3] & 0x80 >> (number & 7)) for number in range(count))

    def bits_or_all(self, count: int) -> list[bool]:
        return [True] * count if self.byte() else list(self.bits(count))

    def checksums(self, count: int) -> list[int | None]:
        defined = self.bits_or_all(count)
        return [int.from_bytes(self.take(4), "little") if is_there else None for is_there in defined]

    def expect(self, kind: int, what: str) -> None:
        if self.number() != kind:
            raise SevenFault(f"its header has no {what} where one must be")


def read_headers(source: Source, password: str | None, allowance: Allowance) -> Headers:
    """Return the headers, unpacked and deciphered; demands are counted before anything is kept.

    Raises SevenFault (also for a wrong password), HeaderLocked, UnknownMethod, UnsafeArchive.
    """
    start = source.read_at(0, _START.size)
    if len(start) < _START.size:
        raise SevenFault("it breaks off")
    _, _, _, checksum, offset, size, _ = _START.unpack(start)
    if zlib.crc32(start[12:]) != checksum:
        raise SevenFault("its first bytes do not match their checksum")
    headers = Headers()
    if not size:
        return headers
    headers.end = _START.size + offset + size
    data = _header_at(source, _START.size + offset, size, int.from_bytes(start[28:], "little"), allowance)
    for _ in range(4):
        reader = _Bytes(data)
        kind = reader.number()
        if kind == _HEADER:
            _read_header(reader, headers, allowance)
            return headers
        if kind != _ENCODED:
            raise SevenFault("its header is of no known kind")
        data = _decoded(source, reader, headers, password, allowance)
    raise SevenFault("its header is packed over and over")


def _header_at(source: Source, offset: int, size: int, checksum: int | None, allowance: Allowance) -> bytes:
    if offset + size > source.size:
        raise SevenFault("it breaks off before its header")
    allowance.keep(size)
    data = source.read_at(offset, size)
    if checksum is not None and zlib.crc32(data) != checksum:
        raise SevenFault("its header does not match its checksum")
    return data


def _decoded(source: Source, reader: _Bytes, headers: Headers, password: str | None, allowance: Allowance) -> bytes:
    """Return the header that is packed as the only folder of these streams."""
    folders = _read_streams(reader, allowance)
    if len(folders) != 1:
        raise SevenFault("its header is packed in a way that makes no sense")
    folder = folders[0]
    allowance.keep(folder.size)
    if any(coder.method == LOCK for coder in folder.coders):
        headers.hides_names = True
        if password is None:
            raise DirectoryLocked
    try:
        data = b"".join(plain_blocks(source, folder, password))
    except ERRORS as error:
        raise SevenFault(f"its header cannot be unpacked: {error}") from error
    if len(data) != folder.size or (folder.checksum is not None and zlib.crc32(data) != folder.checksum):
        raise SevenFault("its header does not match its checksum")
    return data


def _read_header(reader: _Bytes, headers: Headers, allowance: Allowance) -> None:
    sizes: list[int] = []
    checksums: list[int | None] = []
    while (kind := reader.number()) != _END:
        if kind == _PROPERTIES:
            while reader.number() != _END:
                reader.take(reader.number())
        elif kind == _MORE_STREAMS:
            _read_streams(reader, allowance)
        elif kind == _STREAMS:
            headers.folders = _read_streams(reader, allowance, sizes, checksums)
        elif kind == _FILES:
            _read_files(reader, headers, sizes, checksums, allowance)
        else:
            raise SevenFault("its header holds a part of no known kind")


def _read_streams(
    reader: _Bytes,
    allowance: Allowance,
    sizes: list[int] | None = None,
    checksums: list[int | None] | None = None,
) -> list[CoderChain]:
    """Return the folders, each with its packed streams.

    Size and checksum of each file in the folders go into `sizes` and `checksums`, in order.
    """
    position = 0
    packed: list[int] = []
    folders: list[CoderChain] = []
    is_listed = False
    while (kind := reader.number()) != _END:
        if kind == _PACKED:
            position = reader.number()
            count = reader.count()
            allowance.fields(count)
            while (part := reader.number()) != _END:
                if part == _SIZES:
                    packed = [reader.number() for _ in range(count)]
                elif part == _DIGESTS:
                    reader.checksums(count)
                else:
                    raise SevenFault("its packed streams are described in an unknown way")
        elif kind == _FOLDERS:
            folders = _read_folders(reader, allowance)
        elif kind == _SUBSTREAMS:
            is_listed = True
            _read_substreams(reader, folders, [] if sizes is None else sizes, [] if checksums is None else checksums,
                             allowance)  # fmt: skip
        else:
            raise SevenFault("its streams are described in an unknown way")
    if not is_listed and sizes is not None and checksums is not None:
        sizes.extend(folder.size for folder in folders)
        checksums.extend(folder.checksum for folder in folders)
    begin = _START.size + position
    places = iter([(begin + before, size) for before, size in zip(accumulate(packed, initial=0), packed, strict=False)])
    for folder in folders:
        folder.packed = list(islice(places, len(folder.takers)))
    return folders


def _read_folders(reader: _Bytes, allowance: Allowance) -> list[CoderChain]:
    reader.expect(_FOLDER, "folders")
    count = reader.count()
    if reader.byte():
        raise SevenFault("its folders are described elsewhere")
    allowance.fields(count)
    folders = [_folder(reader) for _ in range(count)]
    reader.expect(_UNPACKED, "sizes of folders")
    for folder in folders:
        folder.sizes = [reader.number() for coder in folder.coders for _ in range(coder.outputs)]
        # A stated length beyond the content takes no memory.
        allowance.dictionary(min(max(coder.dictionary for coder in folder.coders), max(folder.sizes, default=0)))
    while (kind := reader.number()) != _END:
        if kind != _DIGESTS:
            raise SevenFault("its folders are described in an unknown way")
        for folder, checksum in zip(folders, reader.checksums(count), strict=True):
            folder.checksum = checksum
    return folders


def _folder(reader: _Bytes) -> CoderChain:
    coders = []
    count = reader.number()
    if not 1 <= count <= _MOST_CODERS:
        raise SevenFault(f"a folder is packed by {count:,} methods")
    for _ in range(count):
        flags = reader.byte()
        if flags & 0xC0:
            raise SevenFault("a folder is packed in an unknown way")
        method = reader.take(flags & 15)
        inputs, outputs = (reader.number(), reader.number()) if flags & 0x10 else (1, 1)
        if inputs > _MOST_CODERS or outputs > _MOST_CODERS:
            raise SevenFault("a method has more streams than is sane")
        coders.append(Coder(method, reader.take(reader.number()) if flags & 0x20 else b"", inputs, outputs))
    inputs, outputs = sum(coder.inputs for coder in coders), sum(coder.outputs for coder in coders)
    if not outputs:
        raise SevenFault("a folder gives nothing")
    binds = [(reader.number(), reader.number()) for _ in range(outputs - 1)]
    packed = inputs - len(binds)
    if packed < 1:
        raise SevenFault("a folder takes nothing")
    bound = {taker for taker, _ in binds}
    unbound = [number for number in range(inputs) if number not in bound]
    return CoderChain(coders, binds, [reader.number() for _ in range(packed)] if packed > 1 else unbound)


def _read_substreams(
    reader: _Bytes, folders: list[CoderChain], sizes: list[int], checksums: list[int | None], allowance: Allowance
) -> None:
    kind = reader.number()
    if kind == _COUNTS:
        for folder in folders:
            folder.streams = reader.number()
        kind = reader.number()
    total = sum(folder.streams for folder in folders)
    allowance.may_enter(total)
    is_sized = kind == _SIZES
    for folder in folders:
        left = folder.size
        for number in range(folder.streams):
            is_last = number == folder.streams - 1
            if not is_last and not is_sized:
                raise SevenFault("the sizes of its files are not stated")
            size = left if is_last else reader.number()
            if size > left:
                raise SevenFault("its files are larger than the folder that holds them")
            sizes.append(size)
            left -= size
    if is_sized:
        kind = reader.number()
    unsaid = sum(folder.streams for folder in folders if folder.streams != 1 or folder.checksum is None)
    stated: Iterator[int | None] = iter([None] * unsaid)
    while kind != _END:
        if kind != _DIGESTS:
            raise SevenFault("its files are described in an unknown way")
        stated = iter(reader.checksums(unsaid))
        kind = reader.number()
    for folder in folders:
        if folder.streams == 1 and folder.checksum is not None:
            checksums.append(folder.checksum)
        else:
            checksums.extend(next(stated) for _ in range(folder.streams))


def _read_files(
    reader: _Bytes, headers: Headers, sizes: list[int], checksums: list[int | None], allowance: Allowance
) -> None:
    count = reader.number()
    allowance.may_enter(count)
    entries = headers.entries = [PackedEntry("") for _ in range(count)]
    empty = [False] * count
    hollow: list[PackedEntry] = []
    while (kind := reader.number()) != _END:
        part = _Bytes(reader.take(reader.number()))
        if kind == _EMPTY:
            empty = list(part.bits(count))
            hollow = [entry for entry, is_empty in zip(entries, empty, strict=True) if is_empty]
            for entry in hollow:
                entry.is_directory = True
        elif kind == _EMPTY_FILE:
            for entry, is_file in zip(hollow, part.bits(len(hollow)), strict=True):
                entry.is_directory = not is_file
        elif kind == _ANTI:
            for entry, is_removal in zip(hollow, part.bits(len(hollow)), strict=True):
                entry.is_removal = is_removal
        elif kind == _NAMES:
            _read_names(part, entries)
        elif kind == _TIMES:
            for entry, value in _values(part, entries, 8):
                entry.modified = of_windows(value)
        elif kind == _ATTRIBUTES:
            for entry, value in _values(part, entries, 4):
                entry.attributes = value
    _spread(headers, empty, sizes, checksums)


def _read_names(part: _Bytes, entries: list[PackedEntry]) -> None:
    if part.byte():
        raise SevenFault("its names stand elsewhere")
    data = part.data[part.at :]
    text = data.decode("utf-16-le", "replace")
    names = text.split("\0")
    if len(names) <= len(entries) or len(data) % 2:
        raise SevenFault(f"its header states {len(entries):,} entries and names {len(names) - 1:,}")
    for entry, name in zip(entries, names, strict=False):
        entry.name = name


def _values(part: _Bytes, entries: list[PackedEntry], size: int) -> Iterator[tuple[PackedEntry, int]]:
    """Yield each entry that has a value, with its number of `size` bytes."""
    defined = part.bits_or_all(len(entries))
    if part.byte():
        raise SevenFault("its times and attributes stand elsewhere")
    for entry, is_there in zip(entries, defined, strict=True):
        if is_there:
            yield entry, int.from_bytes(part.take(size), "little")


def _spread(headers: Headers, empty: list[bool], sizes: list[int], checksums: list[int | None]) -> None:
    """Give each entry with content its size, checksum and folder, in order."""
    homes = (number for number, folder in enumerate(headers.folders) for _ in range(folder.streams))
    contents = zip(sizes, checksums, homes, strict=True)
    for entry, is_empty in zip(headers.entries, empty, strict=True):
        if not is_empty:
            found = next(contents, None)
            if found is None:
                raise SevenFault("its header states more files than there is content for")
            entry.size, entry.checksum, entry.folder = found
