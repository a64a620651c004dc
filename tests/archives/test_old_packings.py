"""Packings of long ago and of other places: compress, lzip, cpio, rpm and xar."""

import gzip
import io
import lzma
import random
import struct
import unittest
import zlib
from typing import ClassVar

from tests.archives.case import ArchiveCase, access, contents
from tests.archives.old_writers import compressed, cpio_of, lzipped, rpm_of, xar_of
from tests.support import tar_bytes
from usufruct.archives.allowance import Limits
from usufruct.archives.archive_library import library_version
from usufruct.archives.streams.lzw import unlzw
from usufruct.errors import DamagedArchive, UnreadableArchive, UnsafeArchive

FILES = {"a.txt": b"hello", "dir/b.bin": bytes(range(256)) * 5000, "dir/\u00fcber.txt": b"over"}


class OldPackingsTest(ArchiveCase):
    def test_as_one_file_and_around_a_tar(self) -> None:
        for kind, pack in (("Z", compressed), ("lz", lzipped)):
            with self.subTest(kind):
                tar = self.opened(pack(tar_bytes(FILES)), f"moon.tar.{kind}")
                self.assertEqual((tar.format, contents(tar)), (f"tar.{kind}", FILES))
                one = self.opened(pack(b"moon" * 999), f"moon.gel.{kind}")
                self.assertEqual((one.format, contents(one)), (kind, {"moon.gel": b"moon" * 999}))
                self.assertEqual(one.facts.has_checksums, kind == "lz")
                self.assertEqual(one.facts.said_format, "")

    def test_codes_of_every_width_that_are_forgotten_or_stand_for_themselves(self) -> None:
        chance = random.Random(7)
        plains = (
            b"", b"a", b"a" * 50_000, bytes(chance.choice(b"ab") for _ in range(20_000)), chance.randbytes(70_000),
        )  # fmt: skip
        for widest in (10, 13, 16):
            for plain in plains:
                for forget_at in ((), (1, 2, 700, 15_000)):
                    with self.subTest(widest=widest, size=len(plain), forget_at=forget_at):
                        packed = compressed(plain, widest, forget_at=forget_at)
                        self.assertTrue(b"".join(unlzw(io.BytesIO(packed))) == plain)

    @unittest.skipUnless(library_version(), "libarchive is not installed, which would write them otherwise")
    def test_as_others_write_them(self) -> None:
        import libarchive

        plain = tar_bytes(FILES)
        for kind, name in (("Z", "compress"), ("lz", "lzip")):
            path = self.folder / f"others.tar.{kind}"
            with libarchive.file_writer(str(path), "raw", name) as writer:
                writer.add_file_from_memory("x", len(plain), plain)
            with self.subTest(kind):
                self.assertEqual(contents(self.opened(path.read_bytes(), path.name)), FILES)

    @unittest.skipUnless(library_version(), "libarchive is not installed")
    def test_the_listing_passes_over_content_and_still_misses_what_is_cut_off(self) -> None:
        one = b"moon.gel/       0           0     0     100644  400000    `\n" + bytes(400_000)
        whole = b"!<arch>\n" + one
        self.assertEqual(self.opened(whole).listing.sizes[0], 400_000)
        with self.assertRaisesRegex(DamagedArchive, "Truncated"):
            self.opened(whole[:-150_000])

    def test_members_behind_one_another_and_what_is_none(self) -> None:
        packed = lzipped(b"moon") + lzipped(b"owl", version=0, dictionary=0xF4)
        for behind in (b"", b"more", b"LZ0P"):
            self.assertEqual(contents(self.opened(packed + behind, "two.lz")), {"two": b"moonowl"})
        for cut in (b"LZ", b"LZIP\1", lzipped(b"third")[:-1]):
            with self.subTest(cut), self.assertRaises(DamagedArchive):
                self.opened(packed + cut, "cut.lz")

    def test_what_does_not_hold_together_is_damaged(self) -> None:
        good = lzipped(b"moon" * 99)
        broken = (
            good[:-20] + b"\0" + good[-19:], good[:-16] + b"\0" + good[-15:], good[:-8] + b"\0" + good[-7:], good[:4],
            good[:9], good[:4] + b"\2" + good[5:], good[:5] + b"\x0b" + good[6:], good[:30] + b"\xff" * 9 + good[39:],
            b"\x1f\x9d\x90\xff\xff\xff", b"\x1f\x9d\x90a\x06\x06",
        )  # fmt: skip
        for data in broken:
            with self.subTest(data), self.assertRaises(DamagedArchive):
                self.opened(data, "moon")

    def test_few_bytes_that_would_fill_the_memory_are_refused(self) -> None:
        with self.assertRaises(UnsafeArchive):
            self.opened(lzipped(b"moon", dictionary=0x1D), "moon.lz")
        with self.assertRaises(UnsafeArchive):
            self.opened(compressed(b"a" * 400_000), "a.Z", access(limits=Limits(free=1000)))

    # --- cpio --------------------------------------------------------------------------------------------

    def test_a_cpio_of_each_form_packed_or_in_an_rpm(self) -> None:
        large = bytes(range(256)) * 200
        files = [
            ("dir", b"", 0o040755, 1), ("dir/odd", b"odd", 0o100644, 2), ("run", large, 0o100755, 3),
            ("link", b"dir/odd", 0o120777, 4), ("pipe", b"", 0o010644, 5), ("empty", b"", 0o100644, 6),
        ]  # fmt: skip
        expected = {"dir/odd": b"odd", "run": large, "empty": b""}
        for form in ("hex", "summed", "octal", "little", "big"):
            plain = cpio_of(files, form)
            forms = {"cpio": plain, "cpio.gz": gzip.compress(plain), "cpio.Z": compressed(plain)}
            for said, content in {**forms, "rpm": rpm_of(lzma.compress(plain))}.items():
                with self.subTest(form, said=said):
                    archive = self.opened(content, f"moon.{said}")
                    self.assertEqual((archive.format, archive.facts.said_format), (said, ""))
                    self.assertEqual(contents(archive), expected)
                    listing = archive.listing
                    self.assertEqual([listing.path(row) for row in listing.runnable], ["run"])
                    self.assertEqual(list(listing.targets.values()), ["dir/odd"])
                    self.assertEqual([one.entry for one in listing.refused], ["pipe"])
                    self.assertEqual(listing.modified(1), 1_234_567_890 * 10**9)

    def test_files_of_several_names_have_the_content_that_came_with_one_of_them(self) -> None:
        for stored in range(3):
            names = [(name, b"moth" if at == stored else b"", 0o100644, 7) for at, name in enumerate("abc")]
            nothing = [(name, b"", 0o100644, 8) for name in "de"]
            for content in (plain := cpio_of([*nothing, *names], "hex"), gzip.compress(plain)):
                with self.subTest(stored):
                    found = contents(self.opened(content))
                    self.assertEqual(found, {"a": b"moth", "b": b"moth", "c": b"moth", "d": b"", "e": b""})
        each = cpio_of([(name, name.encode(), 0o100644, 7) for name in "ab"], "octal")
        self.assertEqual(contents(self.opened(each)), {"a": b"a", "b": b"b"})

    @unittest.skipUnless(library_version(), "libarchive is not installed, which would write them otherwise")
    def test_a_cpio_as_others_write_it(self) -> None:
        import libarchive

        for form in ("cpio", "cpio_newc"):
            path = self.folder / form
            with libarchive.file_writer(str(path), form, "gzip") as writer:
                for name, content in FILES.items():
                    writer.add_file_from_memory(name, len(content), content)
            with self.subTest(form):
                self.assertEqual(contents(self.opened(path.read_bytes())), FILES)

    def test_the_sums_that_one_form_states_are_compared(self) -> None:
        plain = bytearray(cpio_of([("a", b"moth", 0o100644, 1), ("b", b"moon", 0o100644, 2)], "summed"))
        self.assertTrue(self.opened(bytes(plain)).facts.has_checksums)
        plain[plain.index(b"moon")] ^= 1
        with self.assertRaisesRegex(DamagedArchive, "b in .* match their sum"):
            contents(self.opened(bytes(plain)))

    def test_a_cpio_or_rpm_that_breaks_off_is_damaged(self) -> None:
        plain = cpio_of([("moon", b"moon" * 99, 0o100644, 1)], "hex")
        rpm = rpm_of(gzip.compress(plain))
        names = plain[:94] + b"ffffffff" + plain[102:]
        for data in (plain[:60], plain[:115], plain[:300], plain[:-20], names, plain[:9] + b"+-_x" + plain[13:],
                     plain[:54] + b"-0000001" + plain[62:]):  # fmt: skip
            with self.subTest(data[:120]), self.assertRaises(DamagedArchive):
                self.opened(data)
        for data in (rpm[:50], rpm[:100], rpm[:400], rpm[:-30], rpm[:97] + b"?" + rpm[98:]):
            with self.subTest(len(data)), self.assertRaises(DamagedArchive):
                self.opened(data)
        with self.assertRaises(UnreadableArchive):
            self.opened(rpm_of(b"packed otherwise"))
        self.assertEqual(self.opened(rpm).size, len(rpm))


class XarTest(ArchiveCase):
    FILES: ClassVar = {"run": b"#!", "Owls/rig & more.toml": b"joints = 3\n" * 90, "Owls/deep/b": b"", "a": bytes(5000)}

    def test_files_in_directories_by_every_packing(self) -> None:
        for style in ("octet-stream", "x-gzip", "x-bzip2", "x-xz", "x-lzma"):
            archive = self.opened(xar_of(self.FILES, style, digest="sha256"))
            with self.subTest(style):
                self.assertEqual(contents(archive), self.FILES)
                listing = archive.listing
                self.assertEqual([listing.path(row) for row in listing.runnable], ["run"])
                self.assertEqual(listing.modified(0), 1_234_567_890 * 10**9)

    def test_links_and_what_is_none_of_our_business(self) -> None:
        number = zlib.crc32(b"a")
        more = (
            f'<file id="8"><name>again</name><type link="{number}">hardlink</type></file>'
            '<file id="9"><name>gone</name><type link="777">hardlink</type></file>'
            '<file id="10"><name>to</name><type>symlink</type><link type="file">a</link></file>'
            '<file id="11"><name>pipe</name><type>fifo</type></file><file id="12"><name>../up</name></file>'
        )
        archive = self.opened(xar_of({"a": b"moth"}, more=more))
        self.assertEqual(contents(archive), {"a": b"moth", "again": b"moth"})
        self.assertEqual(list(archive.listing.targets.values()), ["a"])
        self.assertEqual([one.entry for one in archive.listing.refused], ["pipe", "../up", "gone"])

    def test_what_is_damaged_or_made_to_do_harm_is_told(self) -> None:
        whole = xar_of(self.FILES)
        broken = bytearray(whole)
        broken[-3] ^= 1
        with self.assertRaisesRegex(DamagedArchive, "^Owls/deep/b in"):
            contents(self.opened(bytes(broken)))
        for table in (whole[:60], whole[:20], bytes(broken[:40]) + bytes(60) + bytes(broken[100:])):
            with self.assertRaisesRegex(DamagedArchive, "is a damaged xar"):
                self.opened(table)
        entities = b'<?xml version="1.0"?><!DOCTYPE x [<!ENTITY a "b">]><xar><toc>&a;</toc></xar>'
        deep = b"<xar><toc>" + b'<file id="1"><name>d</name>' * 300
        for plain, words in ((entities, "declares entities"), (deep, "more than 200 directories")):
            packed = zlib.compress(plain)
            head = struct.pack(">4sHHQQL", b"xar!", 28, 1, len(packed), len(plain), 0)
            with self.assertRaisesRegex(DamagedArchive, words):
                self.opened(head + packed)


if __name__ == "__main__":
    unittest.main()
