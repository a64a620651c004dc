"""`usufruct` alone says how things stand; what people type out of habit is answered."""

import json
import os
import unittest

from tests.cli.test_add import AddCase
from tests.cli.test_json import validate
from tests.support import run_program, zip_bytes


class StandingTest(AddCase):
    def alone(self, *words: str) -> str:
        done = run_program(*words, home=self.home, cwd=self.downloads, USUFRUCT_DOWNLOADS=str(self.downloads))
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        self.assertLessEqual(len(done.stdout.splitlines()), 100 if words else 12)
        return done.stdout

    def test_a_beginner_sees_three_steps_and_everyone_else_what_is_to_do(self) -> None:
        self.assertIn("usufruct demo", self.alone())
        self.write("moons.zip", {"gels/moon.gel": "m"})
        self.write("two.wheel", {"a.gel": "g", "b.yarn": "y"})
        self.assertIn("in your downloads folder: 1 archive", self.alone())
        run_program("downloads", home=self.home, cwd=self.downloads, USUFRUCT_DOWNLOADS=str(self.downloads))
        self.write("suns.zip", {"gels/sun.gel": "s"})
        self.run_words("add", "suns.zip")
        said = self.alone()
        for words in (
            "1 ready to be added, 1 needs an answer", "1 holding (1 file) in lanternbox", "added suns; `usufruct undo`",
            "`usufruct add` offers what is ready",
        ):  # fmt: skip
            self.assertIn(words, said)
        document = json.loads(self.alone("--json"))
        validate(document, "usufruct")
        self.assertEqual(document["downloads"], {"ready": 1, "asked": 1, "unknown": 0})
        self.run_words("undo")
        self.assertNotIn("added suns", self.alone())
        # Another file of that name, though older, is another file; a link that leads nowhere hides no other archive.
        (self.downloads / "a.zip").symlink_to("nowhere.zip")
        self.write("moons.zip", {"gels/moon.gel": "another one"})
        os.utime(self.downloads / "moons.zip", (1, 1))
        counted = json.loads(self.alone("--json"))["downloads"]
        self.assertEqual((counted["asked"], counted["unknown"]), (1, 2))

    def test_habits(self) -> None:
        self.write("moons (1).zip", {"gels/moon.gel": "m"})
        (self.downloads / "Downloads").mkdir()
        path = self.downloads / "moons (1).zip"
        for words in (
            ("moons (1).zip",), ("look", "'moons (1).zip'"), ("look", f"file://{str(path).replace(' ', '%20')}"),
            ("look", " moons (1).zip "), ("look", f"..\\{self.downloads.name}\\moons (1).zip"),
        ):  # fmt: skip
            self.assertIn("for Lanternbox", self.run_words(*words).stdout, words)
        for words, said in (
            (("install", "x y.zip"), "Type `usufruct add 'x y.zip'`"),
            (("delete", "moons"), "Type `usufruct remove moons`"),
            (("add", "moons (1).zip", "here"), "`--to here`"),
            (("look", "moon (1).zip"), "Did you mean moons (1).zip"),
            (("look", "download.zip"), "`usufruct downloads` lists what waits"),
        ):  # fmt: skip
            self.assertIn(said, self.run_words(*words, code=2).stderr)
        for words in (("help",), ("/?",), ("help", "add"), ("add", "-?")):
            self.assertIn("Usage: usufruct", self.run_words(*words).stdout)
        self.assertEqual(self.run_words("version").stdout, self.run_words("--version").stdout)

    def test_a_pattern_is_looked_for_in_the_downloads_folders_too(self) -> None:
        self.write("moons.zip", {"gels/moon.gel": "m"})
        done = run_program("look", "moon*.zip", home=self.home, cwd=self.home, USUFRUCT_DOWNLOADS=str(self.downloads))
        self.assertIn("for Lanternbox", done.stdout)

    def test_quiet_silences_results_alone(self) -> None:
        self.write("moons.zip", {"gels/moon.gel": "m"})
        (self.downloads / "broken.zip").write_bytes(b"PK\x03\x04 and no more")
        (self.downloads / "two.zip").write_bytes(zip_bytes({"a/moon.gel": "1", "b/moon.gel": "22"}))
        for words, code, said in (
            (("add", "moons.zip"), 0, ""),
            (("add", "broken.zip"), 4, "broken.zip"),
            (("add", "two.zip"), 3, "--choose a"),
        ):  # fmt: skip
            done = self.run_words("-q", *words, code=code)
            self.assertEqual(done.stdout, "")
            self.assertIn(said, done.stderr)


if __name__ == "__main__":
    unittest.main()
