"""Write zip archives: deflated by several threads, and encrypted with AES on request.

The layout is that of PKWARE's APPNOTE 6.3, with the AES entries of its appendix (key size 256, no CRC-32 beside the
cipher's authentication code). Small files have their sizes in front, large ones after the data.
"""

import os
import stat
import struct
import zlib
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from typing import BinaryIO, NamedTuple

from usufruct.archives.times import as_dos
from usufruct.archives.writing import How, Member, blocks_of, whole_of
from usufruct.archives.zip.ciphers import AesCipher
from usufruct.model.entries import EntryKind

_SMALL = 4 << 20
"""Bytes up to which a file is packed in memory."""
_WIDE = 0xF000_0000
"""Sizes and places from here on take eight bytes: where four would end, with room for what does not get smaller."""
_STORED, _DEFLATED, _AES = 0, 8, 99
"""APPNOTE 4.4.5."""
_UTF8, _LOCKED, _SIZES_BEHIND = 0x800, 1, 8
"""APPNOTE 4.4.4."""
_UNIX = 3 << 8
"""APPNOTE 4.4.2, in the upper byte."""
_MOST_4, _MOST_2 = 0xFFFFFFFF, 0xFFFF
"""What a field of four and of two bytes holds."""
_LARGEST_TIME = 1 << 31
"""Seconds that the field "UT" holds in four bytes."""


class _Packed(NamedTuple):
    """A small file as it goes into the archive."""

    method: int
    checksum: int
    data: bytes


class _Written(NamedTuple):
    """What the central directory says about one entry."""

    member: Member
    flags: int
    method: int
    checksum: int
    packed: int
    size: int
    offset: int


def pack(out: BinaryIO, members: Sequence[Member], how: How) -> None:
    """See `usufruct.archives.writing`."""
    workers = min(4, os.cpu_count() or 1)
    written: list[_Written] = []
    waiting: deque[tuple[Member, Future[_Packed] | None]] = deque()
    writer = _Writer(out, how.effort, how.password)
    with ThreadPoolExecutor(workers) as pool:
        rest = iter(members)
        try:
            while True:
                while len(waiting) < 2 * workers and (member := next(rest, None)):
                    is_small = member.size <= _SMALL
                    waiting.append((member, pool.submit(writer.packed, member) if is_small else None))
                if not waiting:
                    break
                member, future = waiting.popleft()
                written.append(writer.put(member, future.result()) if future else writer.put_large(member, how.tell))
                if future:
                    how.tell(member.size)
        finally:
            pool.shutdown(cancel_futures=True)
    writer.end(written)


class _Writer:
    def __init__(self, out: BinaryIO, effort: int, password: str | None) -> None:
        self._out, self._effort, self._password = out, effort, password

    def packed(self, member: Member) -> _Packed:
        """Return a small member, deflated if that makes it smaller, and encrypted."""
        if member.kind is EntryKind.DIRECTORY:
            return _Packed(_STORED, 0, b"")
        plain = os.fsencode(member.target) if member.kind is EntryKind.LINK else whole_of(blocks_of(member))
        data, method = plain, _STORED
        if self._effort and plain:
            deflated = zlib.compress(plain, self._effort, -zlib.MAX_WBITS)
            if len(deflated) < len(plain):
                data, method = deflated, _DEFLATED
        if self._password is None:
            return _Packed(method, zlib.crc32(plain), data)
        return _Packed(method, 0, whole_of(AesCipher(False, 32, method).cipher(self._password, iter([data]))))

    def put(self, member: Member, packed: _Packed) -> _Written:
        """Write an entry whose sizes are known."""
        offset = self._out.tell()
        size = len(os.fsencode(member.target)) if member.kind is EntryKind.LINK else member.size
        flags = self._flags(member)
        one = _Written(member, flags, packed.method, packed.checksum, len(packed.data), size, offset)
        self._out.write(self._local_header(one, len(packed.data), size, b""))
        self._out.write(packed.data)
        return one

    def put_large(self, member: Member, tell: Callable[[int], None]) -> _Written:
        """Write an entry by blocks, its sizes after it."""
        offset = self._out.tell()
        is_wide = member.size >= _WIDE
        method = _DEFLATED if self._effort else _STORED
        flags = self._flags(member) | _SIZES_BEHIND
        wide = struct.pack("<HHQQ", 1, 16, 0, 0) if is_wide else b""
        placeholder = _MOST_4 if is_wide else 0
        head = _Written(member, flags, method, 0, 0, 0, offset)
        self._out.write(self._local_header(head, placeholder, placeholder, wide))
        checksum = 0

        def plain() -> Iterator[bytes]:
            nonlocal checksum
            for block in blocks_of(member):
                checksum = zlib.crc32(block, checksum)
                tell(len(block))
                yield block

        blocks = self._deflated(plain()) if self._effort else plain()
        if self._password is not None:
            blocks = AesCipher(False, 32, method).cipher(self._password, blocks)
        packed = 0
        for block in blocks:
            self._out.write(block)
            packed += len(block)
        if self._password is not None:
            checksum = 0
        form = "<IIQQ" if is_wide else "<IIII"
        self._out.write(struct.pack(form, 0x08074B50, checksum, packed, member.size))
        return head._replace(checksum=checksum, packed=packed, size=member.size)

    def end(self, written: Sequence[_Written]) -> None:
        """Write the central directory."""
        start = self._out.tell()
        for one in written:
            self._out.write(self._central_header(one))
        size = self._out.tell() - start
        count = len(written)
        if count >= _MOST_2 or max(start, size) >= _WIDE:
            self._out.write(struct.pack("<IQHHIIQQQQ", 0x06064B50, 44, 45, 45, 0, 0, count, count, size, start))
            self._out.write(struct.pack("<IIQI", 0x07064B50, 0, start + size, 1))
        few = min(count, _MOST_2)
        self._out.write(struct.pack("<IHHHHIIH", 0x06054B50, 0, 0, few, few, _four(size), _four(start), 0))

    def _flags(self, member: Member) -> int:
        locked = _LOCKED if self._password is not None and member.kind is not EntryKind.DIRECTORY else 0
        return _UTF8 | locked

    def _deflated(self, blocks: Iterator[bytes]) -> Iterator[bytes]:
        packer = zlib.compressobj(self._effort, zlib.DEFLATED, -zlib.MAX_WBITS)
        for block in blocks:
            if data := packer.compress(block):
                yield data
        yield packer.flush()

    def _local_header(self, one: _Written, packed: int, size: int, wide: bytes) -> bytes:
        name = _name(one.member)
        extra = wide + _time_field(one.member) + _cipher_field(one)
        method = _AES if one.flags & _LOCKED else one.method
        day, clock = as_dos(one.member.modified)
        return (
            struct.pack(
                "<IHHHHHIIIHH", 0x04034B50, _needed(one, is_wide=bool(wide)), one.flags, method, clock, day,
                one.checksum, packed, size, len(name), len(extra),
            )
            + name
            + extra
        )  # fmt: skip

    def _central_header(self, one: _Written) -> bytes:
        name = _name(one.member)
        wide = [value for value in (one.size, one.packed, one.offset) if value >= _WIDE]
        extra = struct.pack(f"<HH{len(wide)}Q", 1, 8 * len(wide), *wide) if wide else b""
        extra += _time_field(one.member) + _cipher_field(one)
        method = _AES if one.flags & _LOCKED else one.method
        day, clock = as_dos(one.member.modified)
        return (
            struct.pack(
                "<IHHHHHHIIIHHHHHII", 0x02014B50, _UNIX | 63, _needed(one, is_wide=bool(wide)), one.flags, method,
                clock, day, one.checksum, _four(one.packed), _four(one.size), len(name), len(extra), 0,
                0, 0, _mode(one.member) << 16 | (0x10 if one.member.kind is EntryKind.DIRECTORY else 0),
                _four(one.offset),
            )
            + name
            + extra
        )  # fmt: skip


def _four(value: int) -> int:
    """Return what goes into four bytes: the value, or the marker for zip64."""
    return value if value < _WIDE else _MOST_4


def _name(member: Member) -> bytes:
    name = member.entry + ("/" if member.kind is EntryKind.DIRECTORY else "")
    return name.encode("utf-8", "surrogateescape")


def _needed(one: _Written, *, is_wide: bool) -> int:
    """Return the version of the format that a reader needs, in tenths."""
    return 51 if one.flags & _LOCKED else 45 if is_wide else 20


def _mode(member: Member) -> int:
    if member.kind is EntryKind.DIRECTORY:
        return stat.S_IFDIR | 0o755
    if member.kind is EntryKind.LINK:
        return stat.S_IFLNK | 0o777
    return stat.S_IFREG | (0o755 if member.can_run else 0o644)


def _time_field(member: Member) -> bytes:
    """Return the extra field with the time in UTC; other readers use the local time of the header."""
    seconds = member.modified // 1_000_000_000
    if not -_LARGEST_TIME <= seconds < _LARGEST_TIME:
        return b""
    return struct.pack("<HHBi", 0x5455, 5, 1, seconds)


def _cipher_field(one: _Written) -> bytes:
    return struct.pack("<HHH2sBH", 0x9901, 7, 2, b"AE", 3, one.method) if one.flags & _LOCKED else b""
