"""The rooms that touch the outside: moving, the trash, volumes, origins, sources, what a command's words mean."""

import io
import os
import plistlib
import stat
import sys
import tempfile
import time
import unittest
from pathlib import Path
from unittest import mock
from urllib.parse import unquote

from blake3 import blake3
from msgspec.structs import replace

from tests.support import IN_MEMORY, no_trash, zip_bytes
from usufruct.actions.gathering import gathered, is_archive
from usufruct.archives.split_sets import sets_among
from usufruct.errors import MachineError, WrongUsage
from usufruct.files import mounts
from usufruct.files.copying import replace_text
from usufruct.files.cutting import CutFile
from usufruct.files.file_systems import file_system_of
from usufruct.files.locking import only_writer
from usufruct.files.moving import are_one_name, place_twice
from usufruct.files.origin import origin_of
from usufruct.files.platform import Platform, this_platform
from usufruct.files.private import make_private
from usufruct.files.saved import free_path
from usufruct.files.sources import FileSource, JoinedSource, SliceSource, as_file
from usufruct.files.trash import copy_to_trash, to_trash
from usufruct.model.name_rules import NameRules, numbered_name


class FolderCase(unittest.TestCase):
    def setUp(self) -> None:
        passing = tempfile.TemporaryDirectory()
        self.addCleanup(passing.cleanup)
        self.folder = Path(passing.name)

    def put(self, name: str, content: bytes = b"moth") -> Path:
        path = self.folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(content)
        return path


class MovingTest(FolderCase):
    def test_a_second_place_is_whole_and_checked_and_the_first_stays(self) -> None:
        source = self.put("pack.zip")
        platforms = [this_platform(), replace(this_platform(), has_hard_links=False)]
        for number, platform in enumerate(platforms):
            target = place_twice(str(source), self.folder / f"store{number}", blake3(b"moth").digest(), platform)
            self.assertEqual(Path(target).read_bytes(), b"moth")
            self.assertTrue(source.exists())

    def test_a_taken_name_gets_a_number_and_the_same_content_serves_as_it_is(self) -> None:
        source = self.put("pack.zip")
        self.put("store/pack.zip", b"another")
        (self.folder / "store/pack (2).zip").mkdir()
        self.put("store/pack (3).zip")
        target = place_twice(str(source), self.folder / "store", blake3(b"moth").digest(), this_platform())
        self.assertEqual(Path(target).name, "pack (3).zip")
        self.assertEqual(len(os.listdir(self.folder / "store")), 3)

    def test_a_copy_that_is_not_the_same_is_not_kept(self) -> None:
        source = self.put("pack.zip")
        platform = replace(this_platform(), has_hard_links=False)
        with self.assertRaisesRegex(MachineError, "is not what it should be"):
            place_twice(str(source), self.folder / "store", blake3(b"other").digest(), platform)
        self.assertEqual(os.listdir(self.folder / "store"), [])
        self.assertTrue(source.exists())


class TrashTest(FolderCase):
    def test_where_no_trash_takes_it_the_file_is_kept_among_our_own(self) -> None:
        with no_trash():
            first = to_trash(str(self.put("a/moon.gel")), self.folder / "saved", this_platform())
            second = to_trash(str(self.put("b/moon.gel")), self.folder / "saved", this_platform())
        self.assertEqual([Path(first).name, Path(second).name], ["moon.gel", "moon (2).gel"])
        self.assertFalse((self.folder / "a/moon.gel").exists())

    def trashed(self) -> dict[str, tuple[str, bytes]]:
        """By the name in the home's trash: where it is restored to, and the content."""
        return {
            note.stem: (
                unquote(next(line for line in note.read_text().splitlines() if line.startswith("Path=")))[5:],
                (note.parent.parent / "files" / note.stem).read_bytes(),
            )
            for note in (self.folder / "data/Trash/info").iterdir()
        }

    def test_a_copy_in_the_trash_is_restored_to_where_the_file_was(self) -> None:
        path, other = self.put("a/moon &.gel"), self.put("data/Trash/files/moon & (3).gel", b"not ours")
        with mock.patch.dict(os.environ, {"XDG_DATA_HOME": str(self.folder / "data")}):
            self.assertEqual(copy_to_trash(str(path), self.folder / "saved", this_platform()), "")
            copy_to_trash(str(path), self.folder / "saved", this_platform(), str(self.put("elsewhere", b"earlier")))
            copy_to_trash(str(path), self.folder / "saved", this_platform())
        here = str(path)
        self.assertEqual(
            self.trashed(),
            {
                "moon &.gel": (here, b"moth"),
                "moon & (2).gel": (here, b"earlier"),
                "moon & (4).gel": (here, b"moth"),
            },
        )
        self.assertEqual((path.read_bytes(), other.read_bytes()), (b"moth", b"not ours"))
        self.assertFalse((self.folder / "saved").exists())

    def test_elsewhere_the_copy_in_the_trash_bears_the_path_that_the_file_had(self) -> None:
        path, trashed = self.put("a/moon.gel"), []
        platform = replace(this_platform(), has_open_desktop=False)
        with mock.patch("send2trash.send2trash", side_effect=trashed.append):
            self.assertEqual(copy_to_trash(str(path), self.folder / "saved", platform), "")
        self.assertEqual(trashed, [f"{self.folder}/saved{path}"])
        with no_trash():
            kept = copy_to_trash(str(path), self.folder / "saved", this_platform())
        self.assertEqual(kept, f"{self.folder}/saved{path.with_name('moon (2).gel')}")

    def test_a_copy_is_durable_before_the_trash_has_it_and_there_before_it_is_told(self) -> None:
        events: list[str] = []
        platform = replace(
            this_platform(),
            sync_descriptor=lambda descriptor: events.append(
                os.path.basename(os.readlink(f"/proc/self/fd/{descriptor}"))
            ),
            sync_file_system=lambda descriptor: bool(events.append("volume")) or True,
        )
        with mock.patch.dict(os.environ, {"XDG_DATA_HOME": str(self.folder / "data")}):
            copy_to_trash(str(self.put("a/moon.gel")), self.folder / "saved", platform)
        self.assertTrue(events[0].endswith(".partial"), events)
        self.assertIn("moon.gel.trashinfo", events)
        self.assertEqual(events[-1], "volume")


class NamesTest(FolderCase):
    def test_two_spellings_of_one_name_are_told_from_two_names_of_one_file(self) -> None:
        first = self.put("store/pack.zip")
        (self.folder / "way").symlink_to("store")
        (self.folder / "other").mkdir()
        os.link(first, self.folder / "other" / "pack.zip")
        self.assertTrue(are_one_name(str(first), str(self.folder / "way" / "pack.zip")))
        self.assertTrue(are_one_name(str(first), str(self.folder / "store" / ".." / "store" / "pack.zip")))
        self.assertFalse(are_one_name(str(first), str(self.folder / "other" / "pack.zip")))
        self.assertFalse(are_one_name(str(first), str(self.folder / "missing" / "pack.zip")))
        os.link(first, self.folder / "store" / "second.zip")
        self.assertFalse(are_one_name(str(first), str(self.folder / "store" / "second.zip")))

    def test_a_name_that_is_taken_in_this_moment_is_never_replaced_whatever_the_system_has(self) -> None:
        never = replace(this_platform(), rename_unless_taken=lambda *_: False)
        for platform in (this_platform(), never, replace(never, has_hard_links=False), Platform()):
            with self.subTest(platform=platform):
                mine, theirs = self.put("mine"), self.put("theirs", b"theirs")
                with self.assertRaises(FileExistsError):
                    platform.rename_new(str(mine), str(theirs))
                self.assertEqual((mine.read_bytes(), theirs.read_bytes()), (b"moth", b"theirs"))
                theirs.unlink()
                platform.rename_new(str(mine), str(theirs))
                self.assertEqual((mine.exists(), theirs.read_bytes()), (False, b"moth"))

    def test_a_text_is_whole_and_durable_before_it_takes_the_place_of_the_old_one(self) -> None:
        settings = self.put("settings.toml", b"old")
        seen: list[bytes] = []
        platform = replace(this_platform(), sync_descriptor=lambda _: seen.append(settings.read_bytes()))
        replace_text(settings, "new", platform)
        self.assertEqual((seen[0], settings.read_bytes()), (b"old", b"new"))

        def full(_: int) -> None:
            raise OSError(28, "No space left on device")

        with self.assertRaises(OSError):
            replace_text(settings, "newer", replace(platform, sync_descriptor=full))
        self.assertEqual((settings.read_bytes(), len(list(self.folder.iterdir()))), (b"new", 1))


class OwnFilesTest(FolderCase):
    def test_a_directory_of_our_own_is_for_its_user_alone(self) -> None:
        make_private(self.folder / "above" / "own")
        modes = [stat.S_IMODE((self.folder / name).stat().st_mode) for name in ("above", "above/own")]
        self.assertEqual(modes, [0o700, 0o700])

    def test_a_file_in_volumes_can_be_written_over_across_their_borders(self) -> None:
        with CutFile(self.folder / "pack.zip", 4) as file:
            file.write(b"0123456789")
            file.seek(3)
            file.write(b"abc")
            file.seek(0, io.SEEK_END)
            file.write(b"end")
        self.assertEqual([path.read_bytes() for path in file.paths], [b"012a", b"bc67", b"89en", b"d"])


class VolumesTest(FolderCase):
    MOUNTS = (
        "22 1 8:1 / / rw - ext4 /dev/a rw\n"
        "30 22 8:2 / /media/my\\040stick rw - vfat /dev/b rw\n"
        "31 22 8:3 / /media/my rw - ntfs3 /dev/c rw\n"
    )

    def test_the_innermost_mount_tells_what_names_and_sizes_fit(self) -> None:
        listed = self.put("mounts", self.MOUNTS.encode())
        with mock.patch.object(mounts, "_MOUNTS", listed), mock.patch("os.path.isdir", lambda _: True):
            stick = file_system_of("/media/my stick/deep", Platform())
            other = file_system_of("/media/my/x", Platform())
            root = file_system_of("/media/mystery", Platform())
        self.assertEqual((stick.kind, stick.names.is_windows, stick.largest), ("vfat", True, (1 << 32) - 1))
        self.assertEqual((other.kind, other.names.is_windows, other.largest), ("ntfs3", True, None))
        self.assertEqual((root.kind, root.names.is_windows), ("ext4", False))

    def test_where_the_system_does_not_say_it_is_the_systems_own_rules(self) -> None:
        with mock.patch.object(mounts, "_MOUNTS", self.folder / "none"):
            self.assertFalse(file_system_of(str(self.folder / "not/there"), Platform()).names.is_windows)
            self.assertTrue(file_system_of(str(self.folder), Platform(has_windows_names=True)).names.is_windows)

    def test_safe_spellings(self) -> None:
        rules = NameRules(is_windows=True, longest=40)
        cases = {
            "plain.gel": "plain.gel",
            "what?.gel": "what_.gel",
            "a:b|c.gel": "a_b_c.gel",
            "dots...": "dots_",
            "space ": "space_",
            "tab\there": "tab_here",
        }
        for name, safe in cases.items():
            self.assertEqual(rules.safe(name), safe)
        long = rules.safe("m" * 60 + ".gel")
        self.assertTrue(len(long) <= 40 and long.endswith(".gel") and long != rules.safe("m" * 61 + ".gel"))
        self.assertTrue(rules.is_device("AUX.gel") and rules.is_device("com1") and not rules.is_device("auxiliary.gel"))
        for device in ("COM¹.txt", "lpt3", "CONIN$", "conout$.gel", "nul .gel"):
            self.assertTrue(rules.is_device(device), device)
        self.assertFalse(rules.is_device("com⁴"))
        self.assertFalse(NameRules().is_device("aux"))
        self.assertEqual(NameRules().safe("what?."), "what?.")

    def test_a_names_length_is_counted_as_its_file_system_counts(self) -> None:
        """200 letters of three bytes were cut on Windows, where they fit; 200 signs of two units were not."""
        for letter, units, octets in (("z", 1, 1), ("影", 1, 3), ("🦉", 2, 4)):
            for rules, most in ((NameRules(is_windows=True), 255 // units), (NameRules(), 255 // octets)):
                with self.subTest(letter=letter, windows=rules.is_windows):
                    self.assertEqual(rules.safe(letter * most), letter * most)
                    safe = rules.safe(letter * (most + 1) + ".gel")
                    self.assertRegex(safe, f"^{letter}+~[0-9a-f]{{8}}\\.gel$")
                    left = 255 - len(safe.removesuffix(".gel").lstrip(letter) + ".gel")
                    self.assertEqual(safe.count(letter), left // (units if rules.is_windows else octets))

    def test_a_number_behind_a_name_makes_it_no_longer_than_file_systems_allow(self) -> None:
        for name, numbered in {
            "moon.gel": "moon (2).gel",
            ".profile": ".profile (2)",
            "m" * 251 + ".gel": "m" * 247 + " (2).gel",
            "m" * 255: "m" * 251 + " (2)",
            "影" * 83 + ".gel": "影" * 81 + " (2).gel",
            "m." + "x" * 253: "m." + "x" * 249 + " (2)",
        }.items():
            with self.subTest(name=name[:9]):
                self.assertEqual(numbered_name(name, 2), numbered)
        self.put("m" * 251 + ".gel")
        self.assertEqual(len(Path(free_path("m" * 251 + ".gel", self.folder, this_platform())).name), 255)


class LockTest(FolderCase):
    @unittest.skipUnless(this_platform().can_fork, "links are planted on shared machines")
    def test_what_somebody_planted_beside_the_lock_is_not_written_through(self) -> None:
        theirs, lock = self.put("theirs", b"theirs"), self.folder / "lock"
        (self.folder / "lock-holder").symlink_to(theirs)
        with only_writer(lock, "add", patience=1):
            self.assertIn("add", (self.folder / "lock-holder").read_text())
        self.assertEqual(theirs.read_bytes(), b"theirs")
        (self.folder / "lock-behind").unlink()
        (self.folder / "lock-behind").symlink_to(theirs)
        with self.assertRaises(OSError), only_writer(lock, "add", patience=1):
            self.fail("a link was taken for the lock")

    @unittest.skipUnless(this_platform().can_fork, "elsewhere nothing goes on behind a command")
    def test_only_a_wait_that_is_felt_is_told_and_once(self) -> None:
        for seconds, told in ((0.2, 0), (1.5, 1)):
            lock, waits = self.folder / f"lock-{told}", []
            with only_writer(lock, "add", patience=1) as turn:
                turn.behind = lambda seconds=seconds: time.sleep(seconds)
            with only_writer(lock, "list", patience=5, tell_waiting=lambda waits=waits: waits.append(1)):
                self.assertEqual(len(waits), told)


class OriginTest(FolderCase):
    def origin(self, attributes: dict[str, bytes], system: str = "linux") -> str:
        def read(_: str, name: str) -> bytes:
            if name not in attributes:
                raise OSError(61, "no such attribute")
            return attributes[name]

        path = self.put("pack.zip")
        with mock.patch.object(sys, "platform", system), mock.patch.object(os, "getxattr", read, create=True):
            return origin_of(str(path))

    def test_each_systems_way(self) -> None:
        self.assertEqual(self.origin({"user.xdg.origin.url": b"https://a.example/x\0"}), "https://a.example/x")
        self.assertEqual(self.origin({"user.xdg.referrer.url": b"https://b.example"}), "https://b.example")
        listed = plistlib.dumps(["https://c.example", ""], fmt=plistlib.FMT_BINARY)
        self.assertEqual(self.origin({"com.apple.metadata:kMDItemWhereFroms": listed}, "darwin"), "https://c.example")
        self.assertEqual(self.origin({"com.apple.metadata:kMDItemWhereFroms": b"no list"}, "darwin"), "")
        self.assertEqual(self.origin({}), "")
        self.put("pack.zip:Zone.Identifier", b"[ZoneTransfer]\nZoneId=3\nReferrerUrl=https://d.example\n")
        self.assertEqual(self.origin({}, "win32"), "https://d.example")


class SourcesTest(FolderCase):
    def test_parts_and_joins_read_across_their_borders(self) -> None:
        sources = [FileSource(self.put(f"p{n}", content)) for n, content in enumerate((b"abc", b"", b"defg", b"h"))]
        whole = JoinedSource(sources)
        self.assertEqual((whole.size, whole.starts), (8, [0, 3, 3, 7]))
        for start in range(9):
            for count in range(9):
                self.assertEqual(whole.read_at(start, count), b"abcdefgh"[start : start + count])
        part = SliceSource(whole, 2, 4)
        self.assertEqual((part.read_at(0, 99), part.read_at(3, 5)), (b"cdef", b"f"))
        self.assertEqual((part.read_at(4, 1), part.read_at(9, 1)), (b"", b""))
        with as_file(part) as file:
            self.assertEqual((file.read(2), file.seek(-1, os.SEEK_END), file.read()), (b"cd", 3, b"f"))
        whole.close()

    def test_a_system_without_reading_at_an_offset_reads_the_same(self) -> None:
        source = FileSource(self.put("p", bytes(range(200))))
        with mock.patch("usufruct.files.sources._READS_AT", new=False):
            self.assertEqual(source.read_at(50, 20), bytes(range(50, 70)))
            self.assertEqual(source.read_at(190, 50), bytes(range(190, 200)))
            self.assertEqual(source.read_at(7, 1), b"\7")
        source.close()


class GatheringTest(FolderCase):
    def test_folders_wildcards_and_sets(self) -> None:
        pack = zip_bytes({"a": "a"})
        for name in ("one.zip", "two.zip", "set.zip.001", "set.zip.002", ".hidden.zip", "letter.txt"):
            self.put(name, pack if name.endswith("zip") else b"text")
        self.put("unnamed", pack)
        names = [path.name for path in gathered([self.folder])]
        self.assertEqual(names, ["one.zip", "set.zip.001", "two.zip", "unnamed"])
        self.assertEqual([path.name for path in gathered([self.folder / "*.zip"])], ["one.zip", "two.zip"])
        twice = gathered([self.folder / "set.zip.002", self.folder / "set.zip.001", self.folder / "one.zip"])
        self.assertEqual([path.name for path in twice], ["set.zip.002", "one.zip"])
        self.assertEqual(gathered([self.folder / "missing.zip"]), [self.folder / "missing.zip"])
        for nothing in (self.folder / "*.rar", self.put("empty/x").parent):
            with self.assertRaises(WrongUsage):
                gathered([nothing])

    def test_a_set_that_lacks_a_part_is_named_once(self) -> None:
        for name in ("set.zip.001", "set.zip.002", "set.zip.004", "set.zip (1).004", "pack.r00", "pack.r02"):
            self.put(name, name.encode())
        there = sorted(self.folder.iterdir())
        self.assertEqual([path.name for path in gathered(there)], ["pack.r00", "set.zip (1).004"])

    def test_content_tells_an_archive_where_the_name_does_not(self) -> None:
        self.assertTrue(is_archive(self.put("x", b"Rar!\x1a\x07\x01\x00")))
        self.assertTrue(is_archive(self.put("broken.7z", b"nothing")))
        self.assertFalse(is_archive(self.put("zeros", bytes(600))))
        self.assertFalse(is_archive(self.folder / "missing"))

    def test_files_of_a_folder_are_grouped_into_sets_by_their_names(self) -> None:
        names = [
            "a.part1.rar",
            "A.Part02.rar",
            "b.zip",
            "b (1).zip",
            "c.z01",
            "c.zip",
            "d.rar",
            "d.r00",
            "e.001",
            "f.exe",
        ]
        groups = [sorted(group) for group in sets_among(Path(), names)]
        self.assertEqual(
            sorted(groups),
            sorted(
                [
                    ["A.Part02.rar", "a.part1.rar"],
                    ["b.zip"],
                    ["b (1).zip"],
                    ["c.z01", "c.zip"],
                    ["d.r00", "d.rar"],
                    ["e.001"],
                    ["f.exe"],
                ]
            ),
        )


@unittest.skipUnless(IN_MEMORY, "needs a second volume")
class TwoVolumesTest(FolderCase):
    def test_a_copy_to_another_volume_is_made_where_no_link_can_be(self) -> None:
        source = self.put("pack.zip")
        with tempfile.TemporaryDirectory(dir=IN_MEMORY) as other:
            if os.stat(other).st_dev == os.stat(self.folder).st_dev:
                self.skipTest("it is the same volume")
            target = place_twice(str(source), Path(other), blake3(b"moth").digest(), this_platform())
            self.assertEqual(Path(target).read_bytes(), b"moth")
            self.assertEqual(os.listdir(other), ["pack.zip"])


if __name__ == "__main__":
    unittest.main()
