"""A writer of RAR 5 archives for tests: plain, locked, with hidden names, in volumes, links; stored, or as packed."""

import hashlib
import hmac
import io
import struct
import zlib
from collections.abc import Sequence
from dataclasses import dataclass

from Cryptodome.Cipher import AES

MARK = b"Rar!\x1a\x07\x01\x00"
_LG = 4
"""Binary logarithm of the key's rounds; real packers use 15."""
_MAIN, _FILE, _LOCK, _END = 1, 2, 4, 5
_EXTRA, _DATA, _BEFORE, _AFTER = 1, 2, 8, 0x10


@dataclass(frozen=True)
class Member:
    """One member of an archive to be written."""

    name: str
    content: bytes = b""
    is_directory: bool = False
    target: str = ""
    """Makes it a link: `2` Windows, `1` Unix, `4` hard link, `5` copy in `link_kind`."""
    link_kind: int = 1
    stated_size: int | None = None
    method: int = 0
    version: int = 0
    packed: bytes | None = None
    """The bytes that are written for the content, where it is packed."""
    is_solid: bool = False
    power: int = 0
    """Of two, over a dictionary of 128 KB."""
    more: int = 0
    """What the seventh generation says besides, from its 15th bit on."""
    digest: bytes = b""
    """BLAKE2sp of the content."""


def vint(number: int) -> bytes:
    out = bytearray()
    while number > 0x7F:
        out.append(number & 0x7F | 0x80)
        number >>= 7
    return bytes([*out, number])


class RarWriter:
    """Writes the volumes of one archive; `volumes()` gives their bytes."""

    def __init__(
        self, password: str = "", *, hides_names: bool = False, volume: int = 0, is_solid: bool = False
    ) -> None:
        self._password, self._hides, self._room, self._is_solid = password, hides_names, volume, is_solid
        self._salt, self._iv = b"salt-of-16-bytes", b"iv-has-16-bytes!"

    def volumes(self, members: Sequence[Member]) -> list[bytes]:
        self._done: list[bytes] = []
        self._begin()
        for member in members:
            self._write(member)
        self._finish(more=False)
        return self._done

    def _begin(self) -> None:
        self._out = io.BytesIO(MARK)
        self._out.seek(0, 2)
        self._start = self._out.tell()
        if self._hides:
            cipher = vint(0) + vint(1) + bytes([_LG]) + self._salt + self._check()
            self._block(_LOCK, 0, cipher, in_clear=True)
        number = len(self._done)
        flags = (1 | (2 if number else 0) if self._room else 0) | (4 if self._is_solid else 0)
        self._block(_MAIN, 0, vint(flags) + (vint(number) if number and self._room else b""))

    def _finish(self, *, more: bool) -> None:
        self._block(_END, 0, vint(1 if more else 0))
        self._done.append(self._out.getvalue())

    def _write(self, member: Member) -> None:
        data = member.content if member.packed is None else member.packed
        crc = zlib.crc32(member.content)
        extra = b""
        if self._password and data:
            data = self._cipher(self._iv).encrypt(data + bytes(-len(data) % 16))
            crc = self._tweaked(crc)
            record = vint(1) + vint(0) + vint(3) + bytes([_LG]) + self._salt + self._iv + self._check()
            extra += vint(len(record)) + record
        if member.digest:
            record = vint(2) + vint(0) + member.digest
            extra += vint(len(record)) + record
        if member.target:
            text = member.target.encode()
            record = vint(5) + vint(member.link_kind) + vint(0) + vint(len(text)) + text
            extra += vint(len(record)) + record
            crc = 0
        is_first = True
        while True:
            room = self._room - (self._out.tell() - self._start) if self._room else len(data)
            part, data = (data[: max(room, 1)], data[max(room, 1) :]) if data else (b"", b"")
            flags = (_EXTRA if extra else 0) | _DATA | (0 if is_first else _BEFORE) | (_AFTER if data else 0)
            self._file_block(member, flags, zlib.crc32(part) if data else crc, extra, part)
            if not data:
                return
            is_first = False
            self._finish(more=True)
            self._begin()

    def _file_block(self, member: Member, flags: int, crc: int, extra: bytes, part: bytes) -> None:
        size = len(member.content) if member.stated_size is None else member.stated_size
        name = member.name.encode("utf-8", "surrogateescape")
        fields = vint((1 if member.is_directory else 0) | 2 | 4) + vint(size) + vint(0o100644)
        fields += struct.pack("<LL", 1_700_000_000, crc) + self._packing(member) + vint(1)
        fields += vint(len(name)) + name
        sizes = (vint(len(extra)) if extra else b"") + vint(len(part))
        self._block(_FILE, flags, fields + extra, sizes)
        self._out.write(part)

    def _packing(self, member: Member) -> bytes:
        solid = 0x40 if member.is_solid else 0
        return vint(member.version | solid | member.method << 7 | member.power << 10 | member.more << 15)

    def _block(self, kind: int, flags: int, rest: bytes, sizes: bytes = b"", *, in_clear: bool = False) -> None:
        inner = vint(kind) + vint(flags) + sizes + rest
        sized = vint(len(inner)) + inner
        header = struct.pack("<L", zlib.crc32(sized)) + sized
        if self._hides and not in_clear:
            header = self._iv + self._cipher(self._iv).encrypt(header + bytes(-len(header) % 16))
        self._out.write(header)

    def _keys(self, rounds_more: int) -> bytes:
        return hashlib.pbkdf2_hmac("sha256", self._password.encode(), self._salt, (1 << _LG) + rounds_more, 32)

    def _cipher(self, iv: bytes) -> "AES.CbcMode":
        return AES.new(self._keys(0), AES.MODE_CBC, iv)

    def _check(self) -> bytes:
        folded = bytearray(8)
        for at, byte in enumerate(self._keys(32)):
            folded[at % 8] ^= byte
        return bytes(folded) + hashlib.sha256(folded).digest()[:4]

    def _tweaked(self, crc: int) -> int:
        digest = hmac.digest(self._keys(16), struct.pack("<L", crc), "sha256")
        out = 0
        for at in range(0, 32, 4):
            out ^= struct.unpack_from("<L", digest, at)[0]
        return out
