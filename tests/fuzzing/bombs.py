"""Small files that would take all of the memory, the disk or the day: each a few kilobytes to ten megabytes.

They are written by hand, field by field, because no packer makes them.
"""

import bz2
import gzip
import io
import lzma
import stat
import struct
import zipfile
import zlib
from collections.abc import Callable, Iterable, Iterator

from tests.archives.old_writers import lzipped, rpm_of
from tests.archives.rar_writer import Member, RarWriter
from tests.support import zip_bytes
from usufruct.archives.streams.zstd import zstd

MEGABYTE = 1 << 20
ZEROS = bytes(MEGABYTE)
RECORD = 512


# --- packing what is not kept ----------------------------------------------------------------------------------


def packed_by(kind: str, blocks: Iterable[bytes]) -> bytes:
    """Blocks, packed by `gz`, `bz2`, `xz`, `zst` or `lzma` as they come."""
    engine = {
        "gz": lambda: zlib.compressobj(6, zlib.DEFLATED, 31),
        "bz2": bz2.BZ2Compressor,
        "xz": lambda: lzma.LZMACompressor(preset=1),
        "zst": lambda: zstd.ZstdCompressor(),
        "lzma": lambda: lzma.LZMACompressor(lzma.FORMAT_ALONE, preset=1),
    }[kind]()
    return b"".join([*map(engine.compress, blocks), engine.flush()])


def _repeated(pieces: Iterable[bytes], times: int) -> Iterator[bytes]:
    """The same pieces over and over, which takes little time to pack."""
    block = b"".join(pieces)
    for _ in range(times):
        yield block


# --- tar ---------------------------------------------------------------------------------------------------------


def header(name: bytes, size: int = 0, kind: bytes = b"0", target: bytes = b"", rest: bytes = b"") -> bytes:
    """One tar header with its checksum; `rest` stands from byte 257 on."""
    stated = b"%011o\0" % size if size < 1 << 33 else b"\x80" + size.to_bytes(11, "big")
    block = bytearray(name[:100].ljust(100, b"\0") + b"0000644\0" + b"0000000\0" * 2 + stated + b"00000000000\0")
    block += b" " * 8 + kind + target[:100].ljust(100, b"\0") + (rest or b"ustar\x0000")
    block = block.ljust(RECORD, b"\0")
    block[148:156] = b"%06o\0 " % sum(block)
    return bytes(block)


def filled(content: bytes) -> bytes:
    """Content filled up to whole records."""
    return content + bytes(-len(content) % RECORD)


def pax(fields: dict[str, bytes], kind: bytes = b"x") -> bytes:
    """A pax header with its fields."""
    text = b"".join(pax_field(name.encode(), value) for name, value in fields.items())
    return header(b"pax", len(text), kind) + filled(text)


def pax_field(name: bytes, value: bytes) -> bytes:
    """One field, its length in front."""
    body = b" " + name + b"=" + value + b"\n"
    length = len(body)
    while len(b"%d" % length) + len(body) != length:
        length = len(b"%d" % length) + len(body)
    return b"%d" % length + body


def tar_of_members(member: Callable[[int], bytes], thousands: int) -> Iterator[bytes]:
    """A thousand members, again and again."""
    return _repeated(map(member, range(1000)), thousands)


def numbered(number: int) -> bytes:
    return header(b"%d" % number)


def tar_of_old_maps() -> Iterator[bytes]:
    """A sparse file whose map goes on for ever."""
    pieces = b"".join(b"%011o\0%011o\0" % (1, 0) for _ in range(4))
    sparse = bytearray(header(b"sparse", 0, b"S"))
    sparse[386:482], sparse[482], sparse[483:495] = pieces, 1, b"%011o\0" % 10
    sparse[148:156] = b" " * 8
    sparse[148:156] = b"%06o\0 " % sum(sparse)
    yield bytes(sparse)
    more = (b"%011o\0%011o\0" % (1, 0) * 21).ljust(504, b"\0") + b"\1" + bytes(7)
    for _ in range(2000):
        yield more * 1000


def tar_of_pax_maps() -> Iterator[bytes]:
    text = b"1,0," * 240_000 + b"1,0"
    for number in range(100):
        yield pax({"GNU.sparse.map": text, "GNU.sparse.size": b"10"}) + header(b"%d" % number)


def tar_of_listed_maps() -> Iterator[bytes]:
    """The map before the data, one number a line."""
    pairs = 250_000
    text = filled(b"%d\n" % pairs + b"1\n0\n" * pairs)
    for number in range(100):
        fields = {"GNU.sparse.major": b"1", "GNU.sparse.minor": b"0", "GNU.sparse.realsize": b"10"}
        yield pax(fields) + header(b"%d" % number, len(text)) + text


def tar_of_fields(kind: bytes = b"x") -> Iterator[bytes]:
    """Fields of pax headers that no member follows."""
    fields = b"".join(pax_field(b"%x" % one, b"") for one in range(90_000))
    return _repeated([header(b"pax", len(fields), kind) + filled(fields)], 50)


def tar_of_long_names() -> Iterator[bytes]:
    def member(number: int) -> bytes:
        name = b"%07d" % number + b"n" * 65_000
        return header(b"long", len(name), b"L") + filled(name) + header(b"short")

    return _repeated(map(member, range(100)), 60)


def tar_of_deep_paths() -> Iterator[bytes]:
    for number in range(1000):
        name = b"%07d/" % number + b"d/" * 30_000 + b"n"
        yield header(b"long", len(name), b"L") + filled(name) + header(b"short")


def tar_of_volume_headers() -> Iterator[bytes]:
    yield header(b"label", 10 << 30, b"V")
    for _ in range(3 << 10):
        yield ZEROS


def tar_of_sparse_files(count: int, size: int) -> bytes:
    """Files of `size` bytes of which nothing is stored."""
    made = []
    for number in range(count):
        sparse = bytearray(header(b"sparse%d" % number, 0, b"S"))
        sparse[483:495] = b"%011o\0" % size
        sparse[148:156] = b" " * 8
        sparse[148:156] = b"%06o\0 " % sum(sparse)
        made.append(bytes(sparse))
    return b"".join(made) + bytes(2 * RECORD)


def tar_of_hard_links(count: int) -> Iterator[bytes]:
    yield header(b"file", 100 << 20)
    for _ in range(100):
        yield ZEROS
    for number in range(count):
        yield header(b"link%d" % number, 0, b"1", b"file")
    yield bytes(2 * RECORD)


def tar_of_links(count: int) -> Iterator[bytes]:
    for number in range(count):
        target = b"%07d" % number + b"t" * 59_993
        yield header(b"long", len(target), b"K") + filled(target) + header(b"%d" % number, 0, b"2")


# --- zip ---------------------------------------------------------------------------------------------------------


def zip_of_names(names: Iterable[bytes], *, mode: int = 0) -> bytes:
    """A zip of empty files."""
    local, central = io.BytesIO(), io.BytesIO()
    count = 0
    for name in names:
        at = local.tell()
        local.write(struct.pack("<4s5H3L2H", b"PK\3\4", 20, 0, 0, 0, 0x21, 0, 0, 0, len(name), 0) + name)
        system = 3 if mode else 0
        central.write(
            struct.pack(
                "<4s4B4H3L5H2L", b"PK\1\2", 20, system, 20, 0, 0, 0, 0, 0x21, 0, 0, 0, len(name), 0, 0, 0, 0,
                mode << 16, at,
            )
            + name
        )  # fmt: skip
        count += 1
    start, directory = local.tell(), central.getvalue()
    end64 = struct.pack("<4sQ2H2L4Q", b"PK\6\6", 44, 45, 45, 0, 0, count, count, len(directory), start)
    place = struct.pack("<4sLQL", b"PK\6\7", 0, start + len(directory), 1)
    end = struct.pack(
        "<4s4H2LH", b"PK\5\6", 0, 0, min(count, 0xFFFF), min(count, 0xFFFF), len(directory), 0xFFFFFFFF, 0
    )
    return local.getvalue() + directory + end64 + place + end


def deflated(entries: Iterable[tuple[str, bytes]]) -> bytes:
    """An ordinary zip."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as made:
        for name, content in entries:
            made.writestr(name, content)
    return out.getvalue()


def nested(depth: int, inner: bytes) -> bytes:
    for level in range(depth):
        inner = deflated([(f"level{level}.zip", inner)])
    return inner


# --- 7z ----------------------------------------------------------------------------------------------------------


def seven_number(value: int) -> bytes:
    """A number as 7z headers have it."""
    return b"\xff" + value.to_bytes(8, "little")


def seven_of_header(plain: Iterable[bytes], packed_streams: bytes = b"") -> bytes:
    """A 7z whose header, packed with LZMA, unpacks to these bytes; `packed_streams` stand before it."""
    filters = [{"id": lzma.FILTER_LZMA1, "dict_size": 1 << 16, "lc": 3, "lp": 0, "pb": 2, "preset": 1}]
    engine = lzma.LZMACompressor(lzma.FORMAT_RAW, filters=filters)
    parts, size, checksum = [], 0, 0
    for block in plain:
        parts.append(engine.compress(block))
        size += len(block)
        checksum = zlib.crc32(block, checksum)
    packed = b"".join([*parts, engine.flush()])
    coder = b"\x23\x03\x01\x01\x05" + b"\x5d" + (1 << 16).to_bytes(4, "little")
    encoded = (
        b"\x17\x06" + seven_number(len(packed_streams)) + b"\x01\x09" + seven_number(len(packed)) + b"\x00"
        b"\x07\x0b\x01\x00\x01" + coder + b"\x0c" + seven_number(size) + b"\x0a\x01" + struct.pack("<L", checksum)
        + b"\x00\x00"
    )  # fmt: skip
    return seven_of(packed_streams + packed, encoded)


def seven_of(streams: bytes, header: bytes) -> bytes:
    """A 7z of these packed streams and this header, as it is."""
    start = struct.pack("<QQL", len(streams), len(header), zlib.crc32(header))
    return b"7z\xbc\xaf\x27\x1c\0\4" + struct.pack("<L", zlib.crc32(start)) + start + streams + header


def seven_of_empty_entries(count: int) -> bytes:
    """Entries without content, all of one name of a letter."""

    def plain() -> Iterator[bytes]:
        bits = -(-count // 8)
        yield b"\x01\x05" + seven_number(count) + b"\x0e" + seven_number(bits)
        yield from _filled_with(b"\xff", bits)
        yield b"\x11" + seven_number(4 * count + 1) + b"\x00"
        yield from _filled_with(b"a\0\0\0", count)
        yield b"\x00\x00"

    return seven_of_header(plain())


def _filled_with(unit: bytes, count: int) -> Iterator[bytes]:
    whole = unit * min(count, MEGABYTE)
    while count > 0:
        yield whole[: len(unit) * count]
        count -= MEGABYTE


def seven_of_stated_entries() -> bytes:
    """It says that it holds more entries than there are atoms in a glass of water."""
    return seven_of_header([b"\x01\x05" + seven_number(1 << 62) + b"\x00\x00"])


def seven_with_link(size: int) -> bytes:
    """One link whose target is that many zeros."""
    filters = [{"id": lzma.FILTER_LZMA2, "dict_size": 1 << 20, "preset": 1}]
    engine = lzma.LZMACompressor(lzma.FORMAT_RAW, filters=filters)
    packed = b"".join([*(engine.compress(ZEROS) for _ in range(size // MEGABYTE)), engine.flush()])
    name = "link\0".encode("utf-16-le")
    mode = (stat.S_IFLNK | 0o777) << 16 | 0x8000
    plain = (
        b"\x01\x04\x06\x00\x01\x09" + seven_number(len(packed)) + b"\x00"
        b"\x07\x0b\x01\x00\x01\x21\x21\x01\x10\x0c" + seven_number(size) + b"\x00\x00"
        b"\x05\x01\x11" + seven_number(1 + len(name)) + b"\x00" + name
        + b"\x15" + seven_number(6) + b"\x01\x00" + struct.pack("<L", mode) + b"\x00\x00"
    )  # fmt: skip
    return seven_of_header([plain], packed)


# --- the others --------------------------------------------------------------------------------------------------


def cpio_of(count: int) -> bytes:
    made = []
    for number in range(count):
        name = b"%d\0" % number
        fields = b"".join(b"%08x" % value for value in (number, 0o100644, 0, 0, 1, 0, 0, 0, 0, 0, 0, len(name), 0))
        made.append((b"070701" + fields + name).ljust(-(-(110 + len(name)) // 4) * 4, b"\0"))
    return b"".join(made)


def xar_of(count: int) -> bytes:
    def plain() -> Iterator[bytes]:
        yield b'<?xml version="1.0"?><xar><toc>'
        files = (b'<file id="%d"><name>%d</name><type>file</type></file>' % (number, number) for number in range(1000))
        yield from _repeated(files, count // 1000)
        yield b"</toc></xar>"

    engine, size, parts = zlib.compressobj(9), 0, []
    for block in plain():
        size += len(block)
        parts.append(engine.compress(block))
    packed = b"".join([*parts, engine.flush()])
    return struct.pack(">4sHHQQL", b"xar!", 28, 1, len(packed), size, 0) + packed


def rar_of(count: int) -> bytes:
    return RarWriter().volumes([Member(f"{number}", b"") for number in range(count)])[0]


def rar_of_copies(count: int) -> bytes:
    content = bytes(2 << 20)
    members = [
        Member("file", content),
        *(Member(f"copy{number}", b"", target="file", link_kind=5) for number in range(count)),
    ]
    return RarWriter().volumes(members)[0]


def ar_of(count: int) -> bytes:
    rest = b"0           0     0     100644  0         `\n"
    return b"!<arch>\n" + b"".join((b"%d/" % number).ljust(16) + rest for number in range(count))


def lha_of(count: int) -> bytes:
    made = []
    for number in range(count):
        name = b"%x" % number
        fields = b"-lh0-" + struct.pack("<LLLBBB", 0, 0, 0, 0x20, 0, len(name)) + name + b"\0\0"
        made.append(bytes([len(fields), sum(fields) & 255]) + fields)
    return b"".join(made) + b"\0"


def rar4_of(count: int) -> bytes:
    made = [b"Rar!\x1a\x07\0", struct.pack("<HBHH", 0x90CF, 0x73, 0, 13) + bytes(6)]
    for number in range(count):
        name = b"%x" % number
        sizes = (0, 0, 2, 0, 0x21 << 16, 20, 0x30, len(name), 0x20)
        body = struct.pack("<BHHLLBLLBBHL", 0x74, 0x8000, 32 + len(name), *sizes) + name
        made.append(struct.pack("<H", zlib.crc32(body) & 0xFFFF) + body)
    return b"".join(made)


def xz_with_dictionary(size: int) -> bytes:
    # Alone, the dictionary is stated in the head; what follows is sound.
    plain = lzma.compress(bytes(200 << 20), lzma.FORMAT_ALONE, preset=1)
    return plain[:1] + struct.pack("<L", size) + plain[5:]


BOMBS: dict[str, Callable[[], bytes]] = {
    "entries.tar.gz": lambda: packed_by("gz", tar_of_members(numbered, 1400)),
    "old-map.tar.gz": lambda: packed_by("gz", tar_of_old_maps()),
    "pax-maps.tar.gz": lambda: packed_by("gz", tar_of_pax_maps()),
    "listed-maps.tar.gz": lambda: packed_by("gz", tar_of_listed_maps()),
    "fields.tar.gz": lambda: packed_by("gz", tar_of_fields()),
    "global-fields.tar.gz": lambda: packed_by("gz", tar_of_fields(b"g")),
    "long-names.tar.gz": lambda: packed_by("gz", tar_of_long_names()),
    "deep-paths.tar.gz": lambda: packed_by("gz", tar_of_deep_paths()),
    "volume-header.tar.bz2": lambda: packed_by("bz2", tar_of_volume_headers()),
    "sparse.tar": lambda: tar_of_sparse_files(5, 1 << 30),
    "hard-links.tar.gz": lambda: packed_by("gz", tar_of_hard_links(5000)),
    "links.tar.gz": lambda: packed_by("gz", tar_of_links(2000)),
    "devices.tar.gz": lambda: packed_by("gz", tar_of_members(lambda number: header(b"%d" % number, 0, b"3"), 1400)),
    "unsaid-names.tar.gz": lambda: packed_by("gz", tar_of_members(lambda number: header(b"\xfc%d" % number), 1400)),
    "zeros.tar.bz2": lambda: packed_by("bz2", [header(b"file", 100 << 30), *[ZEROS] * 3000]),
    "zeros.bz2": lambda: packed_by("bz2", [ZEROS] * 3000),
    "zeros.zst": lambda: packed_by("zst", [ZEROS] * 20_000),
    "dictionary.lzma": lambda: xz_with_dictionary(0xC0000000),
    "deep-path.zip": lambda: zip_of_names([b"d/" * 32_000 + b"n"]),
    "deep-paths.zip": lambda: zip_of_names(b"%06d/" % number + b"d/" * 1000 + b"n" for number in range(2400)),
    "equal-names.zip": lambda: zip_of_names([b"Images/n.png"] * 60_000),
    "equal-loose.zip": lambda: zip_of_names(b"%d/n.png" % number for number in range(48_000)),
    "entries.zip": lambda: zip_of_names(b"%x" % number for number in range(98_000)),
    "directories.zip": lambda: zip_of_names(b"%x/" % number for number in range(98_000)),
    "links.zip": lambda: zip_of_names((b"%x" % number for number in range(98_000)), mode=stat.S_IFLNK | 0o777),
    "devices.zip": lambda: zip_of_names((b"%x" % number for number in range(98_000)), mode=stat.S_IFIFO | 0o644),
    "inner-zips.zip": lambda: deflated(
        (f"{number}.zip", deflated([(f"{number}.bin", ZEROS * 4)])) for number in range(1200)
    ),
    "inner-tars.zip": lambda: deflated([("a.tar.gz", packed_by("gz", tar_of_members(numbered, 900)))]),
    "many-inner-tars.zip": lambda: deflated(
        [(f"{number}.tar", packed_by("gz", tar_of_members(numbered, 50))) for number in range(30)]
    ),
    "levels.zip": lambda: nested(40, deflated([("n.bin", ZEROS)])),
    "empty-entries.7z": lambda: seven_of_empty_entries(20_000_000),
    "stated-entries.7z": seven_of_stated_entries,
    "link.7z": lambda: seven_with_link(2 << 30),
    "entries.cpio": lambda: cpio_of(80_000),
    "entries.a": lambda: ar_of(170_000),
    "entries.lzh": lambda: lha_of(350_000),
    "entries.rpm": lambda: rpm_of(gzip.compress(cpio_of(800_000), 1)),
    "entries-of-old.rar": lambda: rar4_of(240_000),
    "streams.xz": lambda: lzma.compress(b"") * 300_000,
    "streams.bz2": lambda: bz2.compress(b"") * 700_000,
    "streams.lz": lambda: lzipped(b"") * 280_000,
    "skipped.zst": lambda: b"\x50\x2a\x4d\x18\0\0\0\0" * 1_300_000,
    "marks.exe": lambda: b"MZ" + b"7z\xbc\xaf\x27\x1c" * 1_700_000,
    "entries.xar": lambda: xar_of(2_000_000),
    "entries.rar": lambda: rar_of(98_000),
    "copies.rar": lambda: rar_of_copies(4000),
    "gz.gz": lambda: gzip.compress(gzip.compress(ZEROS * 500)),
    "plain.zip": lambda: zip_bytes({"a.txt": "hello"}),
}
"""File name → its bytes. The last two are sound: what holds of the others holds of them."""
