"""A writer of RAR 1.5 to 4 archives for tests: plain, locked, with hidden names, in volumes."""

import functools
import hashlib
import struct
import zlib
from collections.abc import Sequence
from dataclasses import dataclass

from Cryptodome.Cipher import AES

MARK = b"Rar!\x1a\x07\x00"
_SALT = b"8 bytes!"
_TIME = (2021 - 1980) << 25 | 4 << 21 | 17 << 16 | 13 << 11 | 30 << 5 | 4


@dataclass(frozen=True)
class Packed:
    """One member; `packed` are the bytes that are written for its content."""

    name: str
    content: bytes
    packed: bytes
    version: int = 29
    method: int = 0x33
    is_solid: bool = False
    flags: int = 0
    attributes: int = 0o100644
    stated_size: int | None = None
    name_bytes: bytes = b""
    """Instead of the name's own."""


@functools.cache
def _key(password: str) -> tuple[bytes, bytes]:
    """Round by round, as the format's notes tell it."""
    seed, digest, before = password.encode("utf-16-le") + _SALT, hashlib.sha1(), bytearray()
    for count in range(0x40000):
        digest.update(seed + count.to_bytes(3, "little"))
        if count % 0x4000 == 0:
            before.append(digest.copy().digest()[19])
    made = digest.digest()
    return b"".join(made[at : at + 4][::-1] for at in range(0, 16, 4)), bytes(before)


class _Writer:
    def __init__(self, *, is_solid: bool, volume: int, password: str, hides_names: bool) -> None:
        self.volumes: list[bytes] = []
        self._solid, self._room, self._hides = is_solid, volume, hides_names
        self._key = _key(password) if password else None
        self._begin()

    def _encrypted(self, data: bytes) -> bytes:
        assert self._key
        key, before = self._key
        return AES.new(key, AES.MODE_CBC, before).encrypt(data + bytes(-len(data) % 16))

    def _block(self, kind: int, flags: int, fields: bytes, *, in_clear: bool = False) -> None:
        rest = struct.pack("<BHH", kind, flags, 7 + len(fields)) + fields
        block = struct.pack("<H", zlib.crc32(rest) & 0xFFFF) + rest
        self._out += _SALT + self._encrypted(block) if self._hides and not in_clear else block

    def _begin(self) -> None:
        self._out = bytearray(MARK)
        flags = 8 * self._solid | 0x80 * self._hides
        if self._room:
            flags |= 0x11 | (0 if self.volumes else 0x100)
        self._block(0x73, flags, bytes(6), in_clear=True)

    def end(self, *, more: bool) -> None:
        self._block(0x7B, 0x4008 | more, struct.pack("<H", len(self.volumes)))
        self.volumes.append(bytes(self._out))

    def member(self, member: Packed) -> None:
        data, is_first = member.packed, True
        if self._key:
            data = self._encrypted(data)
        while True:
            room = max(1, self._room - len(self._out)) if self._room else len(data)
            part, data = data[:room], data[room:]
            self._file(member, part, is_first=is_first, more=bool(data))
            if not data:
                return
            is_first = False
            self.end(more=True)
            self._begin()

    def _file(self, member: Packed, part: bytes, *, is_first: bool, more: bool) -> None:
        name = member.name_bytes or member.name.encode("cp437")
        flags = member.flags | 0x8000 | (not is_first) | 2 * more | 0x10 * member.is_solid | 0x404 * bool(self._key)
        size = len(member.content) if member.stated_size is None else member.stated_size
        crc = zlib.crc32(part) if more else zlib.crc32(member.content)
        fields = struct.pack(
            "<LLBLLBBHL", len(part), size, 3, crc, _TIME, member.version, member.method, len(name), member.attributes
        )
        self._block(0x74, flags, fields + name + (_SALT if self._key else b""))
        self._out += part


def archive4(
    members: Sequence[Packed], *, is_solid: bool = False, volume: int = 0, password: str = "", hides_names: bool = False
) -> list[bytes]:
    """The volumes of one archive."""
    writer = _Writer(is_solid=is_solid, volume=volume, password=password, hides_names=hides_names)
    for member in members:
        writer.member(member)
    writer.end(more=False)
    return writer.volumes
