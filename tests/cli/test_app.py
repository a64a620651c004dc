"""Defining applications: learn, new, edit, try, drop, and the definitions that ship."""

import json
import os
import stat
import sys
import unittest
from pathlib import Path

from tests.cli.case import ProgramCase
from tests.support import WorldTest, run_program, tar_bytes, zip_bytes
from usufruct.definitions.load import SHIPPED, load_application


class AppTest(ProgramCase):
    has_definitions = False

    def setUp(self) -> None:
        super().setUp()
        self.folder = self.world.folder
        self.root = self.world.folder / "Moonbox"
        self.definition = self.home / "apps" / "moonbox.toml"

    def fill(self) -> None:
        for name in ("Owl", "Fox"):
            (self.root / "Puppets" / name).mkdir(parents=True)
            (self.root / "Puppets" / name / "rig.toml").write_text("x")
        (self.root / "Gels").mkdir()
        (self.root / "Gels" / 'odd "name".gel').write_text("x")

    def editor(self, replaced: str, by: str) -> str:
        """An editor that replaces one text by another."""
        script = self.world.folder / "editor"
        script.write_text(
            f"#!{sys.executable}\nimport sys, pathlib, os\np = pathlib.Path(sys.argv[1])\nt = p.read_text()\n"
            f"p.write_text(t.replace({replaced!r}, {by!r}))\nos.utime(p, (2e9, 2e9))\n"
        )
        script.chmod(script.stat().st_mode | stat.S_IXUSR)
        return str(script)

    def test_a_learned_definition_is_written_once_accepted_and_works(self) -> None:
        self.fill()
        said = self.run_words("app", "learn", "Moonbox").stdout
        self.assertIn("2 directories that hold rig.toml", said)
        self.assertIn("Nothing was written", said)
        self.assertFalse(self.definition.exists())
        self.run_words("app", "learn", "Moonbox", "--yes")
        self.run_words("app", "learn", "Moonbox", "--yes", code=2)
        archive = self.world.folder / "pack.zip"
        archive.write_bytes(zip_bytes({"new/Bat/rig.toml": "bat", "more.gel": "gel"}))
        self.assertIn("1 to puppets, 1 to gels", self.run_words("app", "try", "moonbox", "pack.zip").stdout)
        self.run_words("add", "pack.zip")
        self.assertTrue((self.root / "Puppets/Bat/rig.toml").exists())
        self.run_words("app", "learn", "none", code=5)
        self.assertIn("Usufruct's own", self.run_words("app", "learn", str(self.definition.parent), code=2).stderr)
        self.run_words("app", "learn", "Moonbox", "--name", "No Good", code=2)

    def test_what_was_added_for_no_application_is_not_said_to_be_asked_about(self) -> None:
        (self.world.folder / "odd.zip").write_bytes(zip_bytes({"odd.zzz": "odd"}))
        (self.world.folder / "even.zip").write_bytes(zip_bytes({"even.zzz": "even"}))
        self.run_words("add", "odd.zip", "--to", ".")
        said = self.run_words("app", "try", "odd.zip").stdout
        self.assertIn("added already as odd", said)
        self.assertNotIn("asked", said)
        looks = self.run_words("add", "odd.zip", "even.zip", "--dry-run", code=1).stdout
        self.assertEqual(looks, self.run_words("look", "odd.zip", "even.zip", code=1).stdout)

    def test_a_set_of_downloads_shows_who_gets_each_and_where_it_is_nearly_a_tie(self) -> None:
        self.fill()
        self.run_words("app", "learn", "Moonbox", "--yes")
        text = self.definition.read_text().replace('"moonbox"', '"sunbox"').replace("Moonbox", "Sunbox")
        (self.world.folder / "sunbox.toml").write_text(text)
        self.run_words("app", "new", "sunbox", "--from", "sunbox.toml")
        packs = self.world.folder / "packs"
        packs.mkdir()
        (self.world.folder / "Sunbox").mkdir()
        (packs / "pack.zip").write_bytes(zip_bytes({f"{number}.gel": "gel" for number in range(9)}))
        (packs / "moonbox bats.zip").write_bytes(zip_bytes({"Moonbox/Gels/1.gel": "gel"}))
        self.run_words("app", "try", "packs", code=1)
        result = self.run_words("app", "try", "packs", "--json", code=1)
        bats, pack = json.loads(result.stdout)["archives"]
        self.assertEqual([bats["wins"], bats["near"], bats["evidence"]], ["moonbox", [], "root-name"])
        self.assertEqual([pack["wins"], pack["near"]], [None, ["moonbox", "sunbox"]])
        self.assertEqual([one["files"] for one in pack["weighed"]], [9, 9])
        said = self.run_words("app", "try", "sunbox", "packs").stdout
        self.assertIn("but it goes to moonbox", said)
        self.assertIn("fit equally well", said)

    def writing_editor(self, text: str) -> str:
        """An editor that writes something else."""
        (self.world.folder / "text").write_text(text)
        return f"cp {self.world.folder / 'text'}"

    def test_names_never_become_lines_of_a_learned_definition(self) -> None:
        """A newline ended a comment once, and what came behind it was a line of the definition."""
        line = 'x\nafter = ["touch", "pwned"]\n[[folder]]\nname = "all"\npath = "."\n#'
        self.fill()
        for name in (f"{line}.gel", f"Odd{line}/rig.toml", "bell\x07\x1b[31m.gel", "odd\u202e.gel"):
            path = self.root / "Puppets" / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text("x")
            (self.root / name.replace("/", "-")).write_text("x")
        with open(os.fsencode(self.root) + b"/\xff\xfe.gel", "w") as file:
            file.write("not text")
        text = self.run_words("app", "learn", "Moonbox").stdout
        self.assertFalse([sign for sign in text if not sign.isprintable() and sign != "\n"])
        self.run_words("app", "learn", "Moonbox", "--yes")
        learned = load_application(self.definition)
        self.assertEqual((learned.after, {"puppets", "gels"} <= {one.name for one in learned.folders}), ((), True))
        (self.world.folder / "odd\nname").mkdir()
        self.run_words("app", "learn", "odd\nname", code=2)

    def test_names_in_another_script_are_names_of_their_own_and_the_proposal_is_tried(self) -> None:
        """Two such folders were both called `application`, and the second could not be learned."""
        for name, file in (("織機", "Drafts/a.weft"), ("箱庭", "Beds/Row/bed.toml"), ("Größe", "Gels/a.gel")):
            path = self.world.folder / name / file
            path.parent.mkdir(parents=True)
            path.write_text("x")
            said = self.run_words("app", "learn", name, "--yes").stdout
            self.assertIn("1 of 1 files would go back to where they are", said)
        self.assertLessEqual({"織機", "箱庭", "grosse"}, {one.stem for one in self.definition.parent.iterdir()})
        (self.world.folder / "draft.zip").write_bytes(zip_bytes({"b.weft": "b"}))
        self.run_words("add", "draft.zip", "--app", "織機")
        self.assertTrue((self.world.folder / "織機/Drafts/b.weft").exists())

    def test_a_definition_that_was_handed_on_is_shown_and_taken_once_agreed_to(self) -> None:
        given = self.world.folder / "given.toml"
        given.write_text(
            'usufruct = 1\n[application]\nname = "moonbox"\nroot = "~/Moonbox"\nafter = ["moon", "--rescan"]\n'
            '[[folder]]\nname = "gels"\npath = "Gels"\narrange = "loose"\ntakes = ["*.gel"]\n'
        )
        said = self.run_words("app", "add", "given.toml", code=3).stdout
        for words in ("Moonbox", "Gels", "*.gel", "asks to run `moon --rescan`", "asks before it places program files"):
            self.assertIn(words, said)
        self.assertFalse(self.definition.exists())
        self.run_words("app", "add", "given.toml", "--yes")
        self.assertTrue(self.definition.exists())
        self.assertIn("defined already", self.run_words("app", "add", "given.toml", "--yes", code=2).stderr)
        given.write_text("usufruct = 1\n")
        self.run_words("app", "add", "given.toml", "--yes", code=2)
        self.run_words("app", "add", "none.toml", "--yes", code=5)

    def test_a_shipped_definition_that_changes_after_the_user_changed_it_says_so(self) -> None:
        self.run_words("app", "edit", "gimp", EDITOR=self.editor('"GIMP"', '"My GIMP"'))
        own = self.definition.with_name("gimp.toml")
        said = self.run_words("app", "show", "gimp").stdout
        self.assertIn("My GIMP", said)
        self.assertNotIn("has changed since", said)
        first, _, rest = own.read_text().partition("\n")
        own.write_text(f"{first[:-12]}{'0' * 12}\n{rest}")  # as if it had been made of another one
        self.assertIn("has changed since", " ".join(self.run_words("app", "show", "gimp").stdout.split()))

    def test_new_edit_and_drop(self) -> None:
        self.root.mkdir()
        self.run_words("app", "new", "moonbox", "--root", "Moonbox", EDITOR=self.editor('"content"', '"all"'))
        self.assertEqual(load_application(self.definition).folders[0].name, "all")
        self.run_words("app", "new", "moonbox", code=2)
        before = self.definition.read_text()
        bad = self.run_words("app", "edit", "moonbox", code=2, EDITOR=self.editor('arrange = "tree"', 'arrange = "x"'))
        self.assertIn("The definition is as it was", bad.stderr)
        self.assertEqual(self.definition.read_text(), before)
        self.assertIn('arrange = "x"', Path(f"{self.definition}.rejected").read_text())
        self.run_words("app", "edit", "moonbox", EDITOR=self.editor('"refuse"', '"ask"'))
        self.assertIn('programs = "ask"', self.definition.read_text())
        self.run_words("app", "new", "starbox", "--root", "Starbox", EDITOR=self.editor('"content"', '"all"'))
        other = self.definition.with_name("starbox.toml").read_text()
        taken = self.run_words("app", "edit", "moonbox", code=2, EDITOR=self.editor('"moonbox"', '"starbox"'))
        self.assertIn("calls itself starbox now", " ".join(taken.stderr.split()))
        self.assertEqual(self.definition.with_name("starbox.toml").read_text(), other)
        self.definition.write_text("no definition at all [")
        self.run_words("app", "edit", "moonbox", EDITOR=self.writing_editor(before))
        self.assertEqual(self.definition.read_text(), before)
        self.assertIn("Nothing was changed", self.run_words("app", "edit", "moonbox", EDITOR="true").stdout)
        failed = self.run_words("app", "edit", "moonbox", code=5, EDITOR="false").stderr
        self.assertIn("Nothing was changed. Name one that works here in the variable EDITOR", failed)
        (self.world.folder / "a.zip").write_bytes(zip_bytes({"moonbox/a.gel": "x"}))
        self.run_words("add", "a.zip", "--app", "moonbox", "--into", "all")
        self.assertIn("still has 1 holdings: a", self.run_words("app", "drop", "moonbox", code=2).stderr)
        self.run_words("remove", "a")
        self.run_words("app", "drop", "moonbox")
        self.assertFalse(self.definition.exists())
        self.run_words("app", "drop", "fonts", code=2)

    def test_a_definition_from_a_file_is_checked_before_it_counts(self) -> None:
        (self.world.folder / "good.toml").write_text((SHIPPED / "fonts.toml").read_text().replace("fonts", "moonbox"))
        (self.world.folder / "bad.toml").write_text("usufruct = 1\n[application]\nname = 3\n")
        self.run_words("app", "new", "moonbox", "--from", "bad.toml", code=2)
        self.run_words("app", "new", "moonbox", "--from", "good.toml")
        self.assertTrue(self.definition.exists())


class ShippedTest(WorldTest):
    """What ships for the desktop's open standards; the user's data directory is one of the test's."""

    def add(self, name: str, content: bytes, *words: str, code: int = 0) -> dict:
        home = self.world.folder / "state"
        (self.world.folder / name).write_bytes(content)
        self.data = self.world.folder / "data"
        done = run_program(
            *("add", name, *words, "--json"), home=home, cwd=self.world.folder, XDG_DATA_HOME=str(self.data), PATH="",
            HOME=str(self.world.folder / "person"),
        )  # fmt: skip
        self.assertEqual(done.returncode, code, done.stdout + done.stderr)
        (archive,) = json.loads(done.stdout)["archives"]
        return archive

    @unittest.skipIf(sys.platform in ("win32", "darwin"), "the desktop's open standards do not hold here")
    def test_fonts_themes_sounds_and_pictures_find_their_places(self) -> None:
        cases = {
            "fonts": (["Moth/otf/Moth.otf", "Moth/ttf/Moth.ttf", "Moth/OFL.txt"], "fonts/Moth.otf"),
            "icons": (["moth-master/Moth/index.theme", "moth-master/Moth/16/a.png"], "icons/Moth/index.theme"),
            # The cursor library does not look where icon themes are.
            "cursors": (["Moth/cursors/left_ptr", "Moth/cursors/hand"], "../person/.icons/Moth/cursors/left_ptr"),
            "sounds": (["moth/index.theme", "moth/stereo/bell.oga"], "sounds/moth/stereo/bell.oga"),
            "pictures": (["Wallpapers/night/moth.jpg"], "backgrounds/night/moth.jpg"),
            "colours": (["profiles/moth.icc", "profiles/notes.doc"], "icc/moth.icc"),
        }
        for name, (paths, expected) in cases.items():
            with self.subTest(name):
                self.add(f"{name}.tar", tar_bytes({path: path for path in paths}))
                self.assertTrue((self.data / expected).is_file())
        self.assertFalse((self.data / "fonts/Moth.ttf").exists(), "one format of each font is enough")

    @unittest.skipIf(sys.platform in ("win32", "darwin"), "the desktop's open standards do not hold here")
    def test_a_font_that_is_installed_already_is_not_installed_again(self) -> None:
        (self.world.folder / "data/fonts/by-hand").mkdir(parents=True)
        (self.world.folder / "data/fonts/by-hand/Old Moth.ttf").write_text("moth")
        added = self.add("moth.tar", tar_bytes({"Moth.ttf": "moth", "Owl.ttf": "owl"}))
        self.assertEqual([aside["kind"] for aside in added["aside"]], ["duplicate"])
        self.assertEqual([placement["to"] for placement in added["placements"]], ["Owl.ttf"])
        again = self.add("again.tar", tar_bytes({"Moth.ttf": "moth"}))
        self.assertEqual(again["state"], "already added")
        # Looking ends as adding does, and says why.
        around = {"home": self.world.folder / "state", "cwd": self.world.folder, "XDG_DATA_HOME": str(self.data)}
        looked = run_program("look", "again.tar", **around)
        self.assertEqual(looked.returncode, 0, looked.stdout + looked.stderr)
        self.assertIn("It is installed already: there is nothing to do.", looked.stdout)

    @unittest.skipIf(sys.platform in ("win32", "darwin"), "the desktop's open standards do not hold here")
    def test_a_program_with_a_picture_is_no_wallpaper(self) -> None:
        files = {f"src/{n}.c": "int main;" * 99 for n in range(9)} | {"docs/logo.png": "x"}
        self.assertEqual(self.add("tool.tar", tar_bytes(files), code=3)["state"], "asked")

    def test_every_shipped_definition_is_sound(self) -> None:
        for file in SHIPPED.iterdir():
            application = load_application(file, is_shipped=True)
            self.assertEqual(application.name, file.stem)
            self.assertTrue(os.path.isabs(application.root))


if __name__ == "__main__":
    unittest.main()
