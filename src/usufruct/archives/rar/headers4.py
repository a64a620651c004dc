"""The headers of RAR 4 and older, and the rewritten plain stream that libarchive is fed.

Sources: libarchive (archive_read_support_format_rar.c, BSD licence) and, for what is older, XADMaster (XADRARParser.m,
LGPL).
"""

import stat
import struct
import zlib

from usufruct.archives.rar.common import (
    AES_BLOCK,
    Cipher,
    HeaderLocked,
    OldCipher,
    Piece,
    Rar4Cipher,
    RarFault,
    RarMember,
    VolumeMissing,
    WrongKey,
)
from usufruct.archives.times import of_dos
from usufruct.files.sources import Source
from usufruct.model.entries import EntryKind

MARK = b"Rar!\x1a\x07\x00"
"""The first bytes."""
_MAIN, _FILE, _SERVICE, _END = 0x73, 0x74, 0x7A, 0x7B
"""Kinds of a header: 0x73, 0x74, 0x7A, 0x7B."""
_LONG = 0x8000
"""Flag of a header behind which packed bytes stand."""
_BEFORE, _AFTER, _LOCKED, _SOLID, _DIRECTORY = 1, 2, 4, 0x10, 0xE0
"""Flags of a file's header; a directory has all three bits of the dictionary's size."""
_LARGE, _UNICODE, _SALT, _VERSIONED, _TIMES = 0x100, 0x200, 0x400, 0x800, 0x1000
"""More of them."""
_FIELDS = struct.Struct("<2LB2L2BHL")
"""Packed size, size, system, checksum, time, version, method, length of the name, attributes."""
_COMMENT = 8
"""Flag of a file's header that holds a comment."""
_SAYS_CIPHER = 0x200
"""Flag of the archive's header that states the version of the cipher."""
_HARMLESS = 36
"""Version of the cipher from which on its hash leaves long passwords as they are."""
_SECOND, _FIRST_WITH_AES, _LATEST = 20, 29, 36
"""Versions that a member needs to be unpacked."""
_OLD_BLOCKS = range(0x75, 0x7A)
"""Kinds of blocks of which the checksum covers a part that each says in its own way; none is a member."""
_HEAD, _MAIN_SIZE = 7, 13
"""Bytes of what each header begins with, and of the archive's own."""
_QUIET = bytes.fromhex("a10001fe6ecb0000")
"""Two of these before the packed bytes emit nothing, and keep older libraries right beyond 4 MB."""
_NEEDS_QUIET = 4 << 20
_UNIX, _DOS = 3, 0
"""Systems by which attributes were written."""


class Rar4Reader:
    """Reads the headers of all volumes into members."""

    def __init__(self, volumes: list[Source], password: str | None, *, rescues: bool = False) -> None:
        """With `rescues`, headers that break off after the first members end the reading of them, and are no fault."""
        self.members: list[RarMember] = []
        self.is_solid = False
        self.hides_names = False
        self.wants_more = False
        self._password = password
        self._open: RarMember | None = None
        self._harms_long = True
        try:
            for number, volume in enumerate(volumes):
                self._read_volume(number, volume)
        except RarFault:
            if not (rescues and self.members):
                raise
        if self._open:
            self.wants_more = True

    def _read_volume(self, number: int, volume: Source) -> None:
        if volume.read_at(0, len(MARK)) != MARK:
            raise RarFault(f"volume {number + 1} is none of RAR 4")
        at = len(MARK)
        is_locked = False
        self.wants_more = False
        while at + _HEAD <= volume.size:
            header, at = self._header(volume, at, is_locked=is_locked)
            kind, flags = header[2], int.from_bytes(header[3:5], "little")
            size = 0
            if flags & _LONG or kind in (_FILE, _SERVICE):
                size = int.from_bytes(header[7:11], "little")
                if kind in (_FILE, _SERVICE) and flags & _LARGE:
                    size += int.from_bytes(header[32:36], "little") << 32
            if kind == _MAIN:
                self.is_solid = self.is_solid or bool(flags & 8)
                if flags & _SAYS_CIPHER and header[_MAIN_SIZE : _MAIN_SIZE + 1] >= bytes((_HARMLESS,)):
                    self._harms_long = False
                if flags & 0x80:
                    self.hides_names = is_locked = True
                    if self._password is None:
                        raise HeaderLocked
                if number == 0 and flags & 1 and flags & 0x200 and not flags & 0x100:
                    raise VolumeMissing("its first volume is missing")
            elif kind == _FILE:
                self._read_file(header, flags, Piece(number, at, size, None))
            elif kind == _END:
                self.wants_more = bool(flags & 1)
                if flags & 8:
                    place = 11 if flags & 2 else 7
                    said = int.from_bytes(header[place : place + 2], "little")
                    if said != number:
                        raise RarFault(f"its volume {number + 1} is really volume {said + 1} of a set")
                return
            at += size
        # What is older than the third generation has no end block, but an archive of nothing is none.
        if at > volume.size or not self.members:
            raise RarFault(f"volume {number + 1} breaks off")

    def _header(self, volume: Source, at: int, *, is_locked: bool) -> tuple[bytes, int]:
        """One header, checked; and where its data begins."""
        if is_locked:
            assert self._password is not None, "a locked header is read only with a password"
            from Cryptodome.Cipher import AES

            key, start = Rar4Cipher(volume.read_at(at, 8), self._harms_long).cipher(self._password)
            at += 8
            first = volume.read_at(at, AES_BLOCK)
            if len(first) != AES_BLOCK:
                raise RarFault(f"a locked header at byte {at} is cut off")
            size = int.from_bytes(AES.new(key, AES.MODE_CBC, start).decrypt(first)[5:7], "little")
            padded = -(-size // AES_BLOCK) * AES_BLOCK
            locked = volume.read_at(at, padded)
            if size < _HEAD or len(locked) != padded:
                raise WrongKey
            header = AES.new(key, AES.MODE_CBC, start).decrypt(locked)[:size]
        else:
            size = padded = int.from_bytes(volume.read_at(at + 5, 2), "little")
            header = volume.read_at(at, size)
        if size < _HEAD or len(header) != size:
            raise RarFault(f"a header at byte {at} is cut off")
        covered = header[2:] if is_locked else header[2 : _covered(header)]
        if header[2] not in _OLD_BLOCKS and zlib.crc32(covered) & 0xFFFF != int.from_bytes(header[:2], "little"):
            raise WrongKey if is_locked else RarFault(f"the header at byte {at} does not match its checksum")
        return header, at + padded

    def _read_file(self, header: bytes, flags: int, piece: Piece) -> None:
        if len(header) < _HEAD + _FIELDS.size:
            raise RarFault("a file's header is cut off")
        (_, size, host, checksum, dos_time, version, method, name_size, attributes) = _FIELDS.unpack_from(header, _HEAD)
        at = _HEAD + _FIELDS.size
        if flags & _LARGE:
            size += int.from_bytes(header[at + 4 : at + 8], "little") << 32
            at += 8
        raw = header[at : at + name_size]
        at += name_size
        salt = header[at : at + 8] if flags & _SALT else b""
        at += len(salt)
        name, unsaid = _name(raw, is_unicode=bool(flags & _UNICODE))
        member = RarMember(
            name.replace("\\", "/"), unsaid, size=size, checksum=checksum, method=method, version=version
        )
        member.modified = _time(dos_time, header[at:] if flags & _TIMES else b"")
        member.is_stored, member.is_solid = method == 0x30, bool(flags & _SOLID)
        member.mode = attributes if host == _UNIX else 0
        if version < _SECOND:
            # The first generation says it once for the whole archive, and its window has no size.
            member.is_solid = self.is_solid and bool(self.members)
            flags = flags & ~_DIRECTORY | (_DIRECTORY if host == _DOS and attributes & 0x10 else 0)
        if flags & _DIRECTORY == _DIRECTORY:
            member.kind, member.size = EntryKind.DIRECTORY, 0
        elif host == _UNIX and stat.S_ISLNK(attributes):
            member.kind = EntryKind.LINK
        elif host == _UNIX and stat.S_IFMT(attributes) not in (0, stat.S_IFREG):
            member.refusal = "it is a device, pipe or socket"
        if flags & _LOCKED:
            member.cipher = self._cipher(version, salt)
        if version > _LATEST and not member.is_stored:
            member.refusal = f"it is packed by a method that is not known ({version})"
        self._enter(member, flags, piece)

    def _cipher(self, version: int, salt: bytes) -> Cipher:
        return Rar4Cipher(salt, self._harms_long) if version >= _FIRST_WITH_AES else OldCipher(version)

    def _enter(self, member: RarMember, flags: int, piece: Piece) -> None:
        whole = self._open
        if flags & _BEFORE:
            if not whole or whole.name != member.name:
                raise RarFault(f"{member.name} continues from a volume that is not the one before it")
            self._open = None
        elif whole:
            raise RarFault(f"{whole.name} does not continue in volume {piece.volume + 1}")
        else:
            whole = member
            member.is_old = bool(flags & _VERSIONED)
            self.members.append(member)
        continues = bool(flags & _AFTER)
        whole.pieces.append(Piece(piece.volume, piece.offset, piece.size, member.checksum if continues else None))
        if continues:
            self._open = whole
        else:
            whole.checksum = member.checksum


def _covered(header: bytes) -> int:
    """Where what a header's checksum covers ends: comments that are embedded in old headers are outside."""
    if header[2] == _MAIN:
        return _MAIN_SIZE
    flags = int.from_bytes(header[3:5], "little")
    if header[2] != _FILE or not flags & _COMMENT or len(header) < _HEAD + _FIELDS.size:
        return len(header)
    name_size = int.from_bytes(header[26:28], "little")
    return _HEAD + _FIELDS.size + name_size + (8 if flags & _LARGE else 0) + (8 if flags & _SALT else 0)


def _name(raw: bytes, *, is_unicode: bool) -> tuple[str, bytes]:
    """The name, and its bytes where their encoding is not said."""
    if not is_unicode:
        return raw.decode("latin-1"), b"" if raw.isascii() else raw
    plain, separator, packed = raw.partition(b"\0")
    if not separator:
        return raw.decode("utf-8", "replace"), b""
    return _unpacked_name(plain, packed), b""


def _unpacked_name(plain: bytes, packed: bytes) -> str:
    """A Unicode name: two-bit codes say for each character what differs from the plain name."""
    out: list[int] = []
    at, high, flags, left = 1, packed[0] if packed else 0, 0, 0
    try:
        while at < len(packed):
            if not left:
                flags, left = packed[at], 8
                at += 1
            left -= 2
            code = flags >> left & 3
            if code < 2:
                out.append(packed[at] | (high << 8 if code else 0))
                at += 1
            elif code == 2:
                out.append(packed[at] | packed[at + 1] << 8)
                at += 2
            else:
                count = packed[at]
                at += 1
                shift, top = 0, 0
                if count & 0x80:
                    shift, top = packed[at], high << 8
                    at += 1
                for _ in range((count & 0x7F) + 2):
                    out.append((plain[len(out)] + shift & 0xFF) | top)
    except IndexError:
        raise RarFault("a file's name is cut off") from None
    return b"".join(unit.to_bytes(2, "little") for unit in out).decode("utf-16-le", "replace")


def _time(dos_time: int, times: bytes) -> int | None:
    """Nanoseconds since 1970 of a local DOS time, made exact by the extended times where they follow."""
    whole = of_dos(dos_time)
    if whole is None or len(times) < 2:
        return whole
    nibble = int.from_bytes(times[:2], "little") >> 12
    if not nibble & 8:
        return whole
    fraction = 0
    for byte in times[2 : 2 + (nibble & 3)]:
        fraction = fraction >> 8 | byte << 16
    return whole + bool(nibble & 4) * 1_000_000_000 + fraction * 100


# --- the stream for libarchive -------------------------------------------------------------------------------


def _block(kind: int, flags: int, body: bytes) -> bytes:
    covered = struct.pack("<BHH", kind, flags, _HEAD + len(body)) + body
    return struct.pack("<H", zlib.crc32(covered) & 0xFFFF) + covered


def stream_head() -> bytes:
    """The signature and main header of a plain single volume."""
    return MARK + _block(_MAIN, 0, bytes(6))


def quiet_start(member: RarMember) -> bytes:
    """What stands before a member's packed bytes in the stream."""
    return _QUIET * 2 if member.size > _NEEDS_QUIET else b""


def stream_member(number: int, member: RarMember, packed: int) -> bytes:
    """The header of one compressed member called by its number; `packed` plain bytes must follow."""
    name = str(number).encode()
    fields = _FIELDS.pack(
        packed & 0xFFFFFFFF, member.size & 0xFFFFFFFF, _DOS, member.checksum or 0, 0x21 << 16, 29, member.method,
        len(name), 0x20,
    )  # fmt: skip
    large = struct.pack("<2L", packed >> 32, member.size >> 32)
    return _block(_FILE, _LONG | _LARGE, fields + large + name)


def stream_end() -> bytes:
    """The end header."""
    return _block(_END, 0x4000, b"")
