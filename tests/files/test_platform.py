"""What systems differ in, simulated here: no hard links, no whole-volume sync, no directory sync, Windows' names."""

import errno
import os
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from tests.support import WorldTest
from usufruct.actions.demonstration import differences
from usufruct.files.platform import Platform
from usufruct.files.printable import printable

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


class OtherSystemsTest(WorldTest):
    """The whole way through, on systems that lack this or that."""

    def test_adding_and_removing_leaves_all_as_before(self) -> None:
        for name, platform in (("windows", WINDOWS), ("macos", MACOS)):
            with self.subTest(name):
                self.world.platform = platform
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


if __name__ == "__main__":
    unittest.main()
