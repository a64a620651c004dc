"""A copy gets its name only when it was read back and is the same; a disk that takes a part at a time loses nothing."""

import os
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from usufruct.errors import DiffersFromRecord
from usufruct.files import copying
from usufruct.files.copying import copy_whole
from usufruct.files.platform import this_platform
from usufruct.files.writing import write_new


class CopyingTest(unittest.TestCase):
    def setUp(self) -> None:
        passing = tempfile.TemporaryDirectory()
        self.addCleanup(passing.cleanup)
        self.folder = Path(passing.name)

    def test_what_the_disk_gives_back_otherwise_than_it_was_written_gets_no_name(self) -> None:
        source = self.folder / "moon.gel"
        source.write_bytes(b"moon")
        there = copying.digest_of

        def rotten(path: str) -> bytes:
            with open(path, "r+b") as file:
                file.write(b"M")
            return there(path)

        with mock.patch.object(copying, "digest_of", rotten), self.assertRaises(DiffersFromRecord):
            copy_whole(str(source), str(self.folder / "copy.gel"), this_platform())
        self.assertEqual([path.name for path in self.folder.iterdir()], ["moon.gel"])

    def test_a_copy_has_the_mode_and_the_times_of_its_original(self) -> None:
        source, copy = self.folder / "moon.gel", self.folder / "copy.gel"
        source.write_bytes(b"moon")
        source.chmod(0o640)
        os.utime(source, ns=(10**18, 10**18 + 300))
        copy_whole(str(source), str(copy), this_platform())
        self.assertEqual(copy.stat().st_mode, source.stat().st_mode)
        self.assertEqual(copy.stat().st_mtime_ns, source.stat().st_mtime_ns)

    def test_what_is_written_in_small_parts_is_whole(self) -> None:
        content, write = bytes(range(251)) * 9, os.write

        def parts(descriptor: int, block: bytes) -> int:
            return write(descriptor, block[:100])

        with mock.patch("usufruct.files.writing.os.write", parts):
            write_new(str(self.folder / "star.gel"), [content], None, 0o644)
        self.assertEqual((self.folder / "star.gel").read_bytes(), content)
