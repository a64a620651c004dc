"""Reading zip and tar: identification, listing, content, damage."""

import bz2
import gzip
import io
import lzma
import random
import struct
import sys
import unittest
import zipfile
from unittest import mock

import pyppmd

from tests.archives.case import ArchiveCase, contents
from tests.support import tar_bytes, zip_bytes
from usufruct.archives.opening import open_archive
from usufruct.archives.streams.decompress import unppmd
from usufruct.archives.streams.zstd import zstd
from usufruct.archives.zip import reader as zip_reader
from usufruct.errors import DamagedArchive, MachineError, Misnamed, NotAnArchive, PasswordNeeded, UnreadableArchive
from usufruct.model.entries import EntryKind

FILES = {"a.txt": b"hello", "dir/b.bin": bytes(range(256)) * 5000, "dir/empty": b"", "\u00fcber.txt": b"umlaut"}


def packed_with(compression: str) -> bytes:
    plain = tar_bytes(FILES)
    match compression:
        case "gz":
            return gzip.compress(plain)
        case "bz2":
            return bz2.compress(plain)
        case "xz":
            return lzma.compress(plain)
        case "zst":
            return zstd.compress(plain)
    return plain


class ReadingTest(ArchiveCase):
    def test_the_short_way_to_a_time_in_a_zip_tells_what_the_long_one_does(self) -> None:
        """What common packers write is known by its shape; everything near it must not be taken for it."""
        chance, seconds = random.Random(31), struct.pack("<l", -5)
        owner = b"ux\x0b\0\x01\x04" + bytes(4) + b"\x04" + bytes(4)
        windows = struct.pack("<2HL2H3Q", 10, 32, 0, 1, 24, 134 * 10**15, 1, 2)
        shapes = (b"UT\5\0\1" + seconds, b"UT\5\0\3" + seconds + owner, b"UT\5\0\0" + seconds + owner, windows)
        short = 0
        for extra in shapes:
            for _ in range(2000):
                changed = bytearray(extra)
                for _ in range(chance.randint(0, 2)):
                    changed[chance.randrange(len(changed))] = chance.choice((0, 1, 3, 5, 9, 0x55, 0xFF))
                changed = changed[: chance.choice((None, len(changed) - 1))] + bytes(chance.choice((0, 0, 4)))
                if (time := zip_reader._only_time(bytes(changed))) is not None:
                    short += 1
                    told = zip_reader._read_extra(bytes(changed), b"a", 1, 2, 3)
                    self.assertEqual(told, (1, 2, 3, time, None, None), changed.hex())
        self.assertGreater(short, 1000)

    def test_a_library_that_is_missing_is_told_and_the_file_is_not_taken_for_none(self) -> None:
        """What cannot be read for want of lz4 was once taken for a file of no archive, and placed whole."""
        with (
            mock.patch.dict(sys.modules, {"lz4": None, "lz4.frame": None}),
            self.assertRaisesRegex(UnreadableArchive, "compressed with lz4, for which a library is missing"),
        ):
            self.opened(b"\x04\x22\x4d\x18" + bytes(60), "moon.tar.lz4")

    # --- what it is --------------------------------------------------------------------------------------

    def test_the_content_tells_the_format_whatever_the_name(self) -> None:
        for compression in ("", "gz", "bz2", "xz", "zst"):
            with self.subTest(compression):
                archive = self.opened(packed_with(compression), "wrong.zip")
                self.assertEqual(archive.format, f"tar.{compression}" if compression else "tar")
                self.assertEqual(contents(archive), FILES)
        self.assertEqual(self.opened(zip_bytes(FILES), "wrong.tar.gz").format, "zip")

    def test_streams_behind_one_another_are_read_wherever_our_steps_end(self) -> None:
        """The mark of the next stream stood across two steps, and all behind it was silently left out."""
        pack = {"bz2": bz2.compress, "xz": lzma.compress, "zst": zstd.compress}
        files = {f"{number}.bin": random.Random(number).randbytes(600) for number in range(20)}
        plain = tar_bytes(files)
        for compression, packed in pack.items():
            streams = b"".join(packed(plain[at : at + 1500]) for at in range(0, len(plain), 1500))
            if compression == "zst":
                # A frame to be skipped may stand anywhere, at the beginning too.
                streams = b"\x52\x2a\x4d\x18\x03\0\0\0abc" + streams + b"\x50\x2a\x4d\x18\0\0\0\0"
            for step in (1, 7, 61, 1 << 18):
                with (
                    self.subTest(compression, step=step),
                    mock.patch("usufruct.archives.streams.decompress._STEP", step),
                ):
                    self.assertEqual(contents(self.opened(streams)), files)

    def test_a_zip_with_each_common_method(self) -> None:
        for method in (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED, zipfile.ZIP_BZIP2, zipfile.ZIP_LZMA):
            with self.subTest(method):
                self.assertEqual(contents(self.opened(zip_bytes(FILES, compression=method))), FILES)

    def test_a_model_that_would_take_the_memory_is_refused(self) -> None:
        for said, words in (
            (5 | 255 << 4, "256 MB of memory"),
            (5 | 15 << 4 | 2 << 12, "the way 2"),
            (0, "an order of 1"),
        ):
            with self.assertRaisesRegex(ValueError, words):
                list(unppmd([struct.pack("<H", said), b"packed"]))

    def test_a_zip_packed_with_zstandard_or_xz_or_a_model(self) -> None:
        model = pyppmd.Ppmd8Encoder(6, 16 << 20, 0)
        predicted = struct.pack("<H", 5 | 15 << 4) + model.encode(b"hello") + model.flush(endmark=True)
        for method, packed in ((93, zstd.compress(b"hello")), (95, lzma.compress(b"hello")), (98, predicted)):
            plain = zip_bytes({"a.txt": b"hello"}, compression=zipfile.ZIP_STORED)
            offset = 30 + len("a.txt")
            local = (
                plain[:8] + struct.pack("<H", method) + plain[10:18] + struct.pack("<L", len(packed)) + plain[22:offset]
            )
            central = plain[offset + 5 :]
            central = (
                central[:10]
                + struct.pack("<H", method)
                + central[12:20]
                + struct.pack("<L", len(packed))
                + central[24:]
            )
            moved = struct.pack("<L", len(local) + len(packed))
            self.assertEqual(
                contents(self.opened(local + packed + central[:-6] + moved + central[-2:])), {"a.txt": b"hello"}
            )

    def test_data_before_a_zip_shifts_nothing(self) -> None:
        self.assertEqual(contents(self.opened(b"MZ self-extractor" * 99 + zip_bytes(FILES))), FILES)

    def test_a_comment_that_holds_an_end_mark_does_not_mislead(self) -> None:
        buffer = io.BytesIO(zip_bytes(FILES))
        with zipfile.ZipFile(buffer, "a") as archive:
            archive.comment = b"see PK\x05\x06 and more text behind it"
        self.assertEqual(contents(self.opened(buffer.getvalue())), FILES)

    def test_zip64_records(self) -> None:
        buffer = io.BytesIO()
        with zipfile.ZipFile(buffer, "w") as archive:
            with archive.open("big.bin", "w", force_zip64=True) as file:
                file.write(b"large enough to say so")
            for number in range(66_000):
                archive.writestr(zipfile.ZipInfo(f"{number}"), b"")
        opened = self.opened(buffer.getvalue())
        self.assertEqual(len(opened.listing), 66_001)
        self.assertEqual(b"".join(next(iter(opened.stream([0])))[1]), b"large enough to say so")

    # --- what it lists -----------------------------------------------------------------------------------

    def test_kinds_times_links_and_marks(self) -> None:
        files = {"d/": "", "d/run": "x", "d/link": "->run", "d/hard": "=>d/run"}
        for archive in (self.opened(tar_bytes(files)), self.opened(zip_bytes({**files, "d/hard": "x"}, mode=0o755))):
            with self.subTest(archive.format):
                entries = {entry.path: entry for entry in archive.listing}
                self.assertEqual(entries["d"].kind, EntryKind.DIRECTORY)
                self.assertEqual((entries["d/link"].kind, entries["d/link"].target), (EntryKind.LINK, "run"))
                self.assertEqual(entries["d/hard"].size, 1)
                self.assertEqual(contents(archive)["d/hard"], b"x")
                self.assertEqual(entries["d/run"].can_run, archive.format == "zip")
                self.assertIsNotNone(entries["d/run"].modified)

    def test_a_time_in_the_extended_field_is_exact_and_in_utc(self) -> None:
        info = zipfile.ZipInfo("a", (2001, 2, 3, 4, 5, 6))
        info.extra = struct.pack("<HHBl", 0x5455, 5, 1, 1_234_567_891)
        buffer = io.BytesIO()
        with zipfile.ZipFile(buffer, "w") as archive:
            archive.writestr(info, b"x")
        self.assertEqual(self.opened(buffer.getvalue()).listing.modified(0), 1_234_567_891 * 10**9)

    # --- damage ------------------------------------------------------------------------------------------

    def test_a_truncated_download_is_damaged(self) -> None:
        for content in (zip_bytes(FILES), packed_with("gz"), packed_with("xz"), packed_with("bz2"), packed_with("zst")):
            with self.assertRaises(DamagedArchive):
                contents(self.opened(content[: len(content) * 2 // 3]))

    def test_a_flipped_bit_is_found_and_the_entry_named(self) -> None:
        content = bytearray(zip_bytes({"a.txt": b"hello world" * 50}, compression=zipfile.ZIP_STORED))
        content[60] ^= 1
        with self.assertRaisesRegex(DamagedArchive, r"a\.txt.*does not match its checksum"):
            contents(self.opened(bytes(content)))

    def test_a_locked_entry_and_an_unknown_method_are_named(self) -> None:
        content = bytearray(zip_bytes({"a.txt": b"hello"}))
        at = content.rindex(b"PK\x01\x02")
        content[at + 10 : at + 12] = struct.pack("<H", 97)
        with self.assertRaisesRegex(UnreadableArchive, "wavpack"):
            contents(self.opened(bytes(content)))
        content[at + 8] |= 1
        with self.assertRaisesRegex(PasswordNeeded, "locked with a password"):
            contents(self.opened(bytes(content)))

    def test_what_is_no_archive_is_said_to_be_none(self) -> None:
        with self.assertRaises(NotAnArchive):
            self.opened(b"just text", "poem.txt")
        with self.assertRaisesRegex(DamagedArchive, "called an archive"):
            self.opened(bytes(range(1, 256)) * 40, "pack.zip")
        with self.assertRaisesRegex(DamagedArchive, "is a damaged 7z"):
            self.opened(b"7z\xbc\xaf\x27\x1c" + bytes(600), "pack.7z")
        with self.assertRaises(MachineError):
            open_archive(self.folder / "missing.zip")
        with self.assertRaises(MachineError):
            open_archive(self.folder)

    def test_what_is_called_an_archive_and_is_something_else_is_told_for_what_it_is(self) -> None:
        """A sound picture called .rar was "damaged, download it again", and so was a page that wanted a login."""
        picture = b"\x89PNG\r\n\x1a\n" + bytes.fromhex("0000000d49484452000000010000000108000000003a7e9b55") + bytes(99)
        cases = {
            "owl.rar": (picture, r"a picture \(PNG\)"),
            "paper.zip": (b"%PDF-1.4\n1 0 obj\n", "a PDF document"),
            "page.zip": (b"<!DOCTYPE html>\n<title>Log in</title>", r"a web page \(\"Log in\"\).*want a login"),
            "link.7z": (b"https://example.test/owl.zip\n", "a link to https://example.test/owl.zip"),
            "short.tar": (b"[InternetShortcut]\r\nURL=https://example.test/a\r\n", "a link to https://example.test/a"),
            "error.zip": (b'{"error": "rate limit"}', "a short text"),
            "setup.zip": (b"MZ" + bytes(600), "a program.*Nothing is run"),
            "nothing.zip": (b"", "is empty"),
            "zeros.rar": (bytes(100_000), "nothing but zeros"),
            "letter.zip": (zip_bytes({"[Content_Types].xml": "x", "_rels/.rels": "x", "word/document.xml": "x"},
                                     compression=zipfile.ZIP_STORED), "a text document"),
        }  # fmt: skip
        for name, (content, said) in cases.items():
            with self.subTest(name), self.assertRaisesRegex(Misnamed, f"(?s){said}"):
                self.opened(content, name)

    def test_what_no_name_calls_an_archive_is_one_file_and_said_to_be_what_it_is(self) -> None:
        for name, content, said in (
            ("a.png", b"\x89PNG\r\n\x1a\n" + bytes(99), "a picture (PNG)"),
            ("a.gel", b"moon", ""),
        ):
            with self.assertRaises(NotAnArchive) as caught:
                self.opened(content, name)
            self.assertEqual(caught.exception.what, said)


if __name__ == "__main__":
    unittest.main()
