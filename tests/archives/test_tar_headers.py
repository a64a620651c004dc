"""Tar headers in every dialect: classic, GNU, pax, sparse; and what does not hold together."""

import bz2
import io
import random
import tarfile
import unittest
from unittest import mock

from msgspec.structs import replace

from tests.archives.case import ArchiveCase, contents
from tests.support import tar_bytes
from usufruct.archives.allowance import Allowance, Limits
from usufruct.archives.members import Forward, MemberFault, StreamMember
from usufruct.archives.reading import Access
from usufruct.archives.tar.headers import members_of
from usufruct.errors import DamagedArchive, IncompleteArchive
from usufruct.files.sources import FileSource
from usufruct.model.entries import EntryKind


def members(content: bytes, block: int = 1000) -> list[StreamMember]:
    """All members, read in small blocks so that every one crosses a border."""
    file = io.BytesIO(content)
    return list(members_of(Forward(lambda _: file.read(block)), Allowance(Limits(free=1 << 60), "x", "x", 0)))


def written(dialect: int, *infos: tarfile.TarInfo, data: bytes = b"") -> bytes:
    buffer = io.BytesIO()
    with tarfile.open(fileobj=buffer, mode="w", format=dialect) as archive:
        for info in infos:
            archive.addfile(info, io.BytesIO(data[: info.size]))
    return buffer.getvalue()


def info_of(name: str, **fields: object) -> tarfile.TarInfo:
    info = tarfile.TarInfo(name)
    for key, value in fields.items():
        setattr(info, key, value)
    return info


def header(name: bytes, size: int, kind: bytes = b"0", *, tail: bytes = b"", size_field: bytes = b"") -> bytes:
    """A header of our own, its checksum right."""
    block = bytearray(512)
    block[: len(name)] = name
    block[100:108] = b"0000644\0"
    block[124:136] = size_field or f"{size:011o}\0".encode()
    block[136:148] = b"14530000000\0"
    block[156:157] = kind
    block[257:265] = b"ustar  \0"
    block[386 : 386 + len(tail)] = tail
    block[148:156] = b" " * 8
    block[148:156] = f"{sum(block):06o}\0 ".encode()
    return bytes(block)


class DialectsTest(ArchiveCase):
    def test_long_names_and_targets_in_every_dialect_that_has_them(self) -> None:
        long, target = "d/" + "x" * 180 + "/" + "y" * 90 + ".gel", "z" * 150
        infos = [info_of(long, size=3), info_of("link", type=tarfile.SYMTYPE, linkname=target)]
        for dialect in (tarfile.GNU_FORMAT, tarfile.PAX_FORMAT):
            with self.subTest(dialect):
                file, link = members(written(dialect, *infos, data=b"abc"))
                self.assertEqual((file.name.decode(), file.size, file.kind), (long, 3, "file"))
                self.assertEqual((link.target.decode(), link.kind), (target, "link"))

    def test_a_classic_prefix_is_put_before_the_name(self) -> None:
        name = "a" * 100 + "/" + "b" * 60
        (member,) = members(written(tarfile.USTAR_FORMAT, info_of(name)))
        self.assertEqual(member.name.decode(), name)

    def test_kinds_modes_and_times(self) -> None:
        infos = [
            info_of("dir", type=tarfile.DIRTYPE),
            info_of("run", mode=0o755, mtime=1_700_000_000),
            info_of("hard", type=tarfile.LNKTYPE, linkname="run"),
            info_of("pipe", type=tarfile.FIFOTYPE),
            info_of("disk", type=tarfile.BLKTYPE),
        ]
        found = members(written(tarfile.PAX_FORMAT, *infos))
        self.assertEqual([one.kind for one in found], ["directory", "file", "hard link", "other", "other"])
        self.assertEqual((found[1].mode, found[1].modified), (0o755, 1_700_000_000 * 10**9))

    def test_a_fraction_of_a_second_is_exact(self) -> None:
        for text, expected in (
            ("1700000000.123456789", 1_700_000_000_123_456_789),
            ("-1.5", -1_500_000_000),
            ("x", None),
        ):
            info = info_of("a", pax_headers={"mtime": text})
            (member,) = members(written(tarfile.PAX_FORMAT, info))
            self.assertEqual(member.modified, expected)

    def test_numbers_beyond_octal_are_read(self) -> None:
        size = (1 << 33) + 5
        field = (size | 1 << 95).to_bytes(12, "big")
        data = Forward(io.BytesIO(header(b"big", 0, size_field=field)).read)
        self.assertEqual(next(members_of(data, Allowance(Limits(free=1 << 60), "x", "x", 0))).size, size)

    def test_global_fields_hold_until_they_are_replaced(self) -> None:
        info = info_of("a", size=1)
        buffer = io.BytesIO()
        with tarfile.open(
            fileobj=buffer, mode="w", format=tarfile.PAX_FORMAT, pax_headers={"mtime": "5.25"}
        ) as archive:
            archive.addfile(info, io.BytesIO(b"x"))
        self.assertEqual(members(buffer.getvalue())[0].modified, 5_250_000_000)

    def test_the_standard_reader_finds_the_same(self) -> None:
        chance = random.Random(7)
        for dialect in (tarfile.USTAR_FORMAT, tarfile.GNU_FORMAT, tarfile.PAX_FORMAT):
            infos = [
                info_of(
                    f"d{n % 3}/f{n}", size=chance.randrange(3000), mode=chance.choice([0o644, 0o755]), mtime=n * 1000
                )
                for n in range(40)
            ]
            content = written(dialect, *infos, data=bytes(3000))
            with tarfile.open(fileobj=io.BytesIO(content)) as standard:
                expected = [(one.name, one.size, one.mode, int(one.mtime), one.offset_data) for one in standard]
            found = [
                (one.name.decode(), one.size, one.mode, one.modified // 10**9, one.offset) for one in members(content)
            ]
            self.assertEqual(found, expected)


class FarTest(ArchiveCase):
    def test_what_is_only_listed_is_not_read(self) -> None:
        """To look at a tar of four gigabytes, all four were read."""
        content = tar_bytes({"a.gel": bytes(9_000_000), "b.gel": b"b", "c.gel": bytes(5_000_000), "d.gel": b"d"})
        path = self.write({"far.tar": content})
        read: list[int] = []
        real = FileSource.read_at

        def read_at(source: FileSource, offset: int, count: int) -> bytes:
            block = real(source, offset, count)
            read.append(len(block))
            return block

        with mock.patch.object(FileSource, "read_at", read_at):
            archive = self.open(path)
        self.assertLess(sum(read), 6_000_000)
        self.assertEqual({name: len(one) for name, one in contents(archive).items()},
                         {"a.gel": 9_000_000, "b.gel": 1, "c.gel": 5_000_000, "d.gel": 1})  # fmt: skip
        with self.assertRaisesRegex(DamagedArchive, "breaks off"):
            self.opened(content[:8_000_123], "far.tar")


class BackupsTest(ArchiveCase):
    """What tapes and backups are made of: incremental tars, and tars in volumes."""

    def test_a_directory_of_an_incremental_backup_is_a_directory(self) -> None:
        """It was taken for a file, behind which others could not lie: the archive seemed unsafe."""
        listed = b"Ya.gel\0\0"
        content = header(b"d/", len(listed), b"D") + listed.ljust(512, b"\0") + tar_bytes({"d/a.gel": "a"})
        archive = self.opened(content, "backup.tar")
        self.assertEqual((contents(archive), archive.listing.refused), ({"d/a.gel": b"a"}, []))

    def test_a_volume_is_called_a_volume(self) -> None:
        later = header(b"b.gel", 700, b"M") + bytes(1024) + tar_bytes({"c.gel": "c"})
        with self.assertRaisesRegex(IncompleteArchive, "is a later volume of a multi-volume tar"):
            self.opened(later, "two.tar")
        first = (header(b"b.gel", 30_000, b"0") + bytes(30_000))[:20_480]
        with self.assertRaisesRegex(IncompleteArchive, "as the first volume of a multi-volume tar does"):
            self.opened(first, "one.tar")
        with self.assertRaisesRegex(DamagedArchive, "is a damaged tar: it breaks off"):
            self.opened(first[:-700], "one.tar")


class SparseTest(ArchiveCase):
    """Three stored pieces of a file of 100,000 bytes, in each way of writing them down."""

    PIECES = ((0, 512), (40_000, 1024), (99_488, 512))
    REAL = 100_000
    DATA = b"a" * 512 + b"b" * 1024 + b"c" * 512

    def expected(self) -> bytes:
        whole, at = bytearray(self.REAL), 0
        for offset, length in self.PIECES:
            whole[offset : offset + length] = self.DATA[at : at + length]
            at += length
        return bytes(whole)

    def check(self, content: bytes) -> None:
        self.assertEqual(contents(self.opened(content + bytes(1024), "s.tar")), {"sparse": self.expected()})

    def pax(self, fields: dict[str, str], data: bytes, name: bytes = b"GNUSparseFile.0/sparse") -> bytes:
        text = b""
        for key, value in fields.items():
            record = f" {key}={value}\n"
            length = len(record) + len(str(len(record) + 2))
            text += f"{length}{record}".encode()
        padded = text + bytes(-len(text) % 512)
        return header(b"pax", len(text), b"x") + padded + header(name, len(data)) + data + bytes(-len(data) % 512)

    def test_the_old_form_in_the_header(self) -> None:
        def field(number: int) -> bytes:
            return f"{number:011o}\0".encode()

        tail = b"".join(field(offset) + field(length) for offset, length in self.PIECES)
        tail = tail.ljust(96, b"\0") + b"\0" + field(self.REAL)
        self.check(header(b"sparse", len(self.DATA), b"S", tail=tail) + self.DATA)

    def test_the_old_form_continued_in_further_blocks(self) -> None:
        def field(number: int) -> bytes:
            return f"{number:011o}\0".encode()

        pieces = [(offset + step, 256) for offset, length in self.PIECES for step in range(0, length, 256)]
        first = b"".join(field(offset) + field(length) for offset, length in pieces[:4])
        more = b"".join(field(offset) + field(length) for offset, length in pieces[4:]).ljust(512, b"\0")
        tail = first + b"\1" + field(self.REAL)
        self.check(header(b"sparse", len(self.DATA), b"S", tail=tail) + more + self.DATA)

    def test_the_form_with_a_map_in_a_field(self) -> None:
        numbers = ",".join(f"{offset},{length}" for offset, length in self.PIECES)
        fields = {"GNU.sparse.name": "sparse", "GNU.sparse.size": str(self.REAL), "GNU.sparse.map": numbers}
        self.check(self.pax(fields, self.DATA))

    def test_the_form_with_a_map_before_the_data(self) -> None:
        numbers = [len(self.PIECES), *(number for piece in self.PIECES for number in piece)]
        text = "".join(f"{number}\n" for number in numbers).encode()
        fields = {
            "GNU.sparse.major": "1",
            "GNU.sparse.minor": "0",
            "GNU.sparse.name": "sparse",
            "GNU.sparse.realsize": str(self.REAL),
        }
        self.check(self.pax(fields, text + bytes(-len(text) % 512) + self.DATA))

    def test_maps_that_lie_are_damage(self) -> None:
        for numbers in ("0,512,100,512", "0,512,99990,512", "0,99", "0,x"):
            fields = {"GNU.sparse.name": "sparse", "GNU.sparse.size": str(self.REAL), "GNU.sparse.map": numbers}
            with self.subTest(numbers), self.assertRaises(DamagedArchive):
                contents(self.opened(self.pax(fields, self.DATA) + bytes(1024), "s.tar"))


class FaultsTest(unittest.TestCase):
    def test_what_does_not_hold_together_is_told(self) -> None:
        whole = tar_bytes({"a": "hello"})
        broken = bytearray(whole)
        broken[3] ^= 1
        cases = {
            "a header that breaks off": whole[:300],
            "data that breaks off": header(b"a", 5000) + b"x" * 100,
            "a checksum that is wrong": bytes(broken),
            "no number": header(b"a", 0, size_field=b"what is this"),
            "a negative size": header(b"a", 0, size_field=b"\xff" * 12),
            "an endless name": header(b"././@LongLink", 1 << 30, b"L"),
            "a broken field": header(b"pax", 20, b"x") + b"99 path=x\n".ljust(512, b"\0"),
            "a field without length": header(b"pax", 20, b"x") + b"path=x\n".ljust(512, b"\0"),
        }
        for what, content in cases.items():
            with self.subTest(what), self.assertRaises(MemberFault):
                members(content)

    def test_an_archive_without_its_end_is_read_as_far_as_it_goes(self) -> None:
        whole = tar_bytes({"a": "hello", "b": "moth"})
        self.assertEqual([one.name for one in members(whole[:2048])], [b"a", b"b"])

    def test_access_lists_and_labels_are_no_members(self) -> None:
        content = b"".join(header(b"x", 5, kind) + b"12345".ljust(512, b"\0") for kind in (b"V", b"A", b"E"))
        self.assertEqual([one.name for one in members(content + tar_bytes({"a": "hello"}))], [b"a"])

    def test_a_checksum_of_signed_bytes_is_one_too(self) -> None:
        block = bytearray(header("n\u00e4me".encode("latin-1"), 0))
        block[148:156] = b" " * 8
        signed = sum(byte - 256 if byte > 127 else byte for byte in block)
        block[148:156] = f"{signed:06o}\0 ".encode()
        self.assertEqual(members(bytes(block) + bytes(1024))[0].name, "n\u00e4me".encode("latin-1"))


class KeptPlainTest(ArchiveCase):
    """A packed tar is unpacked once where its plain bytes may be kept, and again where they may not."""

    def test_both_ways_give_the_same(self) -> None:
        files = {"d/a.bin": bytes(range(256)) * 900, "d/b": b"b", "hard": "=>d/a.bin", "empty": b""}
        content = bz2.compress(tar_bytes(files))
        again = self.opened(content, "t.tar.bz2")
        kept = self.opened(content, "t.tar.bz2", replace(Access(), spool=str(self.folder / "spool")))
        self.assertEqual((again.is_divisible, kept.is_divisible), (False, True))
        self.assertEqual(contents(again), contents(kept))
        self.assertEqual(contents(kept)["hard"], files["d/a.bin"])
        self.assertEqual(list((self.folder / "spool").iterdir()), [], "the file has no name")
        kinds = {entry.path: entry.kind for entry in kept.listing}
        self.assertEqual(kinds["hard"], EntryKind.FILE)

    def test_a_place_that_cannot_be_written_is_done_without(self) -> None:
        (self.folder / "file").write_text("in the way")
        archive = self.opened(
            bz2.compress(tar_bytes({"a": "moth"})), "t.tbz", replace(Access(), spool=str(self.folder / "file" / "x"))
        )
        self.assertEqual(contents(archive), {"a": b"moth"})


if __name__ == "__main__":
    unittest.main()
