"""The headers of RAR 5, and the plain stream of one volume for libarchive.

Source: the format's published technical note.
"""

import stat
import struct
import zlib
from collections.abc import Iterator

from usufruct.archives.allowance import Allowance
from usufruct.archives.rar.common import (
    AES_BLOCK,
    HeaderLocked,
    Piece,
    Rar5Cipher,
    RarFault,
    RarMember,
    RarRefusal,
    WrongKey,
)
from usufruct.archives.times import of_windows
from usufruct.files.sources import Source
from usufruct.model.entries import EntryKind

MARK = b"Rar!\x1a\x07\x01\x00"
"""The first bytes."""
_MAIN, _FILE, _SERVICE, _LOCKED, _END = 1, 2, 3, 4, 5
"""Kinds of a header: technical note, "General archive layout"."""
_EXTRA, _DATA, _SKIP, _BEFORE, _AFTER = 1, 2, 4, 8, 0x10
"""Flags of every header."""
_LONGEST_HEADER = 1 << 21
"""Bytes: as the technical note bounds it."""
_MOST_ROUNDS = 24
"""Logarithm of the rounds of PBKDF2 that packers accept."""
_LEAST_DICTIONARY = 128 << 10
"""Bytes: the technical note's smallest."""


class _Fields:
    """Reads a header's bytes field by field."""

    def __init__(self, data: bytes) -> None:
        self.data = data
        self.at = 0

    def vint(self) -> int:
        at = self.at
        if at < len(self.data) and self.data[at] < 0x80:
            self.at = at + 1  # the usual case
            return self.data[at]
        value, shift = 0, 0
        while shift < 70:
            if self.at >= len(self.data):
                raise RarFault("a header ends in the middle of a number")
            byte = self.data[self.at]
            self.at += 1
            value |= (byte & 0x7F) << shift
            if not byte & 0x80:
                return value
            shift += 7
        raise RarFault("a header holds a number that is too long")

    def take(self, count: int) -> bytes:
        taken = self.data[self.at : self.at + count]
        if len(taken) != count:
            raise RarFault("a header is incomplete")
        self.at += count
        return taken

    def u32(self) -> int:
        return int.from_bytes(self.take(4), "little")

    @property
    def left(self) -> int:
        return len(self.data) - self.at


class Rar5Reader:
    """Reads the headers of all volumes into members."""

    def __init__(
        self, volumes: list[Source], password: str | None, allowance: Allowance, *, rescues: bool = False
    ) -> None:
        """With `rescues`, headers that break off after the first members are no error; reading just ends.

        The `allowance` is asked before a member is kept.
        """
        self._allowance = allowance
        self.members: list[RarMember] = []
        self.is_solid = False
        self.hides_names = False
        self.wants_more = False
        """The last volume says that another follows."""
        self._volumes = volumes
        self._password = password
        self._open: RarMember | None = None
        """A member that continues in the next volume."""
        self.end = 0
        """Where the last volume's last block ends."""
        try:
            for number, volume in enumerate(volumes):
                self._read_volume(number, volume)
        except RarFault:
            if not (rescues and self.members):
                raise
        if self._open and not self.wants_more and not rescues:
            raise RarFault(f"{self._open.name} continues in a volume that is not there")

    def _read_volume(self, number: int, volume: Source) -> None:
        if volume.read_at(0, len(MARK)) != MARK:
            raise RarFault(f"volume {number + 1} is none of RAR 5")
        at = len(MARK)
        cipher: Rar5Cipher | None = None
        self.wants_more = False
        while at < volume.size:
            header, at = self._header(volume, at, cipher)
            kind, flags = header.vint(), header.vint()
            extra = header.vint() if flags & _EXTRA else 0
            size = header.vint() if flags & _DATA else 0
            if extra > header.left:
                raise RarFault("a header's extra area is larger than the header")
            if kind == _LOCKED:
                cipher = self._header_cipher(header)
            elif kind == _MAIN:
                self._read_main(header, number)
            elif kind == _FILE:
                self._read_file(header, extra, flags, Piece(number, at, size, None))
            elif kind == _END:
                self.wants_more = bool(header.vint() & 1)
                self.end = at
                return
            elif kind != _SERVICE and not flags & _SKIP:
                raise RarRefusal(f"it holds a block of an unknown kind ({kind})")
            at += size
        # Every volume of RAR 5 has an end block; without this check, a cut between two blocks would go unnoticed.
        raise RarFault(f"volume {number + 1} breaks off")

    def _header(self, volume: Source, at: int, cipher: Rar5Cipher | None) -> tuple[_Fields, int]:
        """Return the checked fields of the header at an offset, and where its data begins."""
        start = b""
        if cipher:
            start = volume.read_at(at, AES_BLOCK)
            at += AES_BLOCK
        head = self._plain(volume, at, AES_BLOCK, cipher, start)
        if len(head) < 7:
            raise RarFault(f"a header at byte {at} is incomplete")
        sizes = _Fields(head[4:7])
        size = sizes.vint()
        whole = 4 + sizes.at + size
        if not size or whole > _LONGEST_HEADER:
            raise WrongKey if cipher else RarFault(f"a header at byte {at} has an impossible size")
        padded = -(-whole // AES_BLOCK) * AES_BLOCK if cipher else whole
        data = self._plain(volume, at, padded, cipher, start)[:whole]
        if len(data) != whole:
            raise RarFault(f"a header at byte {at} is incomplete")
        if zlib.crc32(data[4:]) != int.from_bytes(data[:4], "little"):
            raise WrongKey if cipher else RarFault(f"the header at byte {at} does not match its checksum")
        return _Fields(data[4 + sizes.at :]), at + padded

    def _plain(self, volume: Source, at: int, count: int, cipher: Rar5Cipher | None, start: bytes) -> bytes:
        data = volume.read_at(at, count)
        if not cipher:
            return data
        from Cryptodome.Cipher import AES

        if len(start) != AES_BLOCK or len(data) % AES_BLOCK:
            raise RarFault(f"a locked header at byte {at} is incomplete")
        assert self._password is not None, "a locked header is read only with a password"
        return AES.new(cipher.key(self._password), AES.MODE_CBC, start).decrypt(data)

    def _header_cipher(self, header: _Fields) -> Rar5Cipher:
        self.hides_names = True
        if header.vint() != 0:
            raise RarRefusal("its headers are locked in an unknown way")
        flags = header.vint()
        rounds = header.take(1)[0]
        if rounds > _MOST_ROUNDS:
            raise RarRefusal("its key is made in more rounds than is sane")
        cipher = Rar5Cipher(rounds, header.take(16), check=header.take(12) if flags & 1 else b"")
        if self._password is None:
            raise HeaderLocked
        if cipher.fits(self._password) is False:
            raise WrongKey
        return cipher

    def _read_main(self, header: _Fields, number: int) -> None:
        flags = header.vint()
        self.is_solid = self.is_solid or bool(flags & 4)
        said = header.vint() if flags & 2 else 0
        if flags & 1 and said != number:
            raise RarFault(f"its volume {number + 1} is really volume {said + 1} of a set")

    def _read_file(self, header: _Fields, extra: int, flags: int, piece: Piece) -> None:
        end = len(header.data) - extra
        file_flags = header.vint()
        size = header.vint()
        attributes = header.vint()
        modified = header.u32() * 1_000_000_000 if file_flags & 2 else None
        checksum = header.u32() if file_flags & 4 else None
        compression = header.vint()
        is_unix = header.vint() == 1
        name = header.take(header.vint()).decode("utf-8", "replace")
        member = RarMember(name, size=size, modified=modified, checksum=checksum)
        member.mode = attributes if is_unix else 0
        member.version, member.is_solid = compression & 0x3F, bool(compression & 0x40)
        member.method = compression >> 7 & 7
        member.dictionary = _LEAST_DICTIONARY << (compression >> 10 & 0xF)
        member.is_stored = member.method == 0
        if file_flags & 1:
            member.kind, member.size = EntryKind.DIRECTORY, 0
        elif is_unix and stat.S_IFMT(attributes) not in (0, stat.S_IFREG, stat.S_IFLNK):
            member.refusal = "it is a device, pipe or socket"
        if file_flags & 8:
            member.refusal = "its size is not known before its end"
        elif member.version and not member.is_stored:
            member.refusal = "it is packed by an algorithm newer than can be read"
        self._read_extra(_Fields(header.data[end:]), member)
        self._enter(member, flags, piece)

    def _read_extra(self, extra: _Fields, member: RarMember) -> None:
        """Read the extra records into the member."""
        while extra.left:
            size = extra.vint()
            record = _Fields(extra.take(size))
            kind = record.vint()
            if kind == 1:
                member.cipher = _member_cipher(record)
            elif kind == 2:
                if record.vint() == 0:
                    member.digest = record.take(32)
            elif kind == 3:
                member.modified = _time(record) or member.modified
            elif kind == 4:
                member.is_old = True
            elif kind == 5:
                redirect, _ = record.vint(), record.vint()
                target = record.take(record.vint()).decode("utf-8", "replace")
                if redirect in (1, 2):
                    member.kind, member.target, member.size = EntryKind.LINK, target.replace("\\", "/"), 0
                elif redirect == 3:
                    member.is_junction = True
                elif redirect in (4, 5):
                    member.copy_of = target

    def _enter(self, member: RarMember, flags: int, piece: Piece) -> None:
        whole = self._open
        if flags & _BEFORE:
            if not whole or whole.name != member.name or whole.size != member.size:
                raise RarFault(f"{member.name} continues from a volume that is not the one before it")
            self._open = None
        elif whole:
            raise RarFault(f"{whole.name} does not continue in volume {piece.volume + 1}")
        else:
            whole = member
            self._allowance.may_enter(len(self.members) + 1)
            self.members.append(member)
        continues = bool(flags & _AFTER)
        is_plain_part = continues and not (member.cipher and getattr(member.cipher, "is_tweaked", False))
        whole.pieces.append(Piece(piece.volume, piece.offset, piece.size, member.checksum if is_plain_part else None))
        if continues:
            self._open = whole
        else:
            # The last part's checksum is that of the whole file.
            whole.checksum, whole.digest = member.checksum, member.digest


def _member_cipher(record: _Fields) -> Rar5Cipher:
    if record.vint() != 0:
        raise RarRefusal("a file is locked by an unknown cipher")
    flags = record.vint()
    rounds = record.take(1)[0]
    if rounds > _MOST_ROUNDS:
        raise RarRefusal("its key is made in more rounds than is sane")
    salt, start = record.take(16), record.take(16)
    return Rar5Cipher(rounds, salt, start, record.take(12) if flags & 1 else b"", bool(flags & 2))


def _time(record: _Fields) -> int | None:
    """Return the modification time in nanoseconds, as precisely as recorded."""
    flags = record.vint()
    if not flags & 2:
        return None
    if not flags & 1:
        return of_windows(int.from_bytes(record.take(8), "little"))
    seconds = record.u32()
    record.take(4 * bool(flags & 4) + 4 * bool(flags & 8))
    fraction = record.u32() & 0x3FFFFFFF if flags & 0x10 else 0
    return seconds * 1_000_000_000 + fraction


# --- the stream for libarchive -------------------------------------------------------------------------------


def _vint(value: int) -> bytes:
    out = bytearray()
    while True:
        byte = value & 0x7F
        value >>= 7
        out.append(byte | (0x80 if value else 0))
        if not value:
            return bytes(out)


def _block(body: bytes) -> bytes:
    sized = _vint(len(body)) + body
    return struct.pack("<L", zlib.crc32(sized)) + sized


def stream_head(*, is_solid: bool) -> bytes:
    """Return the signature and main header of a plain single volume."""
    return MARK + _block(_vint(_MAIN) + _vint(0) + _vint(4 if is_solid else 0))


def stream_member(number: int, member: RarMember, packed: int, dictionary: int, *, is_solid: bool) -> bytes:
    """Return the header of one compressed member, named by its number; `packed` plain bytes must follow."""
    power = (dictionary // _LEAST_DICTIONARY).bit_length() - 1
    compression = (0x40 if is_solid else 0) | member.method << 7 | power << 10
    name = str(number).encode()
    fields = _vint(0) + _vint(member.size) + _vint(0) + _vint(compression) + _vint(0) + _vint(len(name)) + name
    return _block(_vint(_FILE) + _vint(_DATA) + _vint(packed) + fields)


def stream_end() -> bytes:
    """Return the end header."""
    return _block(_vint(_END) + _vint(0) + _vint(0))


def end_of_packed(source: Source) -> int:
    """Return where a compressed member's bytes really end: locked data is padded to 16 bytes."""
    at = 0
    for size, is_last in _compressed_blocks(source):
        at += size
        if is_last:
            return at
    return source.size


def _compressed_blocks(source: Source) -> Iterator[tuple[int, bool]]:
    at = 0
    while at + 3 <= source.size:
        head = source.read_at(at, 5)
        flags, check = head[0], head[1]
        count = (flags >> 3 & 3) + 1
        sizes = head[2 : 2 + count]
        expected = 0x5A ^ flags
        for byte in sizes:
            expected ^= byte
        if count > 3 or len(sizes) != count or check != expected & 0xFF:
            return
        size = 2 + count + int.from_bytes(sizes, "little")
        at += size
        yield size, bool(flags & 0x40)
