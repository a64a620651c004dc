"""What archives made to do harm come to, each by its name. docs/hostile-input.md is the same list for readers."""

import gzip
import io
import lzma
import os
import signal
import struct
import tarfile
import unittest
import zipfile
import zlib

from tests.archives.case import ArchiveCase, access, contents
from tests.archives.rar_writer import Member, RarWriter, vint
from tests.archives.zip_writer import Item, zip_of
from tests.fuzzing.bombs import header, seven_of, seven_with_link, tar_of_sparse_files
from tests.support import tar_bytes, zip_bytes
from usufruct.archives.allowance import Limits
from usufruct.archives.nested import opened_inside
from usufruct.errors import ArchiveError, DamagedArchive, MachineError, UnreadableArchive, UnsafeArchive
from usufruct.model.entries import EntryKind

OUT = ["../up", "/abs", "C:\\x", "C:relative", "a/../../b", "..", "a/..", "x\\..\\..\\y", "\\\\server\\share\\x"]


class HostileTest(ArchiveCase):
    def test_paths_that_lead_out_are_refused_in_every_format(self) -> None:
        made = {
            "zip": zip_bytes(dict.fromkeys([*OUT, "ok/./fine"], "x")),
            "tar": tar_bytes(dict.fromkeys([*OUT, "ok/./fine"], "x")),
            "rar": RarWriter().volumes([Member(name, b"x") for name in [*OUT, "ok/./fine"]])[0],
        }
        for kind, content in made.items():
            with self.subTest(kind):
                listing = self.opened(content).listing
                self.assertEqual([entry.path for entry in listing], ["ok/fine"])
                self.assertEqual(len(listing.refused), len(OUT))

    def test_an_empty_name_and_a_name_with_a_nul_are_refused_or_cut(self) -> None:
        listing = self.opened(zip_of([Item(b"", b"x"), Item(b"a\0b.gel", b"x"), Item(b"./", b"")])[0]).listing
        self.assertFalse([entry.path for entry in listing if "\0" in entry.path])
        self.assertEqual(
            [refusal.reason for refusal in listing.refused], ["it has no name", "its name holds a NUL character"]
        )

    def test_devices_pipes_and_set_user_bits_are_never_made(self) -> None:
        buffer = io.BytesIO()
        with tarfile.open(fileobj=buffer, mode="w") as tar:
            for name, kind in (("disk", tarfile.BLKTYPE), ("tty", tarfile.CHRTYPE), ("pipe", tarfile.FIFOTYPE)):
                info = tarfile.TarInfo(name)
                info.type = kind
                tar.addfile(info)
            info = tarfile.TarInfo("root-shell")
            info.mode = 0o6755
            tar.addfile(info, io.BytesIO(b""))
        listing = self.opened(buffer.getvalue()).listing
        self.assertEqual([refusal.entry for refusal in listing.refused], ["disk", "tty", "pipe"])
        self.assertEqual(list(listing.runnable), [0])
        pipe = self.opened(zip_of([Item(b"pipe", b"", mode=0o010644, system=3)])[0]).listing
        self.assertEqual(len(pipe.refused), 1)

    def test_hard_links_to_what_is_not_in_the_archive_are_refused(self) -> None:
        for target in ("/etc/passwd", "../outside", "never-seen"):
            listing = self.opened(tar_bytes({"a": "x", "link": f"=>{target}"})).listing
            with self.subTest(target):
                self.assertEqual([entry.path for entry in listing], ["a"])
                self.assertEqual([refusal.entry for refusal in listing.refused], ["link"])

    def test_chains_and_circles_of_hard_links_end(self) -> None:
        chained = self.opened(tar_bytes({"a": "x", "b": "=>a", "c": "=>b"}))
        self.assertEqual(contents(chained), {"a": b"x", "b": b"x", "c": b"x"})
        circle = self.opened(tar_bytes({"b": "=>c", "c": "=>b", "d": "=>d"}))
        self.assertFalse([entry for entry in circle.listing if entry.kind == EntryKind.FILE])

    def test_an_entry_that_unpacks_to_more_than_it_says_stops(self) -> None:
        content = zip_bytes({"bomb": b"\0" * 5_000_000})
        at = content.rindex(b"PK\x01\x02")
        lying = content[: at + 24] + struct.pack("<L", 10) + content[at + 28 :]
        with self.assertRaisesRegex(DamagedArchive, "bomb.*more than its stated 10 bytes"):
            contents(self.opened(lying))

    def test_an_entry_that_unpacks_to_less_than_it_says_is_damaged_whatever_its_checksum(self) -> None:
        for method in (zipfile.ZIP_DEFLATED, zipfile.ZIP_STORED):
            content = zip_bytes({"short": b"moth" * 1000, "more": b"m" * 9000}, compression=method)
            at = content.index(b"PK\x01\x02")
            lying = content[: at + 24] + struct.pack("<L", 5000) + content[at + 28 :]
            with self.subTest(method=method), self.assertRaisesRegex(DamagedArchive, "short"):
                contents(self.opened(lying))

    @unittest.skipUnless(hasattr(os, "mkfifo"), "there are no pipes with names here")
    def test_a_pipe_or_a_device_of_an_archives_name_is_refused_at_once(self) -> None:
        """Opening a pipe waits for somebody who writes; an alarm ends the test if it does."""
        pipe, device = self.folder / "pack.zip", self.folder / "null.zip"
        os.mkfifo(pipe)
        device.symlink_to("/dev/null")
        signal.signal(signal.SIGALRM, lambda *_: self.fail("it waits"))
        signal.alarm(10)
        self.addCleanup(signal.alarm, 0)
        for path, kind in ((pipe, "pipe"), (device, "device")):
            with self.subTest(kind), self.assertRaisesRegex(MachineError, f"is a {kind}, not a file"):
                self.open(path)

    def test_a_bomb_by_ratio_stops_before_it_is_unpacked(self) -> None:
        few = Limits(ratio=100, free=1 << 20)
        with self.assertRaisesRegex(UnsafeArchive, "more than 100 times its size"):
            contents(self.opened(zip_bytes({"zeros": bytes(20_000_000)}), how=access(limits=few)))
        # What must be unpacked only to be listed may give a tenth of that.
        with self.assertRaisesRegex(UnsafeArchive, "more than 10 times its size"):
            contents(self.opened(gzip.compress(bytes(20_000_000)), "zeros.gz", access(limits=few)))
        with self.assertRaisesRegex(UnsafeArchive, "more than 10 times its size"):
            contents(self.opened(gzip.compress(tar_bytes({"zeros": bytes(20_000_000)})), how=access(limits=few)))

    def test_entries_that_lie_over_one_another_are_refused(self) -> None:
        inner = zip_of([Item(b"a", b"x" * 100)])[0]
        at = inner.index(b"PK\x01\x02")
        central = inner[at : at + 47]
        end = struct.pack("<4s4H2LH", b"PK\x05\x06", 0, 0, 2, 2, 94, at, 0)
        # The second at the first one's place, and where the first one's last bytes are: its header takes 30 as well.
        for offset in (0, 110):
            second = central[:42] + struct.pack("<I", offset) + b"b"
            with self.assertRaisesRegex(UnsafeArchive, "a and b overlap"):
                self.opened(inner[:at] + central + second + end)
        # One that is refused for its name lies somewhere too.
        with self.assertRaisesRegex(UnsafeArchive, "a and an entry that is refused overlap"):
            self.opened(inner[:at] + central + central[:42] + struct.pack("<I", 110) + b"/" + end)

    def test_entries_that_begin_outside_the_file_are_damage(self) -> None:
        device = Item(b"a", b"x", mode=0o60600, system=3)
        for item in (Item(b"a", b"x"), Item(b"\xc3\xa4", b"x", flags=0x800), Item(b"../a", b"x"), device):
            [made] = zip_of([item])
            entry = made.index(b"PK\x01\x02") + 42
            with self.assertRaisesRegex(DamagedArchive, "begins outside the file, at byte 9999"):
                self.opened(made[:entry] + struct.pack("<I", 9999) + made[entry + 4 :])

    def test_more_entries_than_the_limit(self) -> None:
        for content in (zip_bytes(dict.fromkeys("abcdef", "x")), tar_bytes(dict.fromkeys("abcdef", "x"))):
            with self.assertRaisesRegex(UnsafeArchive, "more than 5 entries"):
                self.opened(content, how=access(limits=Limits(entries=5)))

    def test_what_is_unpacked_counts_as_a_sum(self) -> None:
        few = access(limits=Limits(ratio=1, free=1 << 20))
        content = bytes(600_000)
        copies = [Member("a", content), Member("b", target="a", link_kind=5)]
        made = {
            "sparse files": tar_of_sparse_files(2, 16 * 600_000),
            "hard links": gzip.compress(tar_bytes({"a": content, "b": "=>a", "c": "=>a"})),
            "copies": RarWriter().volumes(copies)[0],
        }
        for what, archive in made.items():
            with self.subTest(what), self.assertRaisesRegex(UnsafeArchive, "times its size"):
                self.opened(archive, how=few)
        # Holes take hardly any room, and count for as little.
        self.assertEqual(len(self.opened(tar_of_sparse_files(2, 2_000_000), how=few).listing), 2)

    def test_a_sparse_file_of_which_nothing_is_stored_is_all_zeros(self) -> None:
        self.assertEqual(contents(self.opened(tar_of_sparse_files(1, 5000))), {"sparse0": bytes(5000)})

    def test_archives_inside_count_with_the_one_that_holds_them(self) -> None:
        inner = tar_bytes(dict.fromkeys("abc", "x"))
        outer = self.opened(zip_bytes({"1.tar": inner, "2.tar": inner}), how=access(limits=Limits(entries=7)))
        with self.assertRaisesRegex(UnsafeArchive, "more than 7 entries"):
            opened_inside(outer, [0, 1], access(), insist=True)

    def test_what_is_opened_for_one_definition_is_no_part_of_what_another_opens(self) -> None:
        inner = tar_bytes(dict.fromkeys("abc", "x"))
        outer = self.opened(zip_bytes({"1.tar": inner, "2.tar": inner}), how=access(limits=Limits(entries=7)))
        for rows in ([0], [1], [0]):
            found = opened_inside(outer, rows, access(), insist=True)
            assert found
            found.close()

    def test_names_are_counted_before_they_are_kept(self) -> None:
        long = dict.fromkeys((f"{number}/{'n' * 200}" for number in range(50)), "x")
        for content in (zip_bytes(long), tar_bytes(long)):
            with self.assertRaisesRegex(UnsafeArchive, "would take more than 0 MB of memory"):
                self.opened(content, how=access(limits=Limits(kept=5000)))

    def test_paths_longer_and_deeper_than_systems_have_are_refused(self) -> None:
        listing = self.opened(zip_bytes({"d/" * 300 + "n": "x", "n" * 5000: "x", "fine": "x"})).listing
        self.assertEqual([entry.path for entry in listing], ["fine"])
        reasons = [refusal.reason for refusal in listing.refused]
        self.assertEqual(reasons, ["it is more than 200 folders deep", "its path is longer than 4,096 characters"])

    def test_numbers_that_nothing_can_have_are_refused_or_left_out(self) -> None:
        huge = bytearray(header(b"huge"))
        huge[124:136] = b"\x80" + b"\xff" * 11
        late = bytearray(header(b"late"))
        late[136:148] = b"\x80" + b"\0" * 3 + b"\x7f" * 8
        for block in (huge, late):
            block[148:156] = b" " * 8
            block[148:156] = b"%06o\0 " % sum(block)
        with self.assertRaisesRegex(UnsafeArchive, "times its size"):
            self.opened(bytes(huge) + bytes(1024))
        listing = self.opened(bytes(late) + bytes(1024)).listing
        self.assertEqual([(entry.path, entry.modified) for entry in listing], [("late", None)])

    def test_a_member_too_short_for_its_method_is_damage(self) -> None:
        for method in (12, 14, 93, 95):
            item = bytearray(zip_bytes({"a": b"12345"}, compression=zipfile.ZIP_STORED))
            for at, offset in ((item.index(b"PK\x03\x04"), 8), (item.index(b"PK\x01\x02"), 10)):
                item[at + offset : at + offset + 2] = method.to_bytes(2, "little")
            with self.subTest(method), self.assertRaisesRegex(DamagedArchive, "a in download .* cannot be unpacked"):
                contents(self.opened(bytes(item)))

    def test_a_dictionary_larger_than_the_content_can_need_is_refused(self) -> None:
        plain = lzma.compress(bytes(1000), lzma.FORMAT_ALONE)
        with self.assertRaisesRegex(UnsafeArchive, "unpacking it would take 128 MB of memory"):
            self.opened(plain[:1] + struct.pack("<L", 0xC0000000) + plain[5:], "x.lzma")

    def test_a_locked_header_of_a_7z_by_a_method_nobody_reads_is_named(self) -> None:
        unknown, cipher = b"\x03\x04\x02\x09", b"\x24\x06\xf1\x07\x01\x02\x01\x00"
        folder = b"\x02" + unknown + cipher + b"\x00\x01"
        header = b"\x17\x06\x00\x01\x09\x20\x00\x07\x0b\x01\x00" + folder + b"\x0c\x10\x20\x00\x00"
        with self.assertRaisesRegex(UnreadableArchive, "is packed with method 040209, which cannot be read"):
            self.opened(seven_of(bytes(32), header), how=access("moth"))

    def test_a_link_of_a_7z_with_an_endless_target_is_damage(self) -> None:
        with self.assertRaisesRegex(DamagedArchive, "the link link has a target of 1,048,576 bytes"):
            self.opened(seven_with_link(1 << 20))

    def test_headers_that_claim_to_be_huge(self) -> None:
        content = bytearray(zip_bytes({"a": "x"}))
        content[-10:-6] = struct.pack("<L", 0xFFFFFF00)
        with self.assertRaises(ArchiveError):
            self.opened(bytes(content))
        block = vint(1 << 40) + vint(2)
        with self.assertRaises(ArchiveError):
            self.opened(b"Rar!\x1a\x07\x01\x00" + struct.pack("<L", zlib.crc32(block)) + block)
        with self.assertRaises(ArchiveError):
            self.opened(b"7z\xbc\xaf\x27\x1c\0\4" + struct.pack("<LQQL", 0, 1 << 60, 1 << 60, 0) + bytes(64))

    def test_a_rar_key_that_would_take_years_is_refused(self) -> None:
        content = bytearray(RarWriter("moth").volumes([Member("a", b"x" * 64)])[0])
        at = content.index(b"salt-of-16-bytes")
        content[at - 1] = 60
        start = content.index(b"\x00", 8)  # anything in front of the header's checksum
        self.assertGreater(start, 0)
        with self.assertRaises(ArchiveError):
            contents(self.opened(bytes(content), how=access("moth")))

    def test_duplicates_and_look_alikes_are_all_listed(self) -> None:
        buffer = io.BytesIO()
        with zipfile.ZipFile(buffer, "w") as archive:
            for name in ("Owl.gel", "owl.gel", "caf\u00e9.gel", "cafe\u0301.gel"):
                archive.writestr(name, name)
        content = contents(self.opened(buffer.getvalue()))
        self.assertEqual(len(content), 4)

    def test_a_link_with_an_endless_target_is_damage(self) -> None:
        content = zip_of([Item(b"link", b"x" * 100_000, mode=0o120777, system=3)])[0]
        with self.assertRaisesRegex(DamagedArchive, "the link link has a target"):
            self.opened(content)

    def test_offsets_outside_the_file_are_damage(self) -> None:
        content = bytearray(zip_bytes({"a": "x"}))
        at = content.rindex(b"PK\x01\x02")
        for offset in (0xFFFFFF, 0xFFFFFFFE):
            content[at + 42 : at + 46] = struct.pack("<L", offset)
            with self.assertRaises(ArchiveError):
                contents(self.opened(bytes(content)))


if __name__ == "__main__":
    unittest.main()
