"""Sound archives of every kind, and what chance makes of them: bytes, and fields of headers, their checksums right."""

import bz2
import functools
import gzip
import io
import lzma
import random
import struct
import zlib
from collections.abc import Callable, Iterator, Set
from typing import NamedTuple

import py7zr
from blake3 import blake3

from tests.archives.old_writers import compressed, cpio_of, lzipped, rpm_of, xar_of
from tests.archives.rar4_writer import Packed, archive4
from tests.archives.rar_packer import packed3, tokens_of
from tests.archives.rar_writer import Member, RarWriter
from tests.archives.text_and_disk import fat_of, uu_of
from tests.archives.zip_writer import Item, zip_of
from tests.fuzzing.bombs import RECORD, pax_field, seven_of, seven_of_header
from tests.support import tar_bytes, zip_bytes
from usufruct.archives.archive_library import library_version
from usufruct.archives.streams.zstd import zstd

PASSWORD = "moth"
FILES = {
    "a.txt": b"hello" * 30,
    "Images/b.bin": bytes(range(256)) * 9,
    "\u00fcber/c.txt": b"umlaut",
    "link": b"->a.txt",
    "empty/": b"",
}
PLAIN = {name: content for name, content in FILES.items() if not content.startswith(b"->") and not name.endswith("/")}
_MEMBERS = [Member(name, content) for name, content in PLAIN.items()]
_ITEMS = [Item(name.encode(), content, PASSWORD, flags=0x800) for name, content in PLAIN.items()]
_AES_ITEMS = [Item(name.encode(), content, PASSWORD, 32, flags=0x800) for name, content in PLAIN.items()]
_NUMBERS = (0, 1, 2, 7, 0x7F, 0x80, 0xFF, 0xFFFF, 1 << 31, 1 << 40, *((1 << n) - 1 for n in (31, 32, 63, 64)))
Chance = random.Random


def _seven(password: str | None = None, *, packs_header: bool = True, hides_names: bool = False) -> bytes:
    buffer = io.BytesIO()
    with py7zr.SevenZipFile(buffer, "w", password=password, header_encryption=hides_names) as archive:
        archive.set_encoded_header_mode(packs_header)
        for name, content in PLAIN.items():
            archive.writestr(content, name)
    return buffer.getvalue()


def _by_library(kind: str) -> bytes:
    import libarchive

    buffer = io.BytesIO()
    with libarchive.custom_writer(lambda data: buffer.write(data) or len(data), kind) as archive:
        for name, content in PLAIN.items():
            archive.add_file_from_memory(name, len(content), content)
    return buffer.getvalue()


def _tar() -> bytes:
    fields = pax_field(b"path", b"long/name") + pax_field(b"mtime", b"1700000000.5")
    head = bytearray(tar_bytes({"x": fields})[: RECORD * 2])
    head[156:157] = b"x"
    return _summed(head) + tar_bytes({**FILES, "hard": "=>a.txt"})


_OLD_TEXT = b"the moth at the lantern " * 20 + bytes(range(200))
OLD = (_OLD_TEXT, b"owl" * 9, b"stored")
"""What the archives of older packers hold."""

_FOR_CPIO = [(name, content, 0o100644, at % 2 + 1) for at, (name, content) in enumerate(PLAIN.items())]

SEEDS: dict[str, Callable[[], bytes]] = {
    "zip": lambda: zip_bytes(FILES),
    "zip, classic cipher": lambda: zip_of(_ITEMS)[0],
    "zip, AES": lambda: zip_of(_AES_ITEMS)[0],
    "zip, inner": lambda: zip_bytes({"in.zip": zip_bytes(FILES), "in.tar.gz": gzip.compress(_tar(), mtime=0)}),
    "rar": lambda: RarWriter().volumes(_MEMBERS)[0],
    "rar, locked": lambda: RarWriter(PASSWORD).volumes(_MEMBERS)[0],
    "rar, hidden": lambda: RarWriter(PASSWORD, hides_names=True).volumes(_MEMBERS)[0],
    "7z": _seven,
    "7z, plain header": lambda: _seven(packs_header=False),
    "7z, locked": lambda: _seven(PASSWORD),
    "7z, hidden": lambda: _seven(PASSWORD, hides_names=True),
    "tar": _tar,
    "tar.gz": lambda: gzip.compress(_tar(), mtime=0),
    "tar.bz2": lambda: bz2.compress(_tar()),
    "tar.xz": lambda: lzma.compress(_tar()),
    "tar.zst": lambda: zstd.compress(_tar(), options={zstd.CompressionParameter.checksum_flag: 1}),
    "cpio": lambda: cpio_of(_FOR_CPIO, "summed"),
    "cpio, little": lambda: cpio_of(_FOR_CPIO, "little"),
    "rpm": lambda: rpm_of(gzip.compress(cpio_of(_FOR_CPIO, "octal"), mtime=0)),
    "rar 4, solid": lambda: archive4(
        [
            Packed("a", _OLD_TEXT, packed3([tokens_of(_OLD_TEXT)])),
            Packed("b", b"owl" * 9, packed3([[*b"owl" * 9]]), is_solid=True),
        ],
        is_solid=True,
    )[0],
    "rar 4, hidden": lambda: archive4(
        [Packed("a", _OLD_TEXT, packed3([tokens_of(_OLD_TEXT)]))], password=PASSWORD, hides_names=True
    )[0],
    "xar": lambda: xar_of(PLAIN),
    "tar.lz": lambda: lzipped(_tar()),
    "tar.Z": lambda: compressed(_tar()),
    "fat": lambda: fat_of(PLAIN),
    "uu": lambda: uu_of("a.txt", PLAIN["a.txt"]),
    "gz": lambda: gzip.compress(PLAIN["a.txt"], mtime=0),
    "lzma": lambda: lzma.compress(PLAIN["a.txt"], lzma.FORMAT_ALONE),
}
if library_version():
    SEEDS |= {kind: lambda kind=kind: _by_library(kind) for kind in ("iso9660", "ar_bsd")}  # type: ignore[misc]


@functools.cache
def seed_of(kind: str) -> bytes:
    """A sound archive; some hold the time they were made at, so it is made once."""
    return SEEDS[kind]()


CHECKED = [kind for kind in SEEDS if kind.startswith(("zip", "rar", "7z")) and kind != "zip, inner"]
"""Formats that state a checksum of each entry."""
RIGHT = {blake3(content).digest() for content in (*PLAIN.values(), FILES["link"].removeprefix(b"->"), b"", *OLD)}
"""Digests of all content that the sound archives have."""


class Mutant(NamedTuple):
    """What chance made of a sound archive."""

    content: bytes
    right: Set[bytes] | None
    """Digests of all that may be read in it; None where its checksums need not be those of what was packed."""


def mutant(kind: str, chance: Chance) -> Mutant:
    """Fields of a sound archive changed where they are known, else its bytes."""
    seed = seed_of(kind)
    by_field = _BY_FIELD.get(kind)
    if by_field and chance.random() < 0.6:
        return Mutant(by_field(seed, chance), None)
    return Mutant(by_bytes(seed, chance), RIGHT if kind in CHECKED else None)


def by_bytes(content: bytes, chance: Chance) -> bytes:
    """Bytes changed, taken out and put in; now and then it is cut off."""
    out = bytearray(content)
    for _ in range(chance.randint(1, 4)):
        at = chance.randrange(len(out))
        match chance.randrange(4):
            case 0:
                out[at] = chance.randrange(256)
            case 1:
                out[at] ^= 1 << chance.randrange(8)
            case 2:
                del out[at : at + chance.randint(1, 9)]
            case 3:
                out[at:at] = chance.randbytes(chance.randint(1, 9))
    if chance.random() < 0.15:
        del out[chance.randrange(len(out)) :]
    return bytes(out)


def _number(chance: Chance, size: int) -> bytes:
    value = chance.choice((*_NUMBERS, chance.getrandbits(8 * size)))
    return (value & (1 << 8 * size) - 1).to_bytes(size, "little")


def _places(content: bytes, mark: bytes) -> list[int]:
    found, at = [], content.find(mark)
    while at >= 0:
        found.append(at)
        at = content.find(mark, at + 1)
    return found


_ZIP_FIELDS = {
    b"PK\x03\x04": ((4, 2), (6, 2), (8, 2), (10, 4), (14, 4), (18, 4), (22, 4), (26, 2), (28, 2)),
    b"PK\x01\x02": ((4, 2), (6, 2), (8, 2), (10, 2), (12, 4), (16, 4), (20, 4), (24, 4), (28, 2), (30, 2), (32, 2),
                    (34, 2), (38, 4), (42, 4), (46, 4)),
    b"PK\x05\x06": ((4, 2), (6, 2), (8, 2), (10, 2), (12, 4), (16, 4), (20, 2)),
}  # fmt: skip
"""Mark of a zip's records → offset and size of each of their fields."""


def zip_fields(content: bytes, chance: Chance) -> bytes:
    out = bytearray(content)
    for _ in range(chance.randint(1, 3)):
        mark = chance.choice(list(_ZIP_FIELDS))
        at = chance.choice(_places(content, mark))
        offset, size = chance.choice(_ZIP_FIELDS[mark])
        out[at + offset : at + offset + size] = _number(chance, size)
    return bytes(out)


_TAR_FIELDS = (
    (0, 100), (100, 8), (124, 12), (136, 12), (156, 1), (157, 100), (257, 8), (345, 155), (386, 24), (482, 13),
)  # fmt: skip
"""Offset and size."""
_TAR_KINDS = [bytes([kind]) for kind in b"LKxgSVDMNA01234567"]
_TAR_NAMES = [b"../x", b"/x", b"C:x", b"a/" * 40, b"\xff" * 60, b"a\0b", b"."]


def _summed(header: bytearray) -> bytes:
    header[148:156] = b" " * 8
    header[148:156] = b"%06o\0 " % sum(header[:RECORD])
    return bytes(header)


def _tar_value(chance: Chance, size: int) -> bytes:
    match chance.randrange(5):
        case 0:
            return chance.randbytes(size)
        case 1:
            return b"%0*o" % (size - 1, chance.choice(_NUMBERS) % 8 ** max(1, size - 1))
        case 2:
            return b"\x80" + _number(chance, 8)[::-1].rjust(size - 1, b"\0")[-(size - 1) :]
        case 3:
            return chance.choice(_TAR_KINDS)
        case _:
            return chance.choice(_TAR_NAMES)


def tar_fields(content: bytes, chance: Chance) -> bytes:
    out = bytearray(content)
    heads = [at for at in range(0, len(out) - RECORD, RECORD) if out[at + 257 : at + 262] == b"ustar"]
    for _ in range(chance.randint(1, 3)):
        at = chance.choice(heads)
        offset, size = chance.choice(_TAR_FIELDS)
        header = bytearray(out[at : at + RECORD])
        header[offset : offset + size] = _tar_value(chance, size)[:size].ljust(size, b"\0")
        out[at : at + RECORD] = _summed(header)
    return bytes(out)


def rar_fields(content: bytes, chance: Chance) -> bytes:
    """Bytes of one header behind its checksum, which is made right again."""
    blocks, at = [], 8
    while at + 7 < len(content):
        size = content[at + 4]  # every header here is shorter than 128 bytes
        blocks.append((at, size))
        body = _Numbers(content[at + 5 : at + 5 + size])
        _, flags = next(body), next(body)
        extra = next(body) if flags & 1 else 0
        at += 5 + size + (next(body) if flags & 2 else 0)
        del extra
    out = bytearray(content)
    at, size = chance.choice(blocks)
    for _ in range(chance.randint(1, 3)):
        out[at + 5 + chance.randrange(size)] = chance.choice((*range(8), 0x7F, 0x80, 0xFF, chance.randrange(256)))
    out[at : at + 4] = struct.pack("<L", zlib.crc32(out[at + 4 : at + 5 + size]))
    return bytes(out)


def _Numbers(data: bytes) -> Iterator[int]:  # noqa: N802 - read like a class where it is used
    value = shift = 0
    for byte in data:
        value |= (byte & 0x7F) << shift
        shift += 7
        if not byte & 0x80:
            yield value
            value = shift = 0


def seven_fields(content: bytes, chance: Chance) -> bytes:
    """Bytes of the plain header, its checksums made right; now and then packed again."""
    offset, size = struct.unpack_from("<QQ", content, 12)
    streams, header = content[32 : 32 + offset], bytearray(content[32 + offset : 32 + offset + size])
    for _ in range(chance.randint(1, 3)):
        at = chance.randrange(len(header))
        match chance.randrange(3):
            case 0:
                header[at] = chance.choice((*range(0x1A), 0x7F, 0x80, 0xFF))
            case 1:
                header[at : at + 1] = b"\xff" + _number(chance, 8)
            case 2:
                header[at:at] = chance.randbytes(chance.randint(1, 4))
    if chance.random() < 0.3:
        return seven_of_header([bytes(header)], streams)
    return seven_of(streams, bytes(header))


def _within(
    unpack: Callable[[bytes], bytes], change: Callable[[bytes, Chance], bytes], pack: Callable[[bytes], bytes]
) -> Callable[[bytes, Chance], bytes]:
    return lambda content, chance: pack(change(unpack(content), chance))


_BY_FIELD: dict[str, Callable[[bytes, Chance], bytes]] = {
    "zip": zip_fields,
    "zip, classic cipher": zip_fields,
    "zip, AES": zip_fields,
    "zip, inner": zip_fields,
    "rar": rar_fields,
    "7z, plain header": seven_fields,
    "tar": tar_fields,
    "tar.gz": _within(gzip.decompress, tar_fields, gzip.compress),
    "tar.bz2": _within(bz2.decompress, tar_fields, bz2.compress),
    "tar.xz": _within(lzma.decompress, tar_fields, lzma.compress),
}
