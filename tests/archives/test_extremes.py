"""Header fields that lie: each is refused, left out or read, and what is sound beside it is given all the same."""

import io
import os
import struct
import tarfile
import tempfile
import unittest
import zipfile
import zlib
from collections.abc import Callable, Iterator

import py7zr

from tests.archives.case import ArchiveCase, contents
from tests.archives.old_writers import cpio_of
from tests.archives.rar4_writer import Packed, archive4
from tests.archives.rar_writer import Member, RarWriter, vint
from tests.fuzzing.bombs import filled, header, pax, seven_number, seven_of
from usufruct.errors import ArchiveError

CONTENT = b"joints = 3\n"
DOS_TIMES = {
    "nothing": 0, "no month": 1, "month 13": 0x01A1_0000, "day 0": 0x0020_0000, "31 February": 0x005F_0000,
    "hour 31": 0x0021_F800, "minute 63": 0x0021_07E0, "2107": 0xFF9F_BF7D, "all bits": 0xFFFF_FFFF,
}  # fmt: skip
UNIX_TIMES = {"1970": 0, "1901": 0x8000_0000, "2038": 0x7FFF_FFFF, "2106": 0xFFFF_FFFF}
WINDOWS_TIMES = {"1601": 0, "1601, later": 1, "before 1824": 10**16, "30828": (1 << 63) - 1, "all bits": (1 << 64) - 1}
TAR_TIMES = {
    "negative": b"\xff" * 12, "far back": b"\x80" + b"\0" * 2 + b"\x80" + b"\0" * 8, "no number": b"not a time  ",
    "beyond int64": b"\x80" + b"\xff" * 11, "empty": b"\0" * 12, "largest octal": b"777777777777",
}  # fmt: skip
PAX_TIMES = ("-1", "-62135596800.5", "1e400", "nan", "inf", "9" * 400, "", "0x10", "1.9999999999999", "253402300800")


def _zip(time: int = 0x5A21_0000, extra: bytes = b"") -> bytes:
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w") as archive:
        info = zipfile.ZipInfo("a")
        info.extra = extra
        archive.writestr(info, CONTENT)
    out = bytearray(buffer.getvalue())
    for mark, at in ((b"PK\x03\x04", 10), (b"PK\x01\x02", 12)):
        place = out.index(mark) + at
        out[place : place + 4] = struct.pack("<L", time)
    return bytes(out)


def _tar(time: bytes = b"00000000000\0", size: bytes = b"00000000013\0") -> bytes:
    head = bytearray(header(b"a", len(CONTENT)))
    head[124:136], head[136:148] = size, time
    head[148:156] = b" " * 8
    head[148:156] = b"%06o\0 " % sum(head)
    return bytes(head) + filled(CONTENT) + bytes(1024)


def _tar_pax(**fields: str) -> bytes:
    return pax({name: value.encode() for name, value in fields.items()}) + _tar()


def _rar5(times: bytes) -> bytes:
    """With a record of times instead of the plain one."""
    record = vint(3) + times
    return _rar5_with(vint(len(record)) + record)


def _rar5_with(extra: bytes = b"", size: bytes = b"\x0b", packed: int = len(CONTENT), power: int = 0) -> bytes:
    fields = vint(4) + size + vint(0o100644) + struct.pack("<L", zlib.crc32(CONTENT)) + vint(power << 10) + vint(1)
    fields += vint(1) + b"a" + extra
    inner = vint(2) + vint((1 if extra else 0) | 2) + (vint(len(extra)) if extra else b"") + vint(packed) + fields
    sized = vint(len(inner)) + inner
    whole = RarWriter().volumes([])[0]
    end = whole.rindex(b"\x03\x05\x00\x00") - 4
    return whole[:end] + struct.pack("<L", zlib.crc32(sized)) + sized + CONTENT + whole[end:]


def _rar4(time: int, times: bytes = b"") -> bytes:
    out = bytearray(archive4([Packed("a", CONTENT, CONTENT, method=0x30)])[0])
    at = 7 + 13
    head = bytearray(out[at : at + 33])
    head[20:24] = struct.pack("<L", time)
    if times:
        head += times
        head[3:5] = struct.pack("<H", int.from_bytes(head[3:5], "little") | 0x1000)
        head[5:7] = struct.pack("<H", len(head))
    head[:2] = struct.pack("<H", zlib.crc32(head[2:]) & 0xFFFF)
    return bytes(out[:at] + head + out[at + 33 :])


def _seven(time: int | None = None, size: int | None = None) -> bytes:
    """One file, its time and its size in the plain header changed."""
    buffer = io.BytesIO()
    with py7zr.SevenZipFile(buffer, "w", filters=[{"id": py7zr.FILTER_COPY}]) as archive:
        archive.set_encoded_header_mode(False)
        archive.writestr(CONTENT, "a")
    whole = buffer.getvalue()
    offset, length = struct.unpack_from("<QQ", whole, 12)
    head = whole[32 + offset : 32 + offset + length]
    if time is not None:
        fingerprint = head.index(b"\x14\x0a\x01\x00") + 4
        head = head[:fingerprint] + struct.pack("<Q", time) + head[fingerprint + 8 :]
    if size is not None:
        place = head.index(b"\x0c\x0b") + 1
        head = head[:place] + seven_number(size) + head[place + 1 :]
    return seven_of(whole[32 : 32 + offset], head)


def _cpio(**fields: int) -> bytes:
    out = bytearray(cpio_of([("a", CONTENT, 0o100644, 1)], "hex"))
    for name, value in fields.items():
        at = {"time": 46, "size": 54, "name_size": 94}[name]
        out[at : at + 8] = b"%08x" % value
    return bytes(out)


def with_times() -> Iterator[tuple[str, bytes]]:
    """An archive of each format for every extreme time."""
    for name, dos in DOS_TIMES.items():
        yield f"zip, {name}", _zip(dos)
        yield f"rar 4, {name}", _rar4(dos)
        yield f"rar 4, finer, {name}", _rar4(dos, b"\xff\xff" + b"\xff" * 15)
    for name, unix in UNIX_TIMES.items():
        yield f"zip, unix, {name}", _zip(extra=struct.pack("<2HBL", 0x5455, 5, 1, unix))
        yield f"rar 5, unix, {name}", _rar5(vint(3) + struct.pack("<L", unix))
        yield f"rar 5, finer, {name}", _rar5(vint(0x13) + struct.pack("<2L", unix, 0xFFFF_FFFF))
        yield f"cpio, {name}", _cpio(time=unix)
    for name, windows in WINDOWS_TIMES.items():
        yield f"zip, windows, {name}", _zip(extra=struct.pack("<2HL2H3Q", 10, 32, 0, 1, 24, windows, windows, windows))
        yield f"rar 5, windows, {name}", _rar5(vint(2) + struct.pack("<Q", windows))
        yield f"7z, {name}", _seven(windows)
    for name, tar in TAR_TIMES.items():
        yield f"tar, {name}", _tar(time=tar)
    for pax_time in PAX_TIMES:
        yield f"tar, pax {pax_time[:20]}", _tar_pax(mtime=pax_time)


SIZES = (0xFFFF_FFFF, 1 << 32, (1 << 62) - 1, 1 << 62, (1 << 63) - 1, 1 << 63, (1 << 64) - 1)


def with_sizes() -> Iterator[tuple[str, bytes]]:
    """An archive of each format that states an impossible size."""
    for size in SIZES:
        large = struct.pack("<2H2Q", 1, 16, size, size)
        buffer = bytearray(_zip(extra=large))
        for mark, at in ((b"PK\x03\x04", 18), (b"PK\x01\x02", 20)):
            place = buffer.index(mark) + at
            buffer[place : place + 8] = b"\xff" * 8
        yield f"zip, {size}", bytes(buffer)
        yield f"tar, {size}", _tar(size=b"\x80" + size.to_bytes(11, "big"))
        yield f"tar, pax {size}", _tar_pax(size=str(size))
        yield f"7z, {size}", _seven(size=size)
        yield f"rar 5, {size}", _rar5_with(size=vint(size))
        yield f"rar 5, packed {size}", _rar5_with(packed=size)
    for size in (0xFFFF_FFFF, 0x7FFF_FFFF):
        yield f"cpio, {size}", _cpio(size=size)
        yield f"cpio, name {size}", _cpio(name_size=size)
    for size in ("-5", "", "9" * 400, "1.5", "nan"):
        yield f"tar, pax {size[:9]}", _tar_pax(size=size)


DEEP = "/".join(["d"] * 2000) + "/a"
LONG = "n" * 65_500


def with_names() -> Iterator[tuple[str, bytes]]:
    """A sound `b` beside an entry of 2,000 levels, and one beside a name of 64 KB."""
    for what, name in (("deep", DEEP), ("long", LONG)):
        buffer = io.BytesIO()
        with zipfile.ZipFile(buffer, "w") as archive:
            archive.writestr(name, CONTENT)
            archive.writestr("b", CONTENT)
        yield f"zip, {what}", buffer.getvalue()
        for form in (tarfile.PAX_FORMAT, tarfile.GNU_FORMAT):
            buffer = io.BytesIO()
            with tarfile.open(fileobj=buffer, mode="w", format=form) as tar:
                for one in (name, "b"):
                    info = tarfile.TarInfo(one)
                    info.size = len(CONTENT)
                    tar.addfile(info, io.BytesIO(CONTENT))
            yield f"tar {form}, {what}", buffer.getvalue()
        yield f"rar 5, {what}", RarWriter().volumes([Member(name, CONTENT), Member("b", CONTENT)])[0]
        both = [Packed(name[:60_000], CONTENT, CONTENT, method=0x30), Packed("b", CONTENT, CONTENT, method=0x30)]
        yield f"rar 4, {what}", archive4(both)[0]
        yield f"cpio, {what}", cpio_of([(name, CONTENT, 0o100644, 1), ("b", CONTENT, 0o100644, 1)], "hex")


class ExtremesTest(ArchiveCase):
    def test_a_time_that_no_file_can_have_is_left_out_and_the_content_is_given(self) -> None:
        for name, archive in with_times():
            with self.subTest(name):
                opened = self.opened(archive)
                self.assertEqual(contents(opened), {"a": CONTENT})
                modified = next(iter(opened.listing)).modified
                if modified is not None:
                    self.assertTrue(-(1 << 62) < modified < 1 << 63)

    def test_every_time_that_is_kept_can_be_given_to_a_file(self) -> None:
        with tempfile.NamedTemporaryFile() as file:
            for name, archive in with_times():
                modified = next(iter(self.opened(archive).listing)).modified
                if modified is not None:
                    with self.subTest(name):
                        os.utime(file.name, ns=(modified, modified))

    def test_a_size_that_no_file_can_have_ends_in_an_error_of_ours_or_in_the_true_content(self) -> None:
        self.ends_well(with_sizes, lambda found: set(found.values()) <= {CONTENT})

    def test_paths_of_two_thousand_levels_and_names_of_64_kb_are_refused_alone(self) -> None:
        for name, archive in with_names():
            with self.subTest(name):
                opened = self.opened(archive)
                self.assertEqual(contents(opened), {"b": CONTENT})
                self.assertEqual(len(opened.listing.refused), 1)
                self.assertLess(len(opened.listing.refused[0].entry), 5000)

    def ends_well(
        self, archives: Callable[[], Iterator[tuple[str, bytes]]], is_right: Callable[[dict[str, bytes]], bool]
    ) -> None:
        for name, archive in archives():
            with self.subTest(name):
                try:
                    found = contents(self.opened(archive))
                except ArchiveError as error:
                    self.assertTrue(error.message and error.remedy)
                else:
                    self.assertTrue(is_right(found), found.keys())

    def test_the_table_has_every_format(self) -> None:
        kinds = {name.split(",")[0].split(" ")[0].removesuffix("_of") for name, _ in (*with_times(), *with_sizes())}
        self.assertEqual(kinds, {"zip", "tar", "7z", "rar", "cpio"})


if __name__ == "__main__":
    unittest.main()
