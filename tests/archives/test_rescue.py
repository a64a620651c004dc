"""What came whole of an archive that is damaged: only where it is asked for, all of it, and nothing else."""

import gzip
import struct
import unittest
import zipfile
import zlib
from collections.abc import Iterator, Sequence
from pathlib import Path
from unittest import mock

from msgspec.structs import replace

from tests.archives.case import ArchiveCase, access, contents
from tests.archives.rar4_writer import Packed, archive4
from tests.archives.rar_packer import packed3, packed5
from tests.archives.rar_writer import Member, RarWriter
from tests.archives.zip_writer import Item, zip_of
from tests.support import tar_bytes, zip_bytes
from usufruct.archives.reading import Access, Archive
from usufruct.archives.zip.reader import ZipArchive
from usufruct.archives.zip.repair import directory_of
from usufruct.errors import DamagedArchive
from usufruct.files.sources import BytesSource

FILES = {f"rigs/{name}.rig": bytes(range(256)) * size for size, name in enumerate(("owl", "moth", "bat", "wren"), 5)}


def rescuing(*passwords: str) -> Access:
    return replace(access(*passwords), rescues=True)


class RescueTest(ArchiveCase):
    def rescued(self, content: bytes, *passwords: str) -> Archive:
        return self.opened(content, how=rescuing(*passwords))

    def lost(self, content: bytes, kept: int, *, named: bool = True, passwords: tuple[str, ...] = ()) -> None:
        """Without being asked it is damaged; with it, the first few are whole and the next one is named."""
        with self.assertRaises(DamagedArchive) as caught:
            contents(self.opened(content, how=access(*passwords)))
        self.assertTrue(caught.exception.remedy)
        archive = self.rescued(content, *passwords)
        self.assertEqual(contents(archive), dict(list(FILES.items())[:kept]))
        self.assertTrue(archive.facts.is_rescued)
        if named:
            self.assertEqual(archive.facts.lost[:1], (list(FILES)[kept],))
            # The rest of it was told as bytes that nobody knows once, besides.
            self.assertEqual(archive.facts.unread, ())

    def test_a_zip_that_breaks_off(self) -> None:
        whole = zip_bytes(FILES)
        third = whole.index(b"PK\x03\x04", whole.index(b"moth.rig"))
        self.lost(whole[: third + 60], 2)

    def test_a_zip_whose_directory_alone_is_gone_is_whole(self) -> None:
        whole = zip_bytes(FILES)
        archive = self.rescued(whole[: whole.index(b"PK\x01\x02")])
        self.assertEqual(contents(archive), FILES)
        self.assertEqual(archive.facts.lost, ())

    def test_a_zip_with_a_broken_entry_in_its_middle(self) -> None:
        whole = bytearray(zip_bytes(FILES))
        at = whole.index(b"moth.rig") + 30
        whole[at] ^= 0x55
        archive = self.rescued(bytes(whole))
        self.assertEqual(contents(archive), {name: content for name, content in FILES.items() if "moth" not in name})
        self.assertEqual(archive.facts.lost, ("rigs/moth.rig",))

    def test_a_zip_with_a_foreign_stretch_in_its_middle_is_taken_up_behind_it(self) -> None:
        whole = zip_bytes(FILES)
        cut = whole.index(b"PK\x03\x04", 10)
        body = whole[: whole.index(b"PK\x01\x02")]
        self.assertEqual(contents(self.rescued(body[:cut] + b"\xff" * 999 + body[cut:])), FILES)

    def test_sizes_that_stand_behind_the_bytes(self) -> None:
        """As packers write that cannot go back: with a mark before the sizes, without one, and large ones."""
        for mark, form in ((b"PK\x07\x08", "<3L"), (b"", "<3L"), (b"PK\x07\x08", "<L2Q")):
            out = b""
            for name, content in FILES.items():
                packer = zlib.compressobj(wbits=-15)
                packed = packer.compress(content) + packer.flush()
                raw = name.encode()
                out += struct.pack("<4s5H3L2H", b"PK\x03\x04", 20, 8, 8, 0, 0x21, 0, 0, 0, len(raw), 0) + raw + packed
                out += mark + struct.pack(form, zlib.crc32(content), len(packed), len(content))
            with self.subTest(mark=mark, form=form):
                self.assertEqual(contents(self.rescued(out + b"PK\x01\x02 broken")), FILES)

    def test_a_zip_of_nothing_but_headers_is_read_a_few_times_and_not_once_for_each(self) -> None:
        """Each was looked for through all that followed: 200,000 of them took days."""
        read = 0

        class Counting(BytesSource):
            def read_at(self, offset: int, count: int) -> bytes:
                nonlocal read
                found = super().read_at(offset, count)
                read += len(found)
                return found

        header = struct.pack("<4s5H3L2H", b"PK\x03\x04", 20, 8, 8, 0, 0x21, 0, 0, 0, 1, 0) + b"x"
        for between in (b"", b"PK\x07\x08", b"-" * 3):
            source = Counting((header + between) * 5000)
            read = 0
            _, lost = directory_of(source, lambda _: None)
            self.assertEqual(len(lost), 5000)
            self.assertLess(read, 40 * source.size)

    def test_many_bad_entries_cost_one_pass(self) -> None:
        names = [f"{number}.gel" for number in range(400)]
        whole = bytearray(zip_bytes(dict.fromkeys(names, b"x"), compression=zipfile.ZIP_STORED))
        for name in names[::2]:
            whole[whole.index(b"\0" + name.encode()) + 1 + len(name)] ^= 1
        passes = 0
        stream = ZipArchive.stream

        def counted(archive: ZipArchive, rows: Sequence[int]) -> Iterator[tuple[int, Iterator[bytes]]]:
            nonlocal passes
            passes += 1
            return stream(archive, rows)

        with mock.patch.object(ZipArchive, "stream", counted):
            archive = self.rescued(bytes(whole))
        self.assertEqual((len(archive.facts.lost), len(archive.listing), passes), (200, 200, 1))

    def test_a_locked_zip_without_its_directory(self) -> None:
        whole = zip_of([Item(name.encode(), content, "moth", 32) for name, content in FILES.items()])[0]
        self.assertEqual(contents(self.rescued(whole[: whole.index(b"PK\x01\x02")], "moth")), FILES)

    def test_a_tar_that_breaks_off_plain_and_packed(self) -> None:
        whole = tar_bytes(FILES)
        self.lost(whole[: whole.index(b"rigs/bat") + 600], 2)
        packed = gzip.compress(whole, mtime=0, compresslevel=0)
        self.lost(packed[: packed.index(b"rigs/bat") + 600], 2)

    def test_a_solid_rar_that_breaks_off(self) -> None:
        five = [
            Member(name, content, method=3, packed=packed5(content), is_solid=bool(number))
            for number, (name, content) in enumerate(FILES.items())
        ]
        four = [
            Packed(name, content, packed3([content]), is_solid=bool(number))
            for number, (name, content) in enumerate(FILES.items())
        ]
        for password in ("", "moth"):
            words = (password,) if password else ()
            whole = RarWriter(password, is_solid=True).volumes(five)[0]
            self.lost(whole[: whole.index(b"rigs/bat") + 700], 2, passwords=words)
            whole = archive4(four, is_solid=True, password=password)[0]
            self.lost(whole[: whole.index(b"rigs/bat") + 700], 2, passwords=words)

    def test_a_broken_member_of_a_solid_rar_takes_those_behind_it_with_it(self) -> None:
        four = [
            Packed(name, content, packed3([content]), is_solid=bool(number))
            for number, (name, content) in enumerate(FILES.items())
        ]
        whole = bytearray(archive4(four, is_solid=True)[0])
        whole[whole.index(b"rigs/moth") + 400] ^= 0x11
        archive = self.rescued(bytes(whole))
        self.assertEqual(list(contents(archive)), ["rigs/owl.rig"])
        self.assertEqual(archive.facts.lost, tuple(FILES)[1:])

    def test_nothing_whole_is_said_and_a_sound_archive_loses_nothing(self) -> None:
        whole = zip_bytes(FILES)
        with self.assertRaisesRegex(DamagedArchive, "Nothing in download is whole"):
            self.rescued(whole[:300])
        archive = self.rescued(whole)
        self.assertEqual((contents(archive), archive.facts.lost), (FILES, ()))

    def test_the_error_says_where_rescue_may_help_and_only_there(self) -> None:
        whole = zip_bytes(FILES)
        with self.assertRaises(DamagedArchive) as caught:
            self.opened(whole[:900])
        self.assertIn("--rescue", caught.exception.remedy)
        with self.assertRaises(DamagedArchive) as caught:
            self.opened(b"7z\xbc\xaf\x27\x1c" + bytes(100))
        self.assertNotIn("--rescue", caught.exception.remedy)

    def test_the_file_is_closed_whatever_comes_of_it(self) -> None:
        path = self.write({"x.zip": zip_bytes(FILES)[:900]})
        archive = self.open(path, rescuing())
        archive.close()
        before = len(list(Path("/proc/self/fd").iterdir())) if Path("/proc/self/fd").exists() else 0
        for _ in range(5):
            self.open(path, rescuing()).close()
        after = len(list(Path("/proc/self/fd").iterdir())) if Path("/proc/self/fd").exists() else 0
        self.assertEqual(before, after)


if __name__ == "__main__":
    unittest.main()
