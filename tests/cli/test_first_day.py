"""The first day, at a real terminal: nothing is defined yet, and a download is there."""

import os
import unittest

from tests.cli.terminal import DOWN, ENTER, Terminal
from tests.support import WorldTest, zip_bytes


@unittest.skipIf(os.name == "nt", "there are no pseudo-terminals")
class FirstDayTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.folder = self.world.folder
        for name in ("Owl", "Fox"):
            (self.folder / "Moonbox/Puppets" / name).mkdir(parents=True)
            (self.folder / "Moonbox/Puppets" / name / "rig.toml").write_text("x")
        self.pack = self.folder / "pack.zip"
        self.pack.write_bytes(zip_bytes({"new/Bat/rig.toml": "bat", "new/Bat/wing.svg": "wing"}))

    def terminal(self, *words: str) -> Terminal:
        # No program is found, so that none of those on this machine is offered.
        env = {"USUFRUCT_HOME": str(self.folder / "home"), "PATH": ""}
        return Terminal(*words, cwd=self.folder, env=env)

    def test_an_application_is_learned_on_the_way_and_the_archive_goes_to_it(self) -> None:
        with self.terminal("add", "pack.zip") as terminal:
            terminal.sees("wing.svg")
            terminal.sees("Usufruct does not know which program this is for")
            terminal.sees("learn it from a folder")
            terminal.types(DOWN, DOWN, DOWN, DOWN, ENTER)
            terminal.sees("Which folder does the application read?")
            terminal.types("Moonbox", ENTER, ENTER)  # the first takes what is offered to complete it
            terminal.sees('mark = ["rig.toml"]')
            terminal.sees("What should happen to it?")
            terminal.types(ENTER)
            terminal.sees("Added pack")
            self.assertEqual(terminal.ends(), 0)
        self.assertTrue((self.folder / "Moonbox/Puppets/Bat/wing.svg").exists())

    def test_a_directory_that_is_named_on_the_way(self) -> None:
        with self.terminal("add", "pack.zip") as terminal:
            terminal.sees("learn it from a folder")
            terminal.types(DOWN, DOWN, DOWN, ENTER)
            terminal.sees("Which directory?")
            terminal.types("elsewhere", ENTER)
            terminal.sees("Added pack")
            self.assertEqual(terminal.ends(), 0)
        self.assertTrue((self.folder / "elsewhere/pack/Bat/rig.toml").exists())

    def test_nothing_is_placed_where_nothing_is_answered(self) -> None:
        with self.terminal("add", "pack.zip") as terminal:
            terminal.sees("learn it from a folder")
            terminal.types(ENTER)
            self.assertEqual(terminal.ends(), 3)
        self.assertNotIn("Added", terminal.shown)


if __name__ == "__main__":
    unittest.main()
