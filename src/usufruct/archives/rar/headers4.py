"""The headers of RAR 1.5 to 4, and the plain stream of one member for libarchive.

Source: libarchive (archive_read_support_format_rar.c, BSD licence; see LICENSES/).
"""

import stat
import struct
import zlib
from typing import NamedTuple

from usufruct.archives.allowance import Allowance
from usufruct.archives.rar.ciphers import LONGEST_PASSWORD
from usufruct.archives.rar.common import (
    AES_BLOCK,
    HeaderLocked,
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
"""Kinds of a block."""
_IS_VOLUME, _HAS_COMMENT, _IS_SOLID, _HIDES_NAMES = 1, 2, 8, 0x80
"""Flags of the main header."""
_BEFORE, _AFTER, _IS_LOCKED, _HAS_FILE_COMMENT, _LEANS, _DIRECTORY = 1, 2, 4, 8, 0x10, 0xE0
_IS_LARGE, _IS_UNICODE, _HAS_SALT, _IS_OLD_VERSION, _HAS_TIMES = 0x100, 0x200, 0x400, 0x800, 0x1000
"""Flags of a file's header."""
_HAS_DATA = 0x8000
"""Flag of other blocks: a size and data follow."""
_MORE, _SAYS_SUM, _SAYS_NUMBER = 1, 2, 8
"""Flags of the end block."""
_BLOCK = struct.Struct("<HBHH")
_FIELDS = struct.Struct("<LLBLLBBHL")
_MAIN_SIZE = 13
_STORED = 0x30
"""The method that packs nothing; the others count on from it."""
THIRD = 29
"""Version from which on a member is packed and locked as RAR 3 does it."""
_UNIX = 3
"""Number of the system that made the header."""
_SALT = 8
"""Bytes."""
_UNKNOWN_SIZES = (0xFFFF_FFFF, 0xFFFF_FFFF_FFFF_FFFF)
"""What a header says of a file whose size was not known when it was written."""


class _Block(NamedTuple):
    kind: int
    flags: int
    fields: bytes
    """What follows the first seven bytes."""
    checksum: int
    at: int
    """Where the data begins."""


class Rar4Reader:
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
        self.wants_more = False
        """The last volume says that another follows."""
        self._password = password
        self._fits = False
        """A locked header matched its checksum, so the password is right and what does not match is damage."""
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
        if self._open:
            # Before RAR 3 volumes have no end block: the last file says whether another follows.
            self.wants_more = True

    def _read_volume(self, number: int, volume: Source) -> None:
        if volume.read_at(0, len(MARK)) != MARK:
            raise RarFault(f"volume {number + 1} is no RAR of the same generation")
        at, hides_names = len(MARK), False
        self.wants_more = False
        while at < volume.size:
            block = self._block(volume, at, hides_names=hides_names)
            size = 0
            if block.kind == _MAIN:
                hides_names = self._read_main(block)
            elif block.kind in (_FILE, _SERVICE):
                size = self._read_file(block, number)
            elif block.kind == _END:
                self._read_end(block, number)
                self.end = block.at
                return
            elif block.flags & _HAS_DATA:
                size = int.from_bytes(block.fields[:4], "little")
            self.end = at = block.at + size
            if at > volume.size:
                raise RarFault(f"volume {number + 1} breaks off")

    def _block(self, volume: Source, at: int, *, hides_names: bool) -> _Block:
        """Return the deciphered block at an offset; blocks that may contain comments are not checked yet."""
        start = at
        if hides_names:
            start += _SALT
            head = self._deciphered(volume, at, AES_BLOCK)
        else:
            head = volume.read_at(at, _BLOCK.size)
        if len(head) < _BLOCK.size:
            raise RarFault(f"a header at byte {at} is incomplete")
        checksum, kind, flags, size = _BLOCK.unpack_from(head)
        padded = -(-size // AES_BLOCK) * AES_BLOCK if hides_names else size
        whole = self._deciphered(volume, at, padded)[:size] if hides_names else volume.read_at(at, size)
        if size < _BLOCK.size or len(whole) < size:
            raise self._fault(f"a header at byte {at} is incomplete or has an impossible size", hides_names)
        block = _Block(kind, flags, whole[_BLOCK.size :], checksum, start + padded)
        has_comment = (kind == _MAIN and flags & _HAS_COMMENT) or (kind == _FILE and flags & _HAS_FILE_COMMENT)
        if kind not in (_MAIN, _FILE, _SERVICE, _END) and flags & _HAS_DATA:
            # Old blocks besides files; the checksums of some include their data. None of it is needed.
            has_comment = True
        if not has_comment and zlib.crc32(whole[2:]) & 0xFFFF != checksum:
            raise self._fault(f"the header at byte {at} does not match its checksum", hides_names)
        self._fits = hides_names
        return block

    def _fault(self, what: str, hides_names: bool) -> Exception:
        return WrongKey() if hides_names and not self._fits else RarFault(what)

    def _deciphered(self, volume: Source, at: int, count: int) -> bytes:
        """Return the bytes of a locked header, which begins with its salt."""
        from Cryptodome.Cipher import AES

        assert self._password is not None, "a locked header is read only with a password"
        salt, data = volume.read_at(at, _SALT), volume.read_at(at + _SALT, count)
        # An incomplete header is shorter than its stated size.
        data = data[: len(data) // AES_BLOCK * AES_BLOCK]
        key, before = Rar4Cipher(salt).cipher(self._password)
        return AES.new(key, AES.MODE_CBC, before).decrypt(data)

    def _read_main(self, block: _Block) -> bool:
        """Read the main header; returns whether the following headers are locked."""
        # Before RAR 3 it may contain a comment, which is not part of its checksum.
        covered = block.fields[: _MAIN_SIZE - _BLOCK.size] if block.flags & _HAS_COMMENT else block.fields
        _check(block, covered)
        self.is_solid = self.is_solid or bool(block.flags & _IS_SOLID)
        if not block.flags & _HIDES_NAMES:
            return False
        if self._password is None:
            raise HeaderLocked
        if len(self._password) > LONGEST_PASSWORD:
            raise WrongKey
        return True

    def _read_end(self, block: _Block, number: int) -> None:
        self.wants_more = bool(block.flags & _MORE)
        if block.flags & _SAYS_NUMBER:
            at = 4 if block.flags & _SAYS_SUM else 0
            said = int.from_bytes(block.fields[at : at + 2], "little")
            if said != number:
                raise RarFault(f"its volume {number + 1} is really volume {said + 1} of a set")

    def _read_file(self, block: _Block, volume: int) -> int:
        """Read the header of a file or service block; returns the size of the data after it."""
        fields, flags = block.fields, block.flags
        if len(fields) < _FIELDS.size + 8 * bool(flags & _IS_LARGE):
            raise RarFault("a file's header is too short")
        packed: int
        size: int
        packed, size, system, checksum, time, version, method, name_size, attributes = _FIELDS.unpack_from(fields)
        at = _FIELDS.size
        if flags & _IS_LARGE:
            packed += int.from_bytes(fields[at : at + 4], "little") << 32
            size += int.from_bytes(fields[at + 4 : at + 8], "little") << 32
            at += 8
        if block.kind == _SERVICE:
            return packed
        name, raw, is_old = _name(fields[at : at + name_size], flags)
        at += name_size
        salt = fields[at : at + _SALT] if flags & _HAS_SALT else b""
        at += len(salt)
        if at > len(fields):
            raise RarFault("a file's header is too short")
        modified = of_dos(time)
        if flags & _HAS_TIMES:
            modified, at = _finer_time(fields, at, modified)
        if flags & _HAS_FILE_COMMENT:
            _check(block, fields[:at])
        member = RarMember(name, raw, size=size, modified=modified, checksum=checksum, is_old=is_old)
        member.version, member.method = version, method - _STORED
        member.is_stored, member.is_solid = method == _STORED, bool(flags & _LEANS)
        member.mode = attributes if system == _UNIX else 0
        if flags & _DIRECTORY == _DIRECTORY or _is_directory(system, attributes):
            member.kind, member.size = EntryKind.DIRECTORY, 0
        elif stat.S_ISLNK(member.mode):
            member.kind = EntryKind.LINK
        elif stat.S_IFMT(member.mode) not in (0, stat.S_IFREG, stat.S_IFDIR):
            member.refusal = "it is a device, pipe or socket"
        if size in _UNKNOWN_SIZES:
            member.refusal = "its size is not known before its end"
        elif version < THIRD and (flags & _IS_LOCKED or not member.is_stored):
            how = "locked" if flags & _IS_LOCKED else "packed"
            member.refusal = f"it is {how} as RAR {version / 10:.1f} did it, which is no longer read"
        elif flags & _IS_LOCKED:
            member.cipher = Rar4Cipher(salt)
        self._enter(member, flags, Piece(volume, block.at, packed, None))
        return packed

    def _enter(self, member: RarMember, flags: int, piece: Piece) -> None:
        whole, self._open = self._open, None
        if flags & _BEFORE:
            if not whole and not piece.volume and not self.members:
                raise VolumeMissing("it begins in a volume that is not here")
            if not whole or (whole.name, whole.raw, whole.size) != (member.name, member.raw, member.size):
                raise RarFault(f"{_said(member)} continues from a volume that is not the one before it")
        elif whole:
            raise RarFault(f"{_said(whole)} does not continue in volume {piece.volume + 1}")
        else:
            whole = member
            self._allowance.may_enter(len(self.members) + 1)
            self.members.append(member)
        # All parts but the last state the checksum of their packed bytes; the last states the whole file's.
        sum_of_part = member.checksum if flags & _AFTER and not member.cipher else None
        whole.pieces.append(Piece(piece.volume, piece.offset, piece.size, sum_of_part))
        if flags & _AFTER:
            self._open = whole
        else:
            whole.checksum = member.checksum


def _is_directory(system: int, attributes: int) -> bool:
    return stat.S_ISDIR(attributes) if system == _UNIX else bool(attributes & stat.FILE_ATTRIBUTE_DIRECTORY)


def _check(block: _Block, covered: bytes) -> None:
    """Raise RarFault unless a block's checksum matches these fields."""
    start = struct.pack("<BHH", block.kind, block.flags, _BLOCK.size + len(block.fields))
    if zlib.crc32(start + covered) & 0xFFFF != block.checksum:
        raise RarFault(f"a header before byte {block.at} does not match its checksum")


def _said(member: RarMember) -> str:
    return member.name or member.raw.decode("ascii", "replace")


def _name(field: bytes, flags: int) -> tuple[str, bytes, bool]:
    """Return the name as text, or as bytes if its encoding is not stated; and whether it is an older version."""
    if not flags & _IS_UNICODE:
        name, is_old = "", bool(flags & _IS_OLD_VERSION)
        # An older version has its number after the name.
        return name, field.rpartition(b";")[0] if is_old and b";" in field else field, is_old
    plain, ended, packed = field.partition(b"\0")
    name = _unfolded(plain, packed) if ended else field.decode("utf-8", "replace")
    is_old = bool(flags & _IS_OLD_VERSION)
    return (
        name.replace("\\", "/").rpartition(";")[0] if is_old and ";" in name else name.replace("\\", "/"),
        b"",
        is_old,
    )


def _unfolded(plain: bytes, packed: bytes) -> str:
    """Return a UTF-16 name that is packed relative to its plain bytes: two bits for each character say how."""
    out = bytearray()
    if not packed:
        return plain.decode("latin-1")
    high, at, left, flags = packed[0], 1, 0, 0
    longest = 4 * len(plain) + 2 * len(packed)

    def byte() -> int:
        nonlocal at
        at += 1
        return packed[at - 1] if at <= len(packed) else 0

    while at < len(packed) and len(out) < longest:
        if not left:
            flags, left = byte(), 8
            if at >= len(packed):
                break
        left -= 2
        how = flags >> left & 3
        if how < 2:
            out += bytes((byte(), high if how else 0))
        elif how == 2:
            out += bytes((byte(), byte()))
        else:
            count = byte()
            change, above = (byte(), high) if count & 0x80 else (0, 0)
            for _ in range((count & 0x7F) + 2):
                position = len(out) // 2
                out += bytes((((plain[position] if position < len(plain) else 0) + change) & 0xFF, above))
    return out.decode("utf-16-le", "replace")


def _finer_time(fields: bytes, at: int, modified: int | None) -> tuple[int | None, int]:
    """Return the modification time with its fraction of a second, and where the times end."""
    flags = int.from_bytes(fields[at : at + 2], "little")
    at += 2
    for number in range(3, -1, -1):
        how = flags >> 4 * number & 0xF
        if not how & 8:
            continue
        is_of_change = number == 3
        if not is_of_change:
            at += 4
        count = how & 3
        # Up to three bytes, the highest of them last, in units of 100 ns.
        ticks = int.from_bytes(fields[at : at + count].rjust(3, b"\0"), "little") if count else 0
        at += count
        if is_of_change and modified is not None:
            modified += ticks * 100 + (1_000_000_000 if how & 4 else 0)
    return modified, at


# --- the stream for libarchive -------------------------------------------------------------------------------


def _written(kind: int, flags: int, fields: bytes) -> bytes:
    rest = struct.pack("<BHH", kind, flags, _BLOCK.size + len(fields)) + fields
    return struct.pack("<H", zlib.crc32(rest) & 0xFFFF) + rest


def stream_head() -> bytes:
    """Return the signature and main header of a plain single volume."""
    return MARK + _written(_MAIN, 0, bytes(_MAIN_SIZE - _BLOCK.size))


def stream_member(member: RarMember, packed: int) -> bytes:
    """Return the header of the one compressed member; `packed` plain bytes must follow."""
    low = 0xFFFF_FFFF
    fields = _FIELDS.pack(
        packed & low, member.size & low, _UNIX, member.checksum or 0, 0, member.version, _STORED + member.method, 1,
        stat.S_IFREG | 0o644,
    )  # fmt: skip
    return _written(_FILE, _HAS_DATA | _IS_LARGE, fields + struct.pack("<LL", packed >> 32, member.size >> 32) + b"0")


def stream_end() -> bytes:
    """Return the end block."""
    return _written(_END, 0x4000, b"")
