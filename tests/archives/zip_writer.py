"""A writer of zips that no common library writes: both ciphers, parts, raw names, records that lie."""

import hashlib
import hmac
import struct
import zlib
from collections.abc import Sequence
from dataclasses import dataclass

from Cryptodome.Cipher import AES
from Cryptodome.Util import Counter

from usufruct.archives.zip.ciphers import ClassicCipher

STORED, DEFLATE, AES_METHOD = 0, 8, 99


@dataclass(frozen=True)
class Item:
    """One entry."""

    name: bytes
    content: bytes = b""
    password: str = ""
    key_bytes: int = 0
    """0: the classic cipher; 16, 24, 32: AES."""
    extra: bytes = b""
    flags: int = 0
    mode: int = 0
    system: int = 0
    """Who made it: 0 DOS, 3 Unix."""


def zip_of(items: Sequence[Item], *, part: int = 0, comment: bytes = b"") -> list[bytes]:
    """The bytes of a zip, in parts of at most `part` bytes (its first four bytes mark the split) or in one."""
    body = bytearray(b"PK\x07\x08" if part else b"")
    places = []
    directory = bytearray()
    for item in items:
        fields, extra, data = _packed(item)
        local = struct.pack("<4s5H3L2H", b"PK\x03\x04", 20, *fields, len(item.name), len(extra)) + item.name + extra
        if part and len(body) % part + len(local) > part:
            body += bytes(part - len(body) % part)  # a header is never cut
        places.append(len(body))
        body += local + data
    start = len(body)
    for item, place in zip(items, places, strict=True):
        fields, extra, _ = _packed(item)
        disk, offset = divmod(place, part) if part else (0, place)
        directory += struct.pack(
            "<4s2H4H3L5H2L", b"PK\x01\x02", 20 | item.system << 8, 20, *fields,
            len(item.name), len(extra), 0, disk, 0, item.mode << 16, offset,
        ) + item.name + extra  # fmt: skip
    last, offset = divmod(start, part) if part else (0, start)
    count = len(items)
    disk = (start + len(directory)) // part if part else 0
    end = (
        struct.pack("<4s4H2LH", b"PK\x05\x06", disk, last, count, count, len(directory), offset, len(comment)) + comment
    )
    whole = bytes(body + directory + end)
    return [whole[at : at + part] for at in range(0, disk * part, part)] + [whole[disk * part :]] if part else [whole]


def _packed(item: Item) -> tuple[tuple[int, ...], bytes, bytes]:
    """Flags, method, time, date, checksum, sizes; the extra field; the packed bytes."""
    crc = zlib.crc32(item.content)
    data, extra, method, flags = item.content, item.extra, STORED, item.flags
    if item.password and item.key_bytes:
        data, method, flags = _aes(item, data), AES_METHOD, flags | 1
        extra += struct.pack("<HHH2sBH", 0x9901, 7, 2, b"AE", item.key_bytes // 8 - 1, STORED)
        crc = 0
    elif item.password:
        data, flags = _classic(item.password, bytes(11) + bytes([crc >> 24]) + data), flags | 1
    return (flags, method, 0x6000, 0x5A21, crc, len(data), len(item.content)), extra, data


def _classic(password: str, plain: bytes) -> bytes:
    """The classic cipher is its own pad: what it makes of a byte depends on the plain bytes before it."""
    cipher = ClassicCipher(password.encode())
    out = bytearray()
    for byte in plain:
        keys = cipher._keys
        pad = cipher.decrypt(b"\0")[0]
        cipher._keys = keys
        out.append(byte ^ pad)
        cipher._stir(bytes([byte]))
    return bytes(out)


def _aes(item: Item, plain: bytes) -> bytes:
    size = item.key_bytes
    salt = bytes(range(size // 2))
    made = hashlib.pbkdf2_hmac("sha1", item.password.encode(), salt, 1000, 2 * size + 2)
    counter = Counter.new(128, little_endian=True, initial_value=1)
    data = AES.new(made[:size], AES.MODE_CTR, counter=counter).encrypt(plain)
    return salt + made[2 * size :] + data + hmac.digest(made[size : 2 * size], data, "sha1")[:10]
