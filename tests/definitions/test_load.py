"""Definitions: what they give, and how each fault is told with its line and remedy."""

import os
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from tests.support import SAMPLES
from usufruct.definitions.load import load_application, load_applications, parse_application
from usufruct.errors import BadDefinition
from usufruct.model.applications import Arrange, Programs

GOOD = """usufruct = 1

[application]
name = "box"
root = "~/Box"

[[folder]]
name = "gels"
path = "Gels"
arrange = "loose"

[[folder]]
name = "birds"
path = "Birds"
arrange = "pieces"
mark = ["bird.toml"]
"""

FAULTS = [
    # what is replaced, by what, line named, words of the message or remedy
    ("usufruct = 1", "usufruct = 9", "line 1,", "version 9"),
    ("usufruct = 1\n", "", "line 1,", "does not say the version"),
    ('root = "~/Box"', 'root = "~/Box', "line 5", "not valid TOML"),
    ('root = "~/Box"', "root = 7", "line 5,", "a text is wanted here"),
    ('root = "~/Box"', "", "line 3,", "Add the key root"),
    ('root = "~/Box"', 'root = "Box"', "line 5:", "absolute"),
    ('name = "box"', 'name = "Box 2"', "line 4:", "lower-case"),
    ('arrange = "loose"', 'arrange = "heap"', "line 10,", "heap"),
    ('arrange = "loose"', 'arrange = "loose"\ncolour = "red"', "line 11,", "the keys here are name, path, arrange"),
    ('arrange = "loose"', 'arrange = "loose"\nmark = ["x"]', "line 11:", "only with arrange"),
    ('mark = ["bird.toml"]', "", "line 15:", "needs a mark"),
    ('mark = ["bird.toml"]', 'mark = "bird.toml"', "line 16,", "a list is wanted here"),
    ('mark = ["bird.toml"]', 'mark = [" "]', "line 16:", "empty pattern"),
    ('name = "birds"', 'name = "Gels"', "line 13:", "called Gels already"),
    ('path = "Gels"', 'path = "../Gels"', "line 9:", ".."),
    ('path = "Gels"', 'path = "Gels"\nknown = ["a"]', "line 10:", "known"),
]


class LoadTest(unittest.TestCase):
    def test_the_samples_load(self) -> None:
        lanternbox = load_application(SAMPLES / "apps" / "lanternbox.toml")
        self.assertEqual(lanternbox.programs, Programs.ASK)
        self.assertEqual([f.arrange for f in lanternbox.folders], [Arrange.PIECES, Arrange.TREE, Arrange.LOOSE])
        self.assertTrue(lanternbox.root.endswith("/Lanternbox"))
        self.assertFalse(lanternbox.root.startswith("~"))

    def test_every_fault_names_file_line_and_remedy(self) -> None:
        for old, new, line, words in FAULTS:
            with self.subTest(new):
                self.assertIn(old, GOOD)
                with self.assertRaises(BadDefinition) as caught:
                    parse_application(GOOD.replace(old, new, 1), Path("/apps/box.toml"))
                said = f"{caught.exception.message} {caught.exception.remedy}"
                self.assertIn("/apps/box.toml", said)
                self.assertIn(line, said)
                self.assertIn(words, said)
                self.assertTrue(caught.exception.remedy)

    def test_a_shipped_definition_does_not_stand_in_for_the_users_own_that_is_broken(self) -> None:
        with tempfile.TemporaryDirectory() as directory:
            Path(directory, "fonts.toml").write_text("usufruct = 1\n[application]\n")
            told: list[BadDefinition] = []
            names = [one.name for one in load_applications(Path(directory), told.append)]
        self.assertEqual((len(told), "fonts" in names, "icons" in names), (1, False, True))

    def test_all_faults_are_told_at_once(self) -> None:
        text = GOOD.replace('name = "box"', 'name = "BOX"').replace('mark = ["bird.toml"]', "")
        with self.assertRaises(BadDefinition) as caught:
            parse_application(text, Path("box.toml"))
        self.assertIn("line 4:", caught.exception.message)
        self.assertIn("line 15:", caught.exception.message)

    def test_a_file_that_is_no_text_is_refused(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder, "box.toml")
            file.write_bytes(b"\xff\xfe\0")
            with self.assertRaisesRegex(BadDefinition, "cannot be read"):
                load_application(file)

    def test_the_desktops_names_of_the_users_own_folders(self) -> None:
        """They may be in another language, elsewhere or not named at all."""
        passing = tempfile.TemporaryDirectory()
        self.addCleanup(passing.cleanup)
        folder = Path(passing.name)
        config = folder / "config"
        config.mkdir()
        (config / "user-dirs.dirs").write_text(
            '# one a line\nXDG_PICTURES_DIR="$HOME/Bilder"\nXDG_MUSIC_DIR="/srv/musik"\n'
        )
        file = folder / "own.toml"
        text = 'usufruct = 1\n[application]\nname = "own"\nroot = "~"\n'
        names = ("PICTURES", "MUSIC", "VIDEOS")
        file.write_text(text + "".join(
            f'[[folder]]\nname = "{one.lower()}"\npath = "$XDG_{one}_DIR/New"\narrange = "tree"\n' for one in names
        ))  # fmt: skip
        with mock.patch.dict(os.environ, {"XDG_CONFIG_HOME": str(config), "HOME": "/home/marta"}):
            paths = [folder.path for folder in load_application(file).folders]
        self.assertEqual(paths, ["/home/marta/Bilder/New", "/srv/musik/New", "/home/marta/Videos/New"])


if __name__ == "__main__":
    unittest.main()
