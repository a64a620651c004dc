"""What systems differ in, simulated here: no hard links, no whole-volume sync, no directory sync, Windows' names."""

import errno
import ntpath
import os
import sys
import tempfile
import unittest
from pathlib import Path
from types import SimpleNamespace
from unittest import mock

from msgspec.structs import replace

from tests.planning.test_layouts import listing_of
from tests.support import WorldTest, sample_application
from usufruct.actions.demonstration import differences
from usufruct.archives import archive_library
from usufruct.archives.archive_library import library_version
from usufruct.errors import DriveAway
from usufruct.files import paths, platform, shells
from usufruct.files.platform import Platform
from usufruct.files.printable import printable
from usufruct.ledger import open_ledger
from usufruct.model.applications import Arrange, Folder
from usufruct.model.choices import Choices
from usufruct.model.name_rules import NameRules
from usufruct.planning.layout import layout_of
from usufruct.planning.spelling import spell_for

WINDOWS = Platform(has_hard_links=False, can_sync_directories=False, has_windows_names=True)
MACOS = Platform()


class PlatformTest(unittest.TestCase):
    def test_a_file_system_without_hard_links_is_told_not_raised(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder, "a")
            file.write_text("x")
            self.assertFalse(WINDOWS.link(str(file), f"{folder}/b"))
            refused = OSError(errno.EPERM, "not here")
            with mock.patch("os.link", side_effect=refused):
                self.assertFalse(MACOS.link(str(file), f"{folder}/b"))
            with mock.patch("os.link", side_effect=OSError(errno.EIO, "broken")), self.assertRaises(OSError):
                MACOS.link(str(file), f"{folder}/b")

    def test_without_a_volume_sync_every_file_and_directory_is_synced(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            for name in ("a", "d/b", "d/e/c"):
                Path(folder, name).parent.mkdir(parents=True, exist_ok=True)
                Path(folder, name).write_text(name)
            synced = []
            Platform(sync_descriptor=lambda fd: synced.append(os.readlink(f"/proc/self/fd/{fd}"))).make_durable(folder)
            inside = {os.path.relpath(path, os.path.realpath(folder)) for path in synced}
            self.assertEqual(inside, {"a", "d/b", "d/e/c", "d/e", "d", "."})

    def test_a_failed_volume_sync_is_never_taken_for_success(self) -> None:
        def lost(descriptor: int) -> bool:
            raise OSError(errno.EIO, "bytes were lost")

        with tempfile.TemporaryDirectory() as folder, self.assertRaises(OSError):
            Platform(sync_file_system=lost).make_durable(folder)


class WindowsPathsTest(unittest.TestCase):
    def test_a_drive_that_is_away_is_told_and_not_looked_for_for_ever(self) -> None:
        with mock.patch.object(paths.os, "path", ntpath), self.assertRaisesRegex(DriveAway, "^Z:/ is not there"):
            paths.nearest("Z:/Lanternbox/Gels")

    def test_real_paths_compare_with_those_on_record(self) -> None:
        windows = SimpleNamespace(sep="\\", path=SimpleNamespace(realpath=lambda _: "C:\\Users\\ada\\Lanternbox"))
        with mock.patch.object(paths, "os", windows):
            self.assertEqual(paths.real_path("Lanternbox"), "C:/Users/ada/Lanternbox")
        with tempfile.TemporaryDirectory() as folder:
            odd = Path(folder, "a\\b")
            odd.mkdir()
            self.assertTrue(paths.real_path(odd).endswith("/a\\b"), "elsewhere that sign is a letter like any other")

    def test_a_folder_elsewhere_keeps_its_drive_and_its_own_names(self) -> None:
        """`C:/Users` became `C_/Users`, a directory below wherever the program was started."""
        gels = Folder(name="Gels", path="C:/Users/ada/odd. /Gels", arrange=Arrange.TREE, takes=("*.gel",))
        lanternbox = replace(sample_application("lanternbox"), folders=(gels,))
        listing, digests = listing_of(["Gels/night/what?.gel", "Gels/aux/moon.gel"])
        layout = layout_of(listing, lanternbox, "pack", Choices(), digests)
        layout.follow(spell_for(layout, NameRules(is_windows=True)))
        self.assertEqual([one.to for one in layout.placements], ["C:/Users/ada/odd. /Gels/night/what_.gel"])

    def test_a_directory_whose_name_is_too_long_gets_a_shorter_one_whatever_its_files_are_called(self) -> None:
        backdrops = Folder(name="Backdrops", path="Backdrops", arrange=Arrange.TREE, takes=("*.png",))
        lanternbox = replace(sample_application("lanternbox"), folders=(backdrops,))
        listing, digests = listing_of([f"Backdrops/{'forest' * 50}/a.png"])
        layout = layout_of(listing, lanternbox, "pack", Choices(), digests)
        layout.follow(spell_for(layout, NameRules()))
        (placed,) = layout.placements
        self.assertLessEqual(len(placed.to.split("/")[1]), NameRules().longest)


class SyncingTest(unittest.TestCase):
    def test_what_a_program_serves_is_synced_file_by_file(self) -> None:
        """The kernel would only empty its own part of it."""
        with tempfile.TemporaryDirectory() as folder, Path(folder, "a").open("w") as file:
            for kind, is_done in (("fuse.sshfs", False), ("fuseblk", False), ("ext4", True)):
                with mock.patch("usufruct.files.mounts.mounted_kind", lambda _, kind=kind: kind):
                    self.assertIs(platform._linux_sync_file_system(file.fileno()), is_done)

    def test_macos_flushes_through_the_cache_of_the_drive_and_where_that_is_not_known_as_others_do(self) -> None:
        asked: list[object] = []

        def fcntl_call(descriptor: int, what: object) -> None:
            asked.append(what)
            if descriptor == 8:
                raise OSError(errno.ENOTTY, "not here")

        library = SimpleNamespace(fcntl=fcntl_call, F_FULLFSYNC=51)
        with mock.patch.dict(sys.modules, {"fcntl": library}), mock.patch("os.fsync", asked.append):
            platform._mac_sync_descriptor(7)
            platform._mac_sync_descriptor(8)
        self.assertEqual(asked, [51, 51, 8])

    def test_the_record_is_told_to_flush_where_its_library_does_not_by_itself(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            for by_itself in (True, False):
                with open_ledger(Path(folder, "ledger"), flushes_by_itself=by_itself) as ledger:
                    told = ledger.connection.execute("PRAGMA fullfsync").fetchone()
                self.assertEqual(told, (int(not by_itself),))


class OtherSystemsTest(WorldTest):
    """The whole way through, on systems that lack this or that."""

    def test_a_file_system_without_modes_or_times_of_its_own(self) -> None:
        """FAT keeps no modes, and on a server or in others' folders times may not be set."""
        refused = PermissionError(errno.EPERM, "Operation not permitted")
        for lacking in ("chmod", "utime"):
            with self.subTest(lacking):
                self.world.platform = WINDOWS
                self.world.write({"Gels/moon.gel": "mine"})
                with mock.patch(f"os.{lacking}", side_effect=refused):
                    self.world.add_files("one.zip", {"Gels/moon.gel": "first", "Owl/rig.toml": "r"})
                    self.world.add_files("two.zip", {"Gels/moon.gel": "second"})
                    self.world.remove("two", "one")
                self.assertEqual(self.world.contents(), {"Gels/moon.gel": "mine"})
                self.assertEqual(self.world.strays(), [])

    def test_a_file_system_without_links_says_so(self) -> None:
        refused = PermissionError(errno.EPERM, "Operation not permitted")
        archive = self.world.archive("linked.zip", {"Owl/rig.toml": "r", "Owl/same": "->rig.toml"})
        with mock.patch("os.symlink", side_effect=refused):
            added = self.world.add(archive)
        self.assertIn("none can be made where it belongs", added.error.message)
        self.assertEqual((self.world.contents(), self.world.strays()), ({}, []))

    def test_adding_and_removing_leaves_all_as_before(self) -> None:
        for name, other in (("windows", WINDOWS), ("macos", MACOS)):
            with self.subTest(name):
                self.world.platform = other
                self.world.write({"Gels/moon.gel": "mine", "Backdrops/a.png": "own"})
                before = self.world.tree()
                self.world.add_files("one.zip", {"Gels/moon.gel": "first", "Owl/rig.toml": "r"})
                self.world.add_files("two.zip", {"Gels/moon.gel": "second"})
                self.assertEqual(self.world.contents()["Gels/moon.gel"], "second")
                self.world.remove("one")
                self.world.remove("two")
                self.assertEqual(differences(before, self.world.tree()), [])
                self.assertEqual(self.world.strays(), [])


class PrintableTest(unittest.TestCase):
    def test_what_could_steer_a_terminal_is_escaped(self) -> None:
        self.assertEqual(printable("a\x1b[31mb\nc"), "a\\x1b[31mb\\nc".replace("\\n", "\\x0a"))
        self.assertEqual(printable("exe.\u202egnp"), "exe.\\u202egnp")
        self.assertEqual(printable("\udcff"), "\\udcff")
        for sign in "\u061c\u2028\u2029\x9b\x85":
            self.assertNotIn(sign, printable(f"a{sign}b"))
        self.assertEqual(printable("Owl \u00fc"), "Owl \u00fc")


class ShellsTest(unittest.TestCase):
    """What is to be typed is quoted for the shells that people have."""

    def quoted(self, system: str, word: str) -> str:
        platform = Platform(has_posix_shells=system == "posix")
        with mock.patch("usufruct.files.shells.this_platform", lambda: platform):
            return shells.quoted(word)

    def test_words_of_other_systems(self) -> None:
        for word, posix, windows in (
            ("Dusk", "Dusk", "Dusk"),
            ("C:/Users/Ann/sky v1.zip", "'C:/Users/Ann/sky v1.zip'", '"C:/Users/Ann/sky v1.zip"'),
            ("it's (new)", "'it'\"'\"'s (new)'", '"it\'s (new)"'),
            ("50% off $now", "'50% off $now'", "'50% off $now'"),
            ("Ann's $", "'Ann'\"'\"'s $'", "'Ann''s $'"),
            ("", "''", '""'),
        ):
            with self.subTest(word):
                self.assertEqual(self.quoted("posix", word), posix)
                self.assertEqual(self.quoted("windows", word), windows)

    def test_a_variable_is_set_as_the_shell_does_it(self) -> None:
        with mock.patch("usufruct.files.shells.this_platform", lambda: Platform(has_posix_shells=False)):
            self.assertEqual(shells.setting("USUFRUCT_HOME", "C:/my things"), '$env:USUFRUCT_HOME = "C:/my things"')
            self.assertEqual(shells.setting("USUFRUCT_HOME", "C:/50$"), "$env:USUFRUCT_HOME = 'C:/50$'")
            self.assertEqual(shells.typed(["usufruct", "remove", "Dusk II"]), 'usufruct remove "Dusk II"')


class ArchiveLibraryTest(unittest.TestCase):
    def best(self, own: str, versions: dict[str, int], carried: str | None) -> str | None:
        with (
            mock.patch.object(archive_library, "this_platform", lambda: Platform(archive_library=own)),
            mock.patch.object(archive_library, "_version_at", lambda path: versions.get(path, 0)),
            mock.patch.object(archive_library, "_carried_library", lambda: carried),
        ):
            return archive_library._best_library()

    def test_the_systems_own_is_taken_where_it_is_recent_and_else_the_one_that_came_along(self) -> None:
        for version, carried, wanted in (
            (3_008_010, "wheel", "own"), (3_008_009, "wheel", "wheel"), (3_006_002, None, "own"), (0, "wheel", "wheel"),
            (0, None, None),
        ):  # fmt: skip
            with self.subTest(version=version, carried=carried):
                self.assertEqual(self.best("own", {"own": version}, carried), wanted)

    def test_the_one_that_came_along_lies_where_each_systems_wheel_has_it(self) -> None:
        for place in ("archi.libs/libarchive-e4.so.13.8", "archi.dylibs/libarchive.13.dylib", "archive-a7.dll"):
            with self.subTest(place), tempfile.TemporaryDirectory() as passing:
                path = Path(passing, place)
                path.parent.mkdir(exist_ok=True)
                path.touch()
                spec = mock.Mock(origin=str(Path(passing, "archi.abi3.so")))
                with mock.patch.object(archive_library, "find_spec", lambda _, spec=spec: spec):
                    self.assertEqual(archive_library._carried_library(), str(path))

    def test_this_installation_has_one_that_is_recent(self) -> None:
        self.assertGreaterEqual(library_version() or (0,), (3, 8, 10))
        self.assertNotIn("LIBARCHIVE", os.environ)


if __name__ == "__main__":
    unittest.main()
