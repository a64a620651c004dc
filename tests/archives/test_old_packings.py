"""Packings of long ago and of other places: compress and lzip, as one file and around a tar."""

import io
import random
import unittest

from tests.archives.case import ArchiveCase, access, contents
from tests.archives.old_writers import compressed, lzipped
from tests.support import tar_bytes
from usufruct.archives.allowance import Limits
from usufruct.archives.library import library_version
from usufruct.archives.lzw import unlzw
from usufruct.errors import DamagedArchive, UnsafeArchive

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


if __name__ == "__main__":
    unittest.main()
