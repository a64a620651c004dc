"""The package: what it says of itself, and the ways of running it that cannot be."""

import subprocess
import sys
import tempfile
import tomllib
import unittest
import zipfile
from importlib import metadata
from pathlib import Path

import usufruct

PROJECT = Path(__file__).parents[2]


class PackageTest(unittest.TestCase):
    def test_the_version_stands_in_one_place(self) -> None:
        project = tomllib.loads((PROJECT / "pyproject.toml").read_text(encoding="utf-8"))
        self.assertEqual(project["project"]["dynamic"], ["version"])
        self.assertEqual(metadata.version("usufruct"), usufruct.__version__)

    def test_from_within_a_zip_it_is_refused_in_words(self) -> None:
        with tempfile.TemporaryDirectory() as passing:
            packed = Path(passing) / "usufruct.pyz"
            source = Path(usufruct.__file__).parent
            with zipfile.ZipFile(packed, "w") as archive:
                for file in source.rglob("*.py"):
                    archive.write(file, Path("usufruct") / file.relative_to(source))
                archive.writestr("__main__.py", "from usufruct.__main__ import main\nmain()\n")
            done = subprocess.run(
                [sys.executable, packed, "list"], capture_output=True, text=True, check=False, cwd=passing
            )
            self.assertEqual(done.returncode, 5)
            self.assertIn("cannot run from within a zip", done.stderr)
            self.assertIn("pip install", done.stderr)
            self.assertNotIn("Traceback", done.stderr)


if __name__ == "__main__":
    unittest.main()
