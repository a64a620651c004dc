"""`usufruct pack` as it is called."""

import json
import tempfile
import unittest
import zipfile
from pathlib import Path

from tests.support import run_program


class PackTest(unittest.TestCase):
    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)
        (self.folder / "Shelf").mkdir()
        for number in range(12):
            (self.folder / "Shelf" / f"{number}.gel").write_text("gel " * 200)
        (self.folder / "Shelf" / ".DS_Store").write_text("junk")

    def run_words(self, *words: str, code: int = 0) -> str:
        done = run_program(*words, home=self.folder / "home", cwd=self.folder)
        self.assertEqual(done.returncode, code, done.stderr)
        return done.stdout if not code else done.stderr

    def test_named_after_the_source_and_told(self) -> None:
        planned = self.run_words("pack", "Shelf", "--dry-run")
        self.assertIn("and 4 more", planned)
        self.assertFalse((self.folder / "Shelf.zip").exists())
        said = self.run_words("pack", "Shelf")
        self.assertIn("Packed 12 files, 9.6 kB, into", said)
        self.assertIn("left out", said)
        self.assertIn("read back and compared", said)
        with zipfile.ZipFile(self.folder / "Shelf.zip") as archive:
            self.assertIn("Shelf/0.gel", archive.namelist())

    def test_json_names_all_volumes(self) -> None:
        (self.folder / "secret").write_text("moth\n")
        words = ("pack", "Shelf", "--out", "x.7z", "--password-file", "secret", "--effort", "0", "--json")
        document = json.loads(self.run_words(*words, "--with-junk"))
        self.assertEqual(document["archive"], [str(self.folder / "x.7z")])
        self.assertEqual(document["packed"], (self.folder / "x.7z").stat().st_size)
        self.assertIn("Shelf/.DS_Store", document["entries"])
        looked = self.run_words("look", "x.7z", "--password-file", "secret", "--to", "target", "--json")
        self.assertEqual(json.loads(looked)["archives"][0]["format"], "7z")

    def test_what_is_wrong_is_told(self) -> None:
        self.assertIn("--password-file", self.run_words("pack", "Shelf", "--lock", code=3))
        self.assertIn("is no size", self.run_words("pack", "Shelf", "--volume", "big", code=2))
        self.assertIn("at least 64 KiB", self.run_words("pack", "Shelf", "--volume", "3kB", code=2))
        self.assertIn("cannot be locked", self.run_words("pack", "Shelf", "--out", "a.tar.xz", "--lock", code=2))
        self.assertIn("contradict", self.run_words("pack", "Shelf", "--wrapper", "a", "--no-wrapper", code=2))
        self.assertEqual({path.name for path in self.folder.iterdir()} - {"home"}, {"Shelf"})


if __name__ == "__main__":
    unittest.main()
