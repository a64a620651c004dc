"""Where the faster library has no wheel (Windows on ARM has none) the standard one reads the same."""

import subprocess
import sys
import unittest
import zlib
from unittest import mock

from usufruct.archives.reading import BLOCK
from usufruct.archives.streams import decompress, zlib_engine

READING = "tests.archives.test_reading"


class WithoutTheFasterLibraryTest(unittest.TestCase):
    def test_all_reading_goes_on_with_the_standard_library(self) -> None:
        script = (
            "import sys, unittest; sys.modules['isal'] = None; "
            f"from usufruct.archives.streams import zlib_engine; assert zlib_engine._engine.__name__ == 'zlib'; "
            f"unittest.main(module=None, argv=['', '{READING}'])"
        )
        done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True)
        self.assertEqual(0, done.returncode, done.stderr)
        self.assertNotIn("Ran 0 tests", done.stderr)

    def test_what_the_engine_keeps_when_all_is_given_to_it_is_asked_for(self) -> None:
        """A block may be full when nothing is left to give: what stays inside must not be taken for a cut end."""
        for plain in (*(bytes(BLOCK + more) for more in range(0, 300, 7)), bytes(range(256)) * 9000, b""):
            packed = zlib.compress(plain, 9, wbits=-15)
            for engine in (zlib, zlib_engine._engine):
                with self.subTest(size=len(plain), engine=engine), mock.patch.object(zlib_engine, "_engine", engine):
                    self.assertEqual(plain, b"".join(decompress.inflate([packed])))
                    with self.assertRaises(EOFError):
                        list(decompress.inflate([packed[:-1]]))
