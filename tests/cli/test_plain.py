"""The whole job without a picture: at a terminal that repaints nothing, as a screen reader needs it."""

import os
import unittest

from tests.cli.terminal import Terminal
from tests.support import WorldTest, run_program, zip_bytes


@unittest.skipIf(os.name == "nt", "there are no pseudo-terminals")
class PlainTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.context_with_definitions()
        self.downloads = self.world.folder / "downloads"
        (self.downloads / "moons.zip").write_bytes(
            zip_bytes({"moon/bright/moon.gel": "1", "moon/dim/moon.gel": "22", "moon/dim/more.gel": "3"})
        )
        (self.downloads / "odd.zip").write_bytes(zip_bytes({"o/a.zzz": "a", "o/b.zzz": "b"}))

    def terminal(self, *words: str, **more: str) -> Terminal:
        env = {"USUFRUCT_HOME": str(self.world.paths.config), "USUFRUCT_DOWNLOADS": str(self.downloads), "PATH": ""}
        return Terminal(*words, cwd=self.downloads, env={**env, **more})

    def test_see_what_arrived_decide_pick_remove_and_undo(self) -> None:
        with self.terminal("--plain", "add") as terminal:
            terminal.sees("Which do you want to add?")
            terminal.sees("Type numbers or ranges, such as 1 3-5, or all, or none. Enter alone means none")
            terminal.types("7\r")
            terminal.sees("no number from 1 to 2")
            terminal.sees("Enter alone means none")
            terminal.types("all\r")
            terminal.sees("Type a number from 1 to")
            shown = terminal.shown
            terminal.types("1\r")
            terminal.sees("Type a number from 1 to")
            terminal.types("\r")  # of what fits nothing, nothing is placed
            self.assertIn(terminal.ends(), (1, 3))
        self.assertNotIn("\x1b", terminal.raw)
        self.assertNotIn("in in", shown)
        self.assertEqual(len(self.world.contents()), 1)
        for words in (("remove", "moons", "--plain"), ("undo", "--plain")):
            with self.terminal(*words) as terminal:
                self.assertEqual(terminal.ends(), 0)
        self.assertEqual(len(self.world.contents()), 1)

    def test_entries_are_picked_by_number_at_a_dumb_terminal(self) -> None:
        (self.downloads / "gels.zip").write_bytes(zip_bytes({f"gels/{n}.gel": "x" for n in "abc"}))
        with self.terminal("add", "gels.zip", "--pick", TERM="dumb") as terminal:
            terminal.sees("3. gels/c.gel")
            terminal.sees("Enter alone means all")
            terminal.types("1,3\r")
            terminal.sees("Added gels")
            self.assertEqual(terminal.ends(), 0)
        self.assertNotIn("\x1b", terminal.raw)
        self.assertEqual(set(self.world.contents()), {"Gels/a.gel", "Gels/c.gel"})

    def test_a_reason_is_said_once(self) -> None:
        (self.downloads / "gels.zip").write_bytes(zip_bytes({"gels/a.gel": "x", "extra/Owl/rig.toml": "owl"}))
        (self.downloads / "owls.zip").write_bytes(zip_bytes({"puppets/Owl/rig.toml": "owl"}))
        for words, reason in (
            (("gels.zip",), "the archive has a folder called gels"),
            (("owls.zip",), "the archive has a folder called puppets"),
            (("gels.zip", "--to", str(self.world.folder / "new")), "several entries at the"),
        ):
            said = run_program("--plain", "look", *words, home=self.world.paths.config, cwd=self.downloads).stdout
            self.assertEqual(" ".join(said.split()).count(reason), 1, said)
        self.assertIn(
            "because: rig.toml marks it\n",
            run_program("--plain", "look", "owls.zip", home=self.world.paths.config, cwd=self.downloads).stdout,
        )

    def test_what_was_typed_before_a_question_answers_nothing(self) -> None:
        with self.terminal("add", "odd.zip") as terminal:
            terminal.types("\r\r\r")
            terminal.sees("place nothing now")
            terminal.types("\x03")
            self.assertNotEqual(terminal.ends(), 0)
        self.assertFalse((self.downloads / "o").exists())

    def test_a_question_to_a_script_has_one_answer_a_line(self) -> None:
        with self.terminal("look", "moons.zip", "--plain") as terminal:
            self.assertEqual(terminal.ends(), 3)
        self.assertIn("  --choose dim, 2 files, 3 B", terminal.shown)
        self.assertEqual(terminal.shown.count("because"), 1, terminal.shown)


if __name__ == "__main__":
    unittest.main()
