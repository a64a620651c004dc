"""What lies beside an archive in the same file: padding, another one, a program, a signature, what nobody knows."""

import bz2
import gzip
import io
import lzma
import struct
import unittest
import zipfile
from typing import Any

from tests.archives.case import ArchiveCase, access, contents
from tests.archives.zip_writer import Item, zip_of
from tests.fuzzing.mutants import PASSWORD, SEEDS, seed_of
from tests.support import as_bytes, tar_bytes, zip_bytes
from usufruct.archives.allowance import Limits
from usufruct.errors import ArchiveError, UnsafeArchive

BEHIND = {
    "zip": zip_bytes({"second.gel": "zip"}),
    "tar.xz": lzma.compress(tar_bytes({"second.gel": "tar"})),
    "7z": seed_of("7z"),
}
NO_END = ("tar.Z", "Z")
"""Their packing has no end that its bytes tell: what follows is taken for more of it, and is damage."""
SIGNED = b"\x30\x82\x01\x00" + bytes.fromhex("06092a864886f70d010702") + b"signature"


class BesideTest(ArchiveCase):
    def found(self, content: bytes) -> tuple[set[str], tuple[tuple[int, int], ...]]:
        archive = self.opened(content, "pack", access(PASSWORD))
        archive.unlock()
        return set(contents(archive)), archive.facts.unread

    def test_every_kind_with_something_behind_it(self) -> None:
        for kind in SEEDS:
            one = seed_of(kind)
            names, unread = self.found(one)
            self.assertEqual(unread, (), kind)
            if kind in NO_END:
                continue
            with self.subTest(kind, behind="zeros"):
                self.assertEqual(self.found(one + bytes(5000)), (names, ()))
            with self.subTest(kind, behind="a signature"):
                self.assertEqual(self.found(one + SIGNED), (names, ()))
            with self.subTest(kind, behind="what nobody knows"):
                again, ((begin, size),) = self.found(one + b"what is this? " * 30)
                self.assertEqual((again, begin + size), (names, len(one) + 420))
            for other, content in BEHIND.items():
                with self.subTest(kind, behind=other):
                    both, unread = self.found(one + content)
                    self.assertEqual(unread, ())
                    second = {f"pack#2/{name}" for name in self.found(content)[0]}
                    self.assertEqual(both, names | second)
        both = self.opened(seed_of("7z") + BEHIND["zip"], "pack.7z")
        self.assertEqual((both.format, both.facts.behind), ("7z", 1))

    def test_every_kind_before_a_zip_is_read_first(self) -> None:
        archive = self.opened(zip_bytes({"a.gel": "1"}) + zip_bytes({"a.gel": "2"}), "pack.zip")
        self.assertEqual(contents(archive), {"a.gel": b"1", "pack.zip#2/a.gel": b"2"})

    def test_two_tars_in_one_stream_and_three_behind_one_another(self) -> None:
        tars = [tar_bytes({"a.gel": str(number), "b.gel": "=>a.gel"}) for number in range(3)]
        for pack in (bytes, gzip.compress, bz2.compress, lzma.compress):
            for content in (pack(b"".join(tars)), b"".join(map(pack, tars))):
                found = contents(self.opened(content, "pack"))
                places = ("", "pack#2/", "pack#3/")
                expected = {f"{at}{name}.gel": b"%d" % n for n, at in enumerate(places) for name in "ab"}
                self.assertEqual(found, expected)

    def test_many_behind_one_another_are_counted_once(self) -> None:
        one = tar_bytes({"a.gel": bytes(40_000)})
        few = access(limits=Limits(ratio=1, free=len(one) * 41))
        archive = self.opened(gzip.compress(one * 40), "pack", few)
        self.assertEqual(len(contents(archive)), 40)

    def test_no_more_than_a_hundred_in_one_file_are_opened(self) -> None:
        one = seed_of("7z")
        archive = self.opened(one * 103, "pack")
        self.assertEqual((archive.facts.behind, len(archive.facts.unread)), (99, 1))

    def test_names_and_numbers_are_kept_apart(self) -> None:
        """A `#` in the file's own name once ended it, and a zip behind two tars got the second tar's folder."""
        content = tar_bytes({"a.gel": "1"}) + tar_bytes({"a.gel": "2"}) + zip_bytes({"a.gel": "3"})
        found = contents(self.opened(content, "C# pack.tar"))
        self.assertEqual(found, {"a.gel": b"1", "C# pack.tar#2/a.gel": b"2", "C# pack.tar#3/a.gel": b"3"})

    def test_a_header_without_a_length_ends(self) -> None:
        head = b"\x21\0-lh0-" + bytes(13) + b"\3" + bytes(600)
        with self.assertRaises(ArchiveError):
            self.opened(head, "pack.lzh")

    def test_each_of_them_has_its_own_directories_and_links(self) -> None:
        two = tar_bytes({"d/a.gel": "1"}) + tar_bytes({"d/b.gel": "2", "c.gel": "=>d/a.gel"})
        archive = self.opened(two, "pack")
        self.assertEqual(set(contents(archive)), {"d/a.gel", "pack#2/d/b.gel"})
        self.assertEqual([refused.entry for refused in archive.listing.refused], ["c.gel"])

    def test_what_is_not_understood_or_harmful_in_the_second_counts_as_in_the_first(self) -> None:
        first, second = zip_bytes({"a.gel": "1"}), gzip.compress(tar_bytes({"b.gel": bytes(5_000_000)}) + b"rest" * 100)
        self.assertEqual(len(self.found(first + second)[1]), 1)
        with self.assertRaisesRegex(UnsafeArchive, "times its size"):
            self.opened(first + second, "pack", access(limits=Limits(ratio=1, free=1 << 20)))

    def test_what_would_be_unsafe_in_the_first_is_unsafe_in_the_second(self) -> None:
        archive = self.opened(tar_bytes({"a": "1"}) + tar_bytes({"/etc/b": "2", "../c": "3"}), "pack")
        self.assertEqual([refused.entry for refused in archive.listing.refused], ["/etc/b", "../c"])

    def test_a_stream_that_ends_in_something_else_tells_where(self) -> None:
        plain = tar_bytes({"a.gel": "1"})
        archive = self.opened(gzip.compress(plain + b"rest" * 100), "pack.tar.gz")
        self.assertEqual((set(contents(archive)), archive.facts.unread), ({"a.gel"}, ((len(plain), 400),)))

    def test_programs_and_signatures_before_an_archive_are_known_as_such(self) -> None:
        zipped = zip_bytes({"a.gel": "1"})
        self.assertEqual(self.found(zipped + b"-----BEGIN PGP SIGNATURE-----\nabc\n"), ({"a.gel"}, ()))
        for before in (b"#!/usr/bin/env python3\n", b"MZ" + bytes(600), b"Cr24" + struct.pack("<II", 3, 4) + b"head"):
            self.assertEqual(self.found(before + zipped), ({"a.gel"}, ()))
        with_zip = io.BytesIO(b"MZ" + bytes(600))
        with zipfile.ZipFile(with_zip, "a") as archive:  # whose offsets count from the program's start
            archive.writestr("a.gel", "1")
        self.assertEqual(self.found(with_zip.getvalue()), ({"a.gel"}, ()))
        self.assertEqual(self.found(b"GIF89a; a picture" + zipped), ({"a.gel"}, ((0, 17),)))

    def test_a_hole_between_two_entries_of_a_zip_is_told(self) -> None:
        zipped = zip_bytes({"a.gel": "1" * 50, "b.gel": "2"})
        second = zipped.index(b"PK\x03\x04", 4)
        for hole in (b"x", b"a descriptor", b"deleted " * 200):
            moved = self.with_hole(zipped, second, hole)
            self.assertEqual(self.found(moved), ({"a.gel", "b.gel"}, ((second, len(hole)),)))
        self.assertEqual(self.found(self.with_hole(zipped, second, bytes(90))), ({"a.gel", "b.gel"}, ()))

    def test_a_hole_of_the_size_that_another_entrys_extra_field_has_is_told(self) -> None:
        """One header of each size is read, and `0.gel` took as much as `a.gel`."""
        with_time = Item(b"a.gel", b"1", extra=struct.pack("<HHBI", 0x5455, 5, 1, 1 << 30))
        [zipped] = zip_of([Item(b"0.gel", b"0"), with_time, Item(b"b.gel", b"2")])
        first = zipped.index(b"PK\x03\x04", 4)
        names, unread = self.found(self.with_hole(zipped, first, b"9 unknown"))
        self.assertEqual((names, unread), ({"0.gel", "a.gel", "b.gel"}, ((first, 9),)))

    def test_each_of_several_holes_of_one_size_is_told(self) -> None:
        zipped = zip_bytes({"a.gel": "1", "b.gel": "2", "c.gel": "3"})
        second = zipped.index(b"PK\x03\x04", 4)
        third = zipped.index(b"PK\x03\x04", second + 4)
        moved = self.with_hole(self.with_hole(zipped, third, b"unknown"), second, b"unknown")
        self.assertEqual(self.found(moved)[1], ((second, 7), (third + 7, 7)))

    def test_the_descriptor_behind_an_entry_of_a_zip_is_known(self) -> None:
        class Pipe(io.RawIOBase):
            def __init__(self) -> None:
                self.written = b""

            def writable(self) -> bool:
                return True

            def write(self, content: Any) -> int:
                self.written += bytes(content)
                return len(content)

        pipe = Pipe()
        with zipfile.ZipFile(pipe, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("a.gel", "1")
            with archive.open("b.gel", "w", force_zip64=True) as entry:
                entry.write(b"2")
        self.assertEqual(self.found(pipe.written), ({"a.gel", "b.gel"}, ()))

    def test_what_a_refused_entry_of_a_zip_takes_is_no_hole(self) -> None:
        device = Item(b"c", b"3", mode=0o60600, system=3)
        [zipped] = zip_of([Item(b"../a.gel", b"1" * 900), Item(b"b.gel", b"2"), device])
        archive = self.opened(zipped, "pack")
        self.assertEqual((len(archive.listing.refused), archive.facts.unread, archive.extent[0]), (2, (), 0))

    def test_bytes_behind_the_entries_of_a_zips_directory_are_told_but_for_a_signature(self) -> None:
        zipped = zip_bytes({"a.gel": "1"})
        end = zipped.index(b"PK\x05\x06")
        for more, unread in ((b"unknown", ((end, 7),)), (b"PK\x05\x05\4\0sign", ())):
            made = bytearray(zipped[:end] + more + zipped[end:])
            place = end + len(more)
            made[place + 12 : place + 16] = struct.pack("<I", end - zipped.index(b"PK\x01\x02") + len(more))
            self.assertEqual(self.found(bytes(made)), ({"a.gel"}, unread))

    @staticmethod
    def with_hole(zipped: bytes, at: int, hole: bytes) -> bytes:
        """The zip with bytes put in before a header, and all places behind it stated anew."""
        directory = zipped.index(b"PK\x01\x02")
        moved = bytearray(zipped[:at] + hole + zipped[at:])
        entry = directory + len(hole)
        while (entry := moved.find(b"PK\x01\x02", entry)) >= 0:
            [place] = struct.unpack_from("<I", moved, entry + 42)
            struct.pack_into("<I", moved, entry + 42, place + len(hole) * (place >= at))
            entry += 4
        struct.pack_into("<I", moved, moved.index(b"PK\x05\x06") + 16, directory + len(hole))
        return bytes(moved)

    def test_signatures_before_a_zips_directory_are_known_as_such(self) -> None:
        zipped = zip_bytes({"a.gel": "1"})
        directory = zipped.index(b"PK\x01\x02")
        for mark, unread in ((b"APK Sig Block 42", 0), (b"APK Sig Block 43", 1)):
            made = bytearray(zipped[:directory] + b"signed " * 100 + mark + zipped[directory:])
            end = made.index(b"PK\x05\x06")
            made[end + 16 : end + 20] = struct.pack("<I", directory + 716)
            names, found = self.found(bytes(made))
            self.assertEqual((names, len(found)), ({"a.gel"}, unread))

    def test_one_that_asks_for_a_password_asks_for_it_behind_another_too(self) -> None:
        archive = self.opened(zip_bytes({"a.gel": as_bytes("1")}) + seed_of("zip, AES"), "pack", access(PASSWORD))
        self.assertGreater(archive.facts.locked_entries, 0)
        archive.unlock()
        self.assertIn(b"hello" * 30, contents(archive).values())


if __name__ == "__main__":
    unittest.main()
