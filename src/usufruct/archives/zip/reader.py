"""Zip archives, read by their central directory.

The layout is that of the published application note of the format ("APPNOTE", chapter 4).
"""

import stat
import struct
from array import array
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from functools import partial
from itertools import compress
from typing import Any

from usufruct.archives.allowance import Allowance
from usufruct.archives.damage import checked, damaged, damaged_entry
from usufruct.archives.names import decoded, encoding_for
from usufruct.archives.opened import OpenedFile
from usufruct.archives.reading import BLOCK, WHOLE, Access
from usufruct.archives.streams import decompress
from usufruct.archives.streams.zlib_engine import crc32
from usufruct.archives.times import of_dos, of_windows
from usufruct.archives.zip.ciphers import CLASSIC_HEAD, AesCipher, classic_fits, unlock_classic
from usufruct.archives.zip.extents import Extents, is_known
from usufruct.errors import DamagedArchive, IncompleteArchive, UnreadableArchive, UnsafeArchive
from usufruct.files.sources import JoinedSource, Source
from usufruct.model.entries import TOP, EntryKind

_LOCAL = struct.Struct("<4s5H3L2H")
"""APPNOTE 4.3.7."""
_CENTRAL = struct.Struct("<4s4B4H3L5H2L")
"""APPNOTE 4.3.12."""
_END = struct.Struct("<4s4H2LH")
"""APPNOTE 4.3.16."""
_END64 = struct.Struct("<4sQ2H2L4Q")
"""APPNOTE 4.3.14."""
_END64_PLACE = struct.Struct("<4sLQL")
"""APPNOTE 4.3.15."""
_LOCAL_MARK, _CENTRAL_MARK, _END_MARK = b"PK\x03\x04", b"PK\x01\x02", b"PK\x05\x06"
"""What each begins with."""
_LATEST = 1 << 62
"""A time, in nanoseconds since 1970, that needs no judging."""
_MOMENT, _OWNER = b"UT\x05\0", b"ux\x0b\0\x01\x04"
_MOMENT_OF_WINDOWS = b"\x0a\0\x20\0\0\0\0\0\x01\0\x18\0"
"""APPNOTE 4.5.5: the extra field of NTFS up to its first time."""
_END64_MARK, _END64_PLACE_MARK = b"PK\x06\x06", b"PK\x06\x07"
"""What both begin with."""
_LONGEST_COMMENT = 0xFFFF
"""Bytes: its length is stated in two."""
_LONGEST_TARGET = 4096
"""Bytes of a link's text: PATH_MAX of Linux."""
_HEAD = 320
"""Bytes that an entry's own header takes at most, nearly always: itself, its name, its extra field."""

_METHODS: dict[int, tuple[str, decompress.Decompressor | None]] = {
    0: ("stored", decompress.stored),
    1: ("shrink", None),
    6: ("implode", None),
    8: ("deflate", decompress.inflate),
    9: ("deflate64", decompress.inflate64),
    12: ("bzip2", decompress.bunzip2),
    14: ("lzma", decompress.unlzma),
    93: ("zstd", decompress.unzstd),
    95: ("xz", decompress.unxz),
    96: ("jpeg", None),
    97: ("wavpack", None),
    98: ("ppmd", decompress.unppmd),
}
"""APPNOTE 4.4.5: each with what undoes it, or None."""
_DEFLATE = 8
"""The method nearly all have."""
_Central = tuple[Any, ...]
"""The fixed fields of a central entry, in the order of `_CENTRAL`."""
_FAULTS: tuple[type[Exception], ...] = (DamagedArchive, *decompress.PACKING_ERRORS)
_ENCRYPTED, _DESCRIPTOR, _STRONG, _UTF8 = 0x1, 0x8, 0x40, 0x800
"""APPNOTE 4.4.4: bits of the flags."""
_UNIX = 3
"""APPNOTE 4.4.2: the system that attributes are of."""
_ODD = 0o070111
"""Bits of a Unix mode that tell of anything but a plain file that cannot run."""
_NO_NAMES = frozenset({"", ".", ".."})
_LONG_NAME = 1024
"""Bytes from which on a name is looked at by itself."""
_MANY = 1024
"""Files that are entered at once."""


class ZipArchive(OpenedFile):
    """An open zip. See `Archive`."""

    is_divisible = True

    format = "zip"

    def __init__(self, path: str, name: str, source: Source, access: Access, allowance: Allowance) -> None:
        super().__init__(path, name, source, access, allowance)
        self._part_starts = source.starts if isinstance(source, JoinedSource) else [0]
        self._extents = Extents()
        self._refused = Extents()
        """Those of the entries that the listing does not hold."""
        self._methods = array("H")
        self._checks = array("H")
        """Clock of each entry: what the classic cipher is checked against where a descriptor follows."""
        self._locks: dict[int, AesCipher] = {}
        self._times: dict[int, int | None] = {}
        self._encoding = ""
        with self._closed_on_failure():
            try:
                self._account_for_bytes(*self._read_directory())
            except (struct.error, IndexError) as error:
                raise damaged(self, "its central directory is incomplete") from error
        self._tell_facts()

    def unlock(self) -> None:
        """See `Archive.unlock`."""
        locked = self._locked_rows()
        if not locked or self._password is not None:
            return
        if any(self._extents.flags[row] & _STRONG for row in locked):
            raise UnreadableArchive(
                f"{self.name} is locked with a cipher of one vendor (strong encryption), which cannot be read.",
                remedy="Unpack it with the program that made it.",
                path=self.path,
            )
        # The smallest locked entry proves a password by its checksum; check values alone are short.
        row = min(locked, key=lambda row: (not self.listing.sizes[row], self._extents.packed[row]))
        self._password = self._access.passwords.first_fitting(self.name, lambda word: self._opens(row, word))

    def _locked_rows(self) -> list[int]:
        if not any(flags & _ENCRYPTED for flags in set(self._extents.flags)):
            return []
        return [row for row, flags in enumerate(self._extents.flags) if flags & _ENCRYPTED]

    def stream(self, rows: Sequence[int]) -> Iterator[tuple[int, Iterator[bytes]]]:
        """See `Archive.stream`; in the order of the entries in the file."""
        for row in sorted(rows, key=self._extents.offsets.__getitem__):
            block = self._whole(row)
            yield row, self._content(row) if block is None else iter((block,))

    # --- the directory -----------------------------------------------------------------------------------

    def _read_directory(self) -> tuple[int, int]:
        """Enter the entries of the central directory; returns where it starts and ends."""
        start, size, count = self._find_directory()
        if size > self.allowance.limits.header:
            raise self._harmful(f"its directory takes {size:,} bytes")
        # Offsets in the parts of a split zip count from their own part; those of a whole one from where it begins,
        # which is not the start of the file if a self-extractor stands before it.
        shift = 0 if len(self._part_starts) > 1 else start - self._stated_start
        known = self._rows.directories if len(self._part_starts) == 1 else {}
        files: list[tuple[int, str, int | None, _Central]] = []
        for fields, raw, extra in self._entries(start, size, count):
            # Plain files with plain names, the bulk of most archives, are entered many at once.
            modified = _only_time(extra) if extra else None
            if (
                (modified is not None or not extra)
                and len(raw) < _LONG_NAME
                and raw.isascii()
                and not (fields[17] >> 16 & _ODD and fields[2] == _UNIX)
            ):
                above, _, name = raw.decode("ascii").rpartition("/")
                directory = known.get(above) if above or raw[:1] == b"/" else TOP
                if (
                    directory is not None
                    and name not in _NO_NAMES
                    and name[1:2] != ":"
                    and "\\" not in name
                    and "\0" not in name
                ):
                    files.append((directory, name, modified, fields))
                    if len(files) == _MANY:
                        self._enter_files(files, shift)
                    continue
            self._enter_files(files, shift)
            if not self._encoding and not raw.isascii() and _is_unsaid(fields, raw, extra):
                unsaid = [
                    name for other, name, more in self._entries(start, size, count) if _is_unsaid(other, name, more)
                ]
                guess = encoding_for(unsaid, self._access.names, is_from_dos=fields[2] != _UNIX)
                self._encoding = guess.tell(self.facts)
            self._read_entry(fields, raw, extra, shift)
        self._enter_files(files, shift)
        if len(self._part_starts) == 1:
            begin = min((*self._extents.offsets, *self._refused.offsets), default=start)
            self.extent = (begin, self._end)
            # Offsets may count from the start of the program or of the archive in it.
            self.facts.is_program = begin > 0 and self._source.read_at(0, 2) in (b"MZ", b"\x7fE", b"#!")
        return start, start + size

    def _entries(self, start: int, size: int, count: int) -> Iterator[tuple[_Central, bytes, bytes]]:
        """Yield fixed fields, raw name and extra field of each entry; the directory is read in windows."""
        position, left = start, size
        window, at = b"", 0
        for number in range(count):
            if len(window) - at < _CENTRAL.size + 3 * 0xFFFF and left > 0:
                more = self._source.read_at(position, min(BLOCK, left))
                position, left = position + len(more), left - len(more) if more else 0
                window, at = window[at:] + more, 0
            fields = _CENTRAL.unpack_from(window, at)
            if fields[0] != _CENTRAL_MARK:
                raise damaged(self, f"entry {number + 1} of its central directory is broken")
            name_end = at + _CENTRAL.size + fields[12]
            extra_end = name_end + fields[13]
            if extra_end + fields[14] > len(window):
                raise damaged(self, "its central directory is incomplete")
            yield fields, window[at + _CENTRAL.size : name_end], window[name_end:extra_end]
            at = extra_end + fields[14]
        self._entries_end = position - len(window) + at

    def _find_directory(self) -> tuple[int, int, int]:
        """Return where the central directory starts, its size and its number of entries.

        The offset is computed from the end record, not from the start of the file: data before the archive (a self-
        extractor) shifts all stated offsets.
        """
        tail_start = max(0, self.size - _END.size - _LONGEST_COMMENT)
        tail = self._source.read_at(tail_start, self.size - tail_start)
        at = tail.rfind(_END_MARK)
        while at >= 0 and at + _END.size + int.from_bytes(tail[at + 20 : at + 22], "little") > len(tail):
            at = tail.rfind(_END_MARK, 0, at)
        if at < 0:
            raise IncompleteArchive(
                f"{self.name} is a zip, but its end is missing; the download may be incomplete.",
                remedy="Download it again.",
                path=self.path,
            )
        _, disk, first_disk, _, count, size, stated, comment_size = _END.unpack_from(tail, at)
        self.facts.comment = tail[at + _END.size :][:comment_size].decode("utf-8", "replace").strip()
        end = tail_start + at
        self._end = end + _END.size + comment_size
        place = self._source.read_at(max(0, end - _END64_PLACE.size), _END64_PLACE.size)
        if place.startswith(_END64_PLACE_MARK):
            _, _, stated_end64, disks = _END64_PLACE.unpack(place)
            end64 = self._find_end64(end - _END64_PLACE.size, stated_end64)
            _, _, _, _, disk, first_disk, _, count, size, stated = _END64.unpack(
                self._source.read_at(end64, _END64.size)
            )
            disk = max(disk, disks - 1)
            end = end64
        if not disk:
            self._part_starts = [0]  # cut by size alone: stated offsets count from the start of the whole
        if disk + 1 != len(self._part_starts):
            raise IncompleteArchive(
                f"{self.name} is a zip in {disk + 1} parts, of which {len(self._part_starts)} are here.",
                remedy="Put all its parts (.z01, .z02, … and .zip) into one folder.",
                path=self.path,
            )
        if size > end:
            raise damaged(self, "its central directory is larger than the file")
        self._stated_start = stated
        start = self._part_starts[first_disk] + stated if disk else end - size
        if count and self._source.read_at(start, 4) != _CENTRAL_MARK:
            raise damaged(self, "its central directory is not where the end record says")
        return start, size, count

    def _find_end64(self, before: int, stated: int) -> int:
        """Return where the zip64 end record is: as stated, or right before its locator if data precedes the archive."""
        for place in (self._part_starts[-1] + stated, stated, before - _END64.size):
            if 0 <= place <= before and self._source.read_at(place, 4) == _END64_MARK:
                return place
        raise damaged(self, "its zip64 end record is missing")

    def _read_entry(self, fields: _Central, raw: bytes, extra: bytes, shift: int) -> None:
        (_, _, system, _, _, flags, method, clock, date, checksum, packed, size, _, _, _,
         disk, _, attributes, offset) = fields  # fmt: skip
        modified = name = cipher = None
        if extra:
            size, packed, offset, modified, name, cipher = _read_extra(extra, raw, size, packed, offset)
        if name is None:
            name = raw.decode("ascii") if raw.isascii() else decoded(raw, "utf-8" if flags & _UTF8 else self._encoding)
        if modified is None:
            modified = self._local_time(date << 16 | clock)
        if len(self._part_starts) > 1:
            shift = self._part_starts[min(disk, len(self._part_starts) - 1)]
        mode = attributes >> 16 if system == _UNIX else 0
        kind = EntryKind.FILE
        file_type = mode & 0o170000
        if name[-1:] in ("/", "\\") or file_type == stat.S_IFDIR:
            kind, size = EntryKind.DIRECTORY, 0
        elif file_type == stat.S_IFLNK:
            kind = EntryKind.LINK
        elif file_type not in (0, stat.S_IFREG):
            self._rows.refuse(name, "it is a device, pipe or socket")
            self._refuse_outside(name, offset + shift)
            self._refused.extend((offset + shift,), (packed,), (len(raw),), (len(extra),), (flags,))
            return
        # An AES entry may have no checksum, because the cipher's code proves more.
        known = checksum if not cipher or cipher.has_checksum else None
        row = self._rows.enter(name, kind, size, modified, known, can_run=bool(mode & 0o111) and not kind)
        offset += shift
        self._refuse_outside(name, offset)
        extents = self._refused if row is None else self._extents
        extents.extend((offset,), (packed,), (len(raw),), (len(extra),), (flags,))
        if row is None:
            return
        self._methods.append(cipher.method if cipher else method)
        self._checks.append(clock)
        if cipher:
            self._locks[row] = cipher
        if kind is EntryKind.LINK:
            self._read_target(row, name, size)

    def _enter_files(self, files: list[tuple[int, str, int | None, _Central]], shift: int) -> None:
        """Enter files of known directories: directory, name, better time if known, fields. Empties the list."""
        if not files:
            return
        directories, names, exact, rows = zip(*files, strict=True)
        columns = tuple(zip(*rows, strict=True))
        flags, methods, clocks, dates, checksums, packed, sizes, name_sizes, extra_sizes = columns[5:14]
        starts = columns[-1]
        offsets = [start + shift for start in starts] if shift else starts
        for extreme in (min(offsets), max(offsets)):
            self._refuse_outside(names[offsets.index(extreme)], extreme)
        times: Sequence[int | None] = exact
        if None in exact:
            # Most files of an archive share a few times.
            moments = list(zip(dates, clocks, strict=True))
            known = {moment: self._local_time(moment[0] << 16 | moment[1]) for moment in set(moments)}
            times = [known[moment] if better is None else better for moment, better in zip(moments, exact, strict=True)]
        self._rows.count(names, sizes)
        self.listing.add_files(directories, names, sizes, times, checksums)
        self._extents.extend(offsets, packed, name_sizes, extra_sizes, flags)
        self._methods.extend(methods)
        self._checks.extend(clocks)
        files.clear()

    def _refuse_outside(self, name: str, offset: int) -> None:
        if not 0 <= offset < self.size:
            raise damaged(self, f"{name} begins outside the file, at byte {offset}")

    def _read_target(self, row: int, name: str, size: int) -> None:
        if size > _LONGEST_TARGET:
            raise damaged(self, f"the link {name} has a target of {size} bytes")
        self.listing.targets[row] = b"".join(self._content(row)).decode("utf-8", "replace")
        self.listing.sizes[row] = 0

    def _account_for_bytes(self, directory: int, directory_end: int) -> None:
        """Refuse overlapping entries, and record in the facts the bytes that belong to no entry.

        Overlapping entries would let a small file unpack without end.
        """
        extents, order = self._extents.joined(self._refused).in_order()
        if (row := extents.overlap()) is not None:
            raise self._harmful(f"{self._path_of(order[row])} and {self._path_of(order[row + 1])} overlap")
        if len(self._part_starts) == 1 and order:
            unread = list(extents.unread(self._source, directory))
            if not is_known(self._source, self._entries_end, directory_end):
                unread.append((self._entries_end, directory_end - self._entries_end))
            self.facts.unread = tuple(unread)

    def _path_of(self, row: int) -> str:
        return self.listing.path(row) if row < len(self._methods) else "an entry that is refused"

    def _tell_facts(self) -> None:
        kinds = self.listing.kinds
        counted = Counter(compress(self._methods, map(EntryKind.FILE.__eq__, kinds)))
        self.facts.packing = tuple(_method_name(method) for method, _ in counted.most_common())
        locked = self._locked_rows()
        self.facts.locked_entries = len(locked)
        ciphers = {
            f"AES-{8 * self._locks[row].key_size}" if row in self._locks else "the classic cipher" for row in locked
        }
        self.facts.locks = tuple(sorted(ciphers))

    def _local_time(self, packed: int) -> int | None:
        """Return nanoseconds since 1970 of a local DOS date and time; None for an impossible one."""
        if packed in self._times:
            return self._times[packed]
        self._times[packed] = result = of_dos(packed)
        return result

    # --- content -----------------------------------------------------------------------------------------

    def _whole(self, row: int) -> bytes | None:
        """Return all of an entry that is deflated, small and undamaged, as most are; None for others."""
        size, packed = self.listing.sizes[row], self._extents.packed[row]
        if self._methods[row] != _DEFLATE or size > WHOLE or packed > WHOLE or self._extents.flags[row] & _ENCRYPTED:
            return None
        # One read gets the header, the expected extra field, and the content.
        head = self._source.read_at(self._extents.offsets[row], _HEAD + packed)
        if head[:4] != _LOCAL_MARK or len(head) < _LOCAL.size:
            return None
        start = _LOCAL.size + head[26] + (head[27] << 8) + head[28] + (head[29] << 8)
        data = memoryview(head)[start : start + packed]
        block = decompress.inflate_whole(data, size) if len(data) == packed else None
        return block if block is not None and crc32(block) == self.listing.checksums[row] else None

    def _content(self, row: int) -> Iterator[bytes]:
        """Yield an entry's content by blocks; raises DamagedArchive."""
        packed = self._extents.packed[row]
        head = self._source.read_at(self._extents.offsets[row], _HEAD + min(packed, BLOCK))
        if head[:4] != _LOCAL_MARK or len(head) < _LOCAL.size:
            raise self._broken(row, "does not begin where the directory says")
        start = _LOCAL.size + head[26] + (head[27] << 8) + head[28] + (head[29] << 8)
        try:
            blocks = self._plain_blocks(row, self._packed_blocks(row, start, head[start : start + packed]))
            yield from self._checked(row, self._unpacker(row)(blocks))
        except decompress.PACKING_ERRORS as error:
            raise self._broken(row, f"cannot be unpacked: {error}") from error

    def refuse_unreadable(self, rows: Iterable[int]) -> None:
        """See `Archive.refuse_unreadable`."""
        unknown = {method for method in set(self._methods) if _METHODS.get(method, ("", None))[1] is None}
        for row in rows if unknown else ():
            if self._methods[row] in unknown and self.listing.kinds[row] == EntryKind.FILE:
                self._unpacker(row)

    def _unpacker(self, row: int) -> decompress.Decompressor:
        method = self._methods[row]
        unpack = _METHODS.get(method, ("", None))[1]
        if unpack is None:
            raise UnreadableArchive(
                f"{self.listing.path(row)} in {self.name} is packed with {_method_name(method)}, which cannot be read.",
                remedy="Ask its maker for a zip packed with deflate, or leave the entry out with --skip.",
                path=self.path,
            )
        return unpack

    def _packed_blocks(self, row: int, start: int, first: bytes) -> Iterator[bytes]:
        """Yield the entry's packed bytes: the first, already read, then the rest in blocks."""
        yield first
        offset = self._extents.offsets[row] + start + len(first)
        left = self._extents.packed[row] - len(first)
        while left > 0:
            block = self._source.read_at(offset, min(BLOCK, left))
            if not block:
                raise EOFError("the file ends too early")
            yield block
            offset, left = offset + len(block), left - len(block)

    def _plain_blocks(self, row: int, blocks: Iterator[bytes], password: str | None = None) -> Iterator[bytes]:
        """Yield the packed bytes, deciphered if they are locked."""
        if not self._extents.flags[row] & _ENCRYPTED:
            return blocks
        if password is None:
            self.unlock()
            password = self._password
        assert password is not None, "unlock gives one or raises"
        if row in self._locks:
            return self._locks[row].unlock(password, blocks, self._extents.packed[row])
        return unlock_classic(password, blocks)

    def _opens(self, row: int, password: str) -> bool:
        """Whether a password opens an entry: by its check value, then by the checksum of a small one's content."""
        head = self._source.read_at(self._extents.offsets[row], _LOCAL.size)
        start = _LOCAL.size + int.from_bytes(head[26:28], "little") + int.from_bytes(head[28:30], "little")
        first = self._source.read_at(self._extents.offsets[row] + start, CLASSIC_HEAD + 32)
        if row in self._locks:
            if not self._locks[row].fits(password, first):
                return False
        else:
            by_clock = self._extents.flags[row] & _DESCRIPTOR
            check = self._checks[row] >> 8 if by_clock else (self.listing.checksums[row] >> 24) & 0xFF
            if not classic_fits(password, first, check):
                return False
        if self._extents.packed[row] > BLOCK or self._methods[row] not in _METHODS:
            return True
        try:
            blocks = self._plain_blocks(row, self._packed_blocks(row, start, b""), password)
            for _ in self._checked(row, self._unpacker(row)(blocks)):
                pass
        except _FAULTS:
            return False
        return True

    def _checked(self, row: int, blocks: Iterator[bytes]) -> Iterator[bytes]:
        is_link = self.listing.kinds[row] == EntryKind.LINK
        size = _LONGEST_TARGET if is_link else self.listing.sizes[row]
        return checked(blocks, size, self.listing.checksum(row), partial(self._broken, row), may_be_less=is_link)

    def _harmful(self, what: str) -> UnsafeArchive:
        return UnsafeArchive(
            f"{self.name} is refused: {what}, as in an archive made to do harm.",
            remedy="Do not use it; get it from another place.",
            path=self.path,
        )

    def _broken(self, row: int, what: str) -> DamagedArchive:
        at = f"(at byte {self._extents.offsets[row]:,})"
        return damaged_entry(self, self.listing.path(row), f"{at} {what}")


def _is_unsaid(fields: _Central, raw: bytes, extra: bytes) -> bool:
    """Whether the encoding of an entry's name is not stated."""
    if raw.isascii() or fields[5] & _UTF8:
        return False
    return _read_extra(extra, raw, 0, 0, 0)[4] is None


def _method_name(method: int) -> str:
    return _METHODS[method][0] if method in _METHODS else f"method {method}"


def _only_time(extra: bytes) -> int | None:
    """Return the time in an extra field that contains nothing else of use, in nanoseconds; None otherwise.

    Common packers write these: seconds since 1970, mostly with the owner's numbers after it, or a Windows time.
    """
    size = len(extra)
    if extra[:4] == _MOMENT and extra[4] & 1 and (size == 9 or (size == 24 and extra[9:15] == _OWNER)):
        return int.from_bytes(extra[5:9], "little", signed=True) * 1_000_000_000
    if size == 36 and extra[:12] == _MOMENT_OF_WINDOWS:
        moment = of_windows(int.from_bytes(extra[12:20], "little"))
        # `Rows` judges the others.
        return moment if moment is not None and 0 <= moment < _LATEST else None
    return None


def _read_extra(
    extra: bytes, raw: bytes, size: int, packed: int, offset: int
) -> tuple[int, int, int, int | None, str | None, AesCipher | None]:
    """Read what extra fields say better: sizes and offset (zip64), time in nanoseconds, Unicode name, AES lock."""
    modified: int | None = None
    name: str | None = None
    cipher: AesCipher | None = None
    at = 0
    while at + 4 <= len(extra):
        tag, length = int.from_bytes(extra[at : at + 2], "little"), int.from_bytes(extra[at + 2 : at + 4], "little")
        field = extra[at + 4 : at + 4 + length]
        at += 4 + length
        if tag == 0x0001:
            values = iter(struct.unpack_from(f"<{min(3, len(field) // 8)}Q", field))
            if size == 0xFFFFFFFF:
                size = next(values, size)
            if packed == 0xFFFFFFFF:
                packed = next(values, packed)
            if offset == 0xFFFFFFFF:
                offset = next(values, offset)
        elif tag == 0x5455 and length >= 5 and field[0] & 1:
            modified = int.from_bytes(field[1:5], "little", signed=True) * 1_000_000_000
        elif tag == 0x000A and length >= 32 and modified is None:
            modified = of_windows(int.from_bytes(field[8:16], "little"))
        elif tag == 0x7075 and length > 5 and int.from_bytes(field[1:5], "little") == crc32(raw):
            name = field[5:].decode("utf-8", "replace")
        elif tag == 0x9901:
            cipher = AesCipher.of(field)
    return size, packed, offset, modified, name, cipher
