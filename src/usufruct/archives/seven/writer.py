"""Write 7z archives: all files in one solid stream; with a password, the names are encrypted too.

The layout is in 7zFormat.txt of the public domain LZMA SDK.
"""

import lzma
import secrets
import stat
import struct
import zlib
from collections.abc import Iterable, Iterator, Sequence
from typing import BinaryIO

from usufruct.archives.seven.ciphers import BLOCK, cipher_of
from usufruct.archives.seven.folders import LOCK, LZMA2
from usufruct.archives.times import as_windows
from usufruct.archives.writing import How, Member, blocks_of
from usufruct.model.entries import EntryKind

_START = struct.Struct("<6sBBL")
_MARK = b"7z\xbc\xaf\x27\x1c"
_HEAD = 32
"""Bytes before the packed streams."""
_POWER = 19
"""Of two: rounds of making a key, as other packers have it."""
_SALT = 16
"""Bytes of salt, and of the block before the first."""
_HEADER_EFFORT = 6


def pack(out: BinaryIO, members: Sequence[Member], how: How) -> None:
    """See `usufruct.archives.writing`."""
    begin = out.tell()
    out.write(bytes(_HEAD))
    packer = _Packer(out, how.password)
    content = _MembersContent(members, how)
    folder = packer.folder(content, how.effort) if any(map(_has_content, members)) else None
    header = _header(members, content, folder)
    packed_header = packer.folder(_Whole(header), _HEADER_EFFORT)
    encoded = b"\x17" + packed_header.described(packer.written - packed_header.packed, with_sum=True)
    out.write(encoded)
    end = out.tell()
    start = struct.pack("<QQL", packer.written, len(encoded), zlib.crc32(encoded))
    out.seek(begin)
    out.write(_START.pack(_MARK, 0, 4, zlib.crc32(start)) + start)
    out.seek(end)


class _Whole:
    """A packed folder in memory, and its sizes and checksum."""

    def __init__(self, content: bytes) -> None:
        self._content = content
        self.size = self.checksum = 0

    def blocks(self) -> Iterator[bytes]:
        """Yield the whole content."""
        for block in self._parts():
            self.size += len(block)
            self.checksum = zlib.crc32(block, self.checksum)
            yield block

    def _parts(self) -> Iterator[bytes]:
        yield self._content


class _MembersContent(_Whole):
    """The content of all members, one after the other."""

    def __init__(self, members: Sequence[Member], how: How) -> None:
        super().__init__(b"")
        self._members, self._how = members, how
        self.checksums: list[int] = []
        """Of each member with content."""
        self.sizes: list[int] = []

    def _parts(self) -> Iterator[bytes]:
        for member in self._members:
            if not _has_content(member):
                continue
            checksum = size = 0
            for block in [member.target.encode()] if member.kind is EntryKind.LINK else blocks_of(member):
                checksum, size = zlib.crc32(block, checksum), size + len(block)
                yield block
                if member.kind is EntryKind.FILE:
                    self._how.tell(len(block))
            self.checksums.append(checksum)
            self.sizes.append(size)


class _PackedFolder:
    """A stream that was written, and its methods."""

    def __init__(self, coders: list[tuple[bytes, bytes, int]], packed: int, checksum: int) -> None:
        self._coders, self.packed, self._checksum = coders, packed, checksum

    def described(self, position: int, *, with_sum: bool = False) -> bytes:
        """Return the description of the streams; `position` is their offset after the archive's head, in bytes."""
        parts = [b"\x06", _number(position), b"\x01\x09", _number(self.packed), b"\x00\x07\x0b\x01\x00"]
        parts.append(_number(len(self._coders)))
        for method, properties, _ in self._coders:
            parts += [bytes((len(method) | (0x20 if properties else 0),)), method]
            if properties:
                parts += [_number(len(properties)), properties]
        # The first takes the packed bytes, each of the others the previous one's output.
        parts += [bytes((number + 1, number)) for number in range(len(self._coders) - 1)]
        parts += [b"\x0c", *(_number(size) for _, _, size in self._coders)]
        if with_sum:
            parts += [b"\x0a\x01", struct.pack("<L", self._checksum)]
        parts.append(b"\x00\x00" if with_sum else b"\x00")
        return b"".join(parts)


class _Packer:
    """Writes packed streams one after the other."""

    def __init__(self, out: BinaryIO, password: str | None) -> None:
        self._out, self._password = out, password
        self.written = 0
        """Bytes behind the archive's head."""

    def folder(self, content: _Whole, effort: int) -> _PackedFolder:
        """Pack a content; with an effort of 0 it is only stored."""
        blocks, coders = content.blocks(), []
        if effort:
            options = {"id": lzma.FILTER_LZMA2, "preset": effort}
            properties = lzma._encode_filter_properties(options)  # type: ignore[attr-defined]
            counted = _Counted(_packed(blocks, lzma.LZMACompressor(lzma.FORMAT_RAW, filters=[options])))
            method = LZMA2
        else:
            counted, method, properties = _Counted(blocks), b"\x00", b""
        begin = self.written
        if self._password is None:
            self._write(counted)
        else:
            salt, first = secrets.token_bytes(_SALT), secrets.token_bytes(_SALT)
            lock = bytes((_POWER | 0xC0, (_SALT - 1) << 4 | _SALT - 1)) + salt + first
            self._write(_locked(counted, lock, self._password))
            coders.append((LOCK, lock, counted.size))
        coders.append((method, properties, content.size))
        return _PackedFolder(coders, self.written - begin, content.checksum)

    def _write(self, blocks: Iterable[bytes]) -> None:
        for block in blocks:
            self._out.write(block)
            self.written += len(block)


class _Counted:
    """Passes blocks on, and counts their bytes."""

    def __init__(self, blocks: Iterable[bytes]) -> None:
        self._blocks = blocks
        self.size = 0

    def __iter__(self) -> Iterator[bytes]:
        for block in self._blocks:
            self.size += len(block)
            yield block


def _packed(blocks: Iterable[bytes], engine: lzma.LZMACompressor) -> Iterator[bytes]:
    for block in blocks:
        yield engine.compress(block)
    yield engine.flush()


def _locked(blocks: Iterable[bytes], lock: bytes, password: str) -> Iterator[bytes]:
    cipher, rest = cipher_of(lock, password), b""
    for block in blocks:
        data = rest + block
        whole = len(data) // BLOCK * BLOCK
        rest = data[whole:]
        yield cipher.encrypt(data[:whole])
    if rest:
        yield cipher.encrypt(rest.ljust(BLOCK, b"\0"))


# --- the header ----------------------------------------------------------------------------------------------


def _has_content(member: Member) -> bool:
    return member.kind is EntryKind.LINK or (member.kind is EntryKind.FILE and member.size > 0)


def _header(members: Sequence[Member], content: _MembersContent, folder: _PackedFolder | None) -> bytes:
    parts = [b"\x01"]
    if folder:
        sizes = [_number(size) for size in content.sizes[:-1]]
        sums = [struct.pack("<L", checksum) for checksum in content.checksums]
        parts += [b"\x04", folder.described(0), b"\x08\x0d", _number(len(content.sizes))]
        parts += [b"\x09" if sizes else b"", *sizes, b"\x0a\x01", *sums, b"\x00\x00"]
    parts += [b"\x05", _number(len(members))]
    hollow = [not _has_content(member) for member in members]
    if any(hollow):
        parts.append(_property(0x0E, _bits(hollow)))
        files = [member.kind is EntryKind.FILE for member in members if not _has_content(member)]
        if any(files):
            parts.append(_property(0x0F, _bits(files)))
    names = b"".join(member.entry.encode("utf-16-le") + b"\0\0" for member in members)
    times = b"".join(struct.pack("<Q", as_windows(member.modified)) for member in members)
    attributes = b"".join(struct.pack("<L", _attributes(member)) for member in members)
    parts += [_property(0x11, b"\0" + names), _property(0x14, b"\1\0" + times), _property(0x15, b"\1\0" + attributes)]
    return b"".join([*parts, b"\x00\x00"])


def _attributes(member: Member) -> int:
    """Return Windows attributes, with the Unix mode in the upper half."""
    if member.kind is EntryKind.DIRECTORY:
        return stat.FILE_ATTRIBUTE_DIRECTORY | 0x8000 | (stat.S_IFDIR | 0o755) << 16
    if member.kind is EntryKind.LINK:
        return stat.FILE_ATTRIBUTE_ARCHIVE | 0x8000 | (stat.S_IFLNK | 0o777) << 16
    return stat.FILE_ATTRIBUTE_ARCHIVE | 0x8000 | (stat.S_IFREG | (0o755 if member.can_run else 0o644)) << 16


def _property(kind: int, data: bytes) -> bytes:
    return bytes((kind,)) + _number(len(data)) + data


def _bits(values: Sequence[bool]) -> bytes:
    out = bytearray(-(-len(values) // 8))
    for number, is_set in enumerate(values):
        if is_set:
            out[number >> 3] |= 0x80 >> (number & 7)
    return bytes(out)


def _number(value: int) -> bytes:
    """Return a number as one to nine bytes: the first byte's leading ones say how many follow."""
    for more in range(8):
        if value < 1 << 7 * (more + 1):
            first = 0xFF << 8 - more & 0xFF | value >> 8 * more
            return bytes((first,)) + (value & (1 << 8 * more) - 1).to_bytes(more, "little")
    return b"\xff" + value.to_bytes(8, "little")
