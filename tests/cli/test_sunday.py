"""Forty downloads on a Sunday: one summary, questions of one kind once for all, one change, and Ctrl-C ends it."""

import json
import os
import unittest

from tests.cli.terminal import CONTROL_A, CONTROL_C, DOWN, ENTER, SPACE, Terminal
from tests.support import WorldTest, run_program

MOODS = {f"{mood}/gels/{{}}.gel": mood for mood in ("bright", "dim")}


class Sunday(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.context_with_definitions()
        self.downloads = self.world.folder / "downloads"
        for name in ("a", "b"):
            self.world.archive(f"{name}.zip", {f"gels/{name}.gel": name})
        for name in ("x", "y", "z"):
            self.world.archive(f"{name}.zip", {path.format(name): mood for path, mood in MOODS.items()})
        (self.downloads / "broken.zip").write_bytes(b"PK\x03\x04 and no more")
        os.utime(self.downloads / "broken.zip", (1e9, 1e9))
        self.environment = {
            "USUFRUCT_HOME": str(self.world.paths.config),
            "USUFRUCT_DOWNLOADS": str(self.downloads),
        }


class SummaryTest(Sunday):
    def test_one_summary_names_what_was_added_needs_an_answer_and_failed(self) -> None:
        done = run_program("add", "downloads", home=self.world.paths.config, cwd=self.world.folder)
        self.assertEqual(done.returncode, 1)
        said = done.stdout + done.stderr
        self.assertIn("Of 6 archives: 2 added (2 files, 2 B), 3 need an answer, 1 not added.", said)
        self.assertIn(f"usufruct add {self.downloads}/x.zip --choose bright", said)
        self.assertIn("broken.zip is a zip, but its end is missing", said)
        self.assertLess(said.count("\n"), 45)
        run_program("undo", home=self.world.paths.config, cwd=self.world.folder)
        self.assertEqual(self.world.contents(), {})

    def test_a_bare_name_is_looked_for_in_the_downloads_folders(self) -> None:
        elsewhere = self.world.folder / "elsewhere"
        elsewhere.mkdir()
        done = run_program(
            "add",
            "a.zip",
            "--json",
            home=self.world.paths.config,
            cwd=elsewhere,
            USUFRUCT_DOWNLOADS=str(self.downloads),
        )
        self.assertEqual(json.loads(done.stdout)["archives"][0]["path"], str(self.downloads / "a.zip"))
        missing = run_program("add", "./a.zip", home=self.world.paths.config, cwd=elsewhere)
        self.assertEqual(missing.returncode, 2)


@unittest.skipIf(os.name == "nt", "there are no pseudo-terminals")
class SundayTest(Sunday):
    def terminal(self, *words: str) -> Terminal:
        return Terminal(*words, cwd=self.world.folder, env=self.environment)

    def test_questions_of_one_kind_are_answered_once_for_all(self) -> None:
        with self.terminal("add", "downloads") as terminal:
            terminal.sees("Added a")
            terminal.sees("contain the same files")
            terminal.sees("dim, and the same for 2 other archives that ask this")
            terminal.types(DOWN, DOWN, DOWN, DOWN, ENTER)
            terminal.sees("5 added")
            self.assertEqual(terminal.ends(), 1)  # one is broken
        self.assertEqual({path: text for path, text in self.world.contents().items() if path[5] in "xyz"},
                         {f"Gels/{name}.gel": "dim" for name in "xyz"})  # fmt: skip
        run_program("undo", home=self.world.paths.config, cwd=self.world.folder)
        self.assertEqual(self.world.contents(), {}, "what was asked about is a part of the same change")

    def test_control_c_ends_it_and_what_was_done_stays_done(self) -> None:
        with self.terminal("add", "downloads") as terminal:
            terminal.sees("contain the same files")
            terminal.sees("place nothing now")
            terminal.types(CONTROL_C)
            terminal.sees("Stopped. 2 archives were added. The same command adds the rest.")
            self.assertEqual(terminal.ends(), 130)
        self.assertEqual(self.world.contents(), {"Gels/a.gel": "a", "Gels/b.gel": "b"})

    def test_what_is_picked_folds_by_piece_and_opens_to_single_files(self) -> None:
        self.world.archive("owls.zip", {
            **{f"{name}/{file}": name for name in ("Owl 2", "Owl 10") for file in ("rig.toml", "wing.svg")},
            "gels/moon.gel": "moon",
        })  # fmt: skip
        with self.terminal("add", "downloads/owls.zip", "--pick") as terminal:
            terminal.sees("gels/moon.gel")
            shown = terminal.sees("open some of these")
            self.assertLess(shown.index("Owl 2"), shown.index("Owl 10"))
            terminal.types(SPACE, DOWN, SPACE, DOWN, DOWN, SPACE, ENTER)  # not the gel, not Owl 2, but open some
            terminal.sees("Which should be opened?")
            terminal.types(DOWN, SPACE, ENTER)
            terminal.sees("Owl 10/rig.toml")
            terminal.sees("open some of these")
            terminal.types(*"wing", SPACE, ENTER)
            terminal.sees("Added owls")
            self.assertEqual(terminal.ends(), 0)
        self.assertEqual(self.world.contents(), {"Puppets/Owl 10/rig.toml": "Owl 10"})

    def test_a_clash_is_asked_about_with_size_time_and_owner_of_both(self) -> None:
        self.world.write({"Gels/a.gel": "my own one"})
        with self.terminal("add", "downloads/a.zip", "--on-clash", "ask") as terminal:
            terminal.sees("there 10 B, ")
            terminal.sees("yours; in the archive 1 B")
            terminal.types(DOWN, ENTER)
            self.assertEqual(terminal.ends(), 3)
        self.assertEqual(self.world.contents(), {"Gels/a.gel": "my own one"})

    def test_the_checklist_offers_what_needs_an_answer_too_and_nothing_ticked_is_said(self) -> None:
        with self.terminal("add") as terminal:
            terminal.sees("Which do you want to add?")
            terminal.sees("z.zip")
            terminal.types(ENTER)
            terminal.sees("Nothing was ticked.")
            self.assertEqual(terminal.ends(), 2)
        with self.terminal("add") as terminal:
            terminal.sees("Which do you want to add?")
            terminal.sees("a.zip")
            terminal.types(CONTROL_A, ENTER)
            terminal.sees("contain the same files")
            terminal.types(CONTROL_C)
            self.assertEqual(terminal.ends(), 130)


if __name__ == "__main__":
    unittest.main()
