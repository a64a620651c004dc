"""What definitions say is remembered from one command to the next, and never longer than it is true."""

import os
import tempfile
import tomllib
import unittest
from pathlib import Path
from unittest import mock

from usufruct.definitions import load
from usufruct.errors import BadDefinition

TEXT = """usufruct = 1
[application]
name = "box"
root = "~/Box"
[[folder]]
name = "gels"
path = "A"
arrange = "loose"
"""
LONG_AGO = 10**18


class MemoryTest(unittest.TestCase):
    def setUp(self) -> None:
        passing = tempfile.TemporaryDirectory()
        self.addCleanup(passing.cleanup)
        self.apps = Path(passing.name) / "apps"
        self.apps.mkdir()
        self.kept = Path(passing.name) / "definitions"
        self.write("box", TEXT)

    def write(self, name: str, text: str, modified: int = LONG_AGO) -> None:
        path = self.apps / f"{name}.toml"
        path.write_text(text)
        os.utime(path, ns=(modified, modified))

    def read(self) -> tuple[list[tuple[str, str]], int]:
        """Name and first folder of each definition, as a new command reads them, and how many files it had to read."""
        load._read.clear()
        faults: list[BadDefinition] = []
        with mock.patch.object(tomllib, "loads", side_effect=tomllib.loads) as parsed:
            found = load.load_applications(self.apps, faults.append, self.kept)
        return [
            *((one.name, one.folders[0].path) for one in found if not one.is_shipped),
            *((one.message, "") for one in faults),
        ], parsed.call_count

    def test_the_second_command_reads_no_file_and_one_that_changed_is_read(self) -> None:
        self.write("cup", TEXT.replace("box", "cup"))
        self.assertEqual(self.read(), ([("box", "A"), ("cup", "A")], 2))
        self.assertEqual(self.read(), ([("box", "A"), ("cup", "A")], 0))
        self.write("cup", TEXT.replace("box", "cup").replace('"A"', '"B"'), LONG_AGO + 1)
        self.assertEqual(self.read(), ([("box", "A"), ("cup", "B")], 1))
        (self.apps / "cup.toml").unlink()
        self.assertEqual(self.read(), ([("box", "A")], 0))
        self.assertNotIn(b"cup", self.kept.read_bytes())

    def test_a_file_so_young_that_its_time_may_not_tell_is_read_again(self) -> None:
        """A drive that rounds times gives what is written twice in two seconds one time, and perhaps one size."""
        (self.apps / "box.toml").write_text(TEXT)
        self.read()
        before = (self.apps / "box.toml").stat()
        (self.apps / "box.toml").write_text(TEXT.replace('"A"', '"B"'))
        os.utime(self.apps / "box.toml", ns=(before.st_atime_ns, before.st_mtime_ns))
        self.assertEqual(self.read(), ([("box", "B")], 1))

    def test_what_it_means_is_found_anew(self) -> None:
        self.read()
        self.assertTrue(load.load_applications(self.apps, print, self.kept)[0].root.endswith("/Box"))
        load._read.clear()
        with mock.patch.dict(os.environ, {"HOME": "/elsewhere", "USERPROFILE": "/elsewhere"}):
            found = load.load_applications(self.apps, print, self.kept)[0]
        self.assertEqual(found.root.replace("\\", "/").rpartition(":")[2], "/elsewhere/Box")

    def test_faults_are_told_each_time_and_nothing_strange_in_the_memory_matters(self) -> None:
        self.write("bad", "usufruct = 1\nno = ")
        for kept in (b"", b"\xc1 no such thing", b"\x81\xa3abc\x01"):
            with self.subTest(kept):
                self.kept.write_bytes(kept)
                for _ in range(2):
                    found, _ = self.read()
                    self.assertEqual(found[0], ("box", "A"))
                    self.assertIn("bad.toml is not valid TOML", found[1][0])
        self.kept.unlink()
        self.kept.mkdir()
        self.assertEqual(self.read()[0][0], ("box", "A"))
        self.assertEqual(self.read()[0][0], ("box", "A"))
        self.assertEqual(sorted(os.listdir(self.kept.parent)), ["apps", "definitions"])
