"""`usufruct carry` as it is called, from one home to another."""

import json
import shlex
import unittest

from tests.support import World, WorldTest, run_program
from usufruct.model.applications import Programs


class CarryTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.context_with_definitions()
        self.world.add_files("moons.zip", {"gels/moon.gel": "1"})
        self.file = str(self.world.folder / "all.zip")
        (self.world.folder / "there").mkdir()
        self.there = World(self.world.folder / "there")
        self.mapped = f"{self.world.folder}={self.there.folder}"

    def run_words(self, world: World, *words: str, code: int = 0) -> str:
        done = run_program(*words, home=world.paths.data, cwd=self.world.folder)
        self.assertEqual(done.returncode, code, done.stderr)
        return done.stdout if done.stdout else done.stderr

    def test_out_and_in(self) -> None:
        out = self.run_words(self.world, "carry", "out", "all")
        self.assertIn("1 holding with 1 archive file", out)
        self.assertIn("`usufruct carry in all.zip`", out)
        shown = self.run_words(self.there, "carry", "in", self.file, "--map", self.mapped, "--dry-run")
        self.assertRegex(shown, "to add +holding +moons")
        self.assertEqual(self.there.contents(), {})
        self.run_words(self.there, "carry", "in", self.file, "--map", self.mapped, code=3)
        self.assertEqual(self.there.contents(), {})
        done = self.run_words(self.there, "carry", "in", self.file, "--map", self.mapped, "--yes")
        self.assertIn("added  moons: 1 file", done)
        self.assertEqual(self.there.contents(), {"Gels/moon.gel": "1"})
        again = self.run_words(self.there, "carry", "in", self.file, "--map", self.mapped, "--yes", "--json")
        self.assertEqual([one["state"] for one in json.loads(again)["holdings"]], ["added already"])

    def test_programs_and_places_elsewhere_need_a_yes_of_their_own(self) -> None:
        definition = self.world.paths.apps / "lanternbox.toml"
        text = definition.read_text().replace('programs = "ask"', "")
        text = text.replace("[application]", '[application]\nprograms = "allow"\nafter = ["lanternbox", "--rescan"]', 1)
        text += f"""
            [[folder]]
            name = "start"
            path = "{self.world.folder}/start"
            arrange = "loose"
            takes = ["*.go"]
        """
        definition.write_text(text)
        self.run_words(self.world, "carry", "out", "all")
        words = ("carry", "in", self.file, "--map", self.mapped)
        shown = self.run_words(self.there, *words, "--yes", code=1)
        self.assertRegex(shown, "not allowed +definition +lanternbox")
        # What is agreed to is never cut off.
        in_full = " ".join(shown.split())
        self.assertIn(f"folder start {self.there.folder}/start, outside of the application's folder", in_full)
        self.assertIn("after lanternbox --rescan is run only once you agree, with `usufruct app agree lan", in_full)
        self.assertRegex(shown, "programs +allow")
        self.assertIn("`--allow programs` lets it.", shown)
        self.assertFalse((self.there.paths.apps / "lanternbox.toml").exists())
        self.assertEqual(self.there.contents(), {})
        self.run_words(self.there, *words, "--yes", "--allow", "programs", code=1)
        self.assertEqual(self.there.contents(), {})
        done = self.run_words(self.there, *words, "--yes", "--allow", "programs", "--allow", "elsewhere")
        self.assertIn("added  moons", done)
        self.assertEqual(self.there.contents(), {"Gels/moon.gel": "1"})

    def test_a_holdings_own_choice_to_take_programs_is_shown_and_asked_about(self) -> None:
        archive = self.world.archive("bells.zip", {"gels/b.gel": "1", "gels/run.csv": "x"})
        self.world.add(archive, programs=Programs.ALLOW)
        self.run_words(self.world, "carry", "out", "all")
        shown = self.run_words(self.there, "carry", "in", self.file, "--map", self.mapped, "--yes", code=1)
        self.assertRegex(shown, "not allowed +holding +bells")
        self.assertRegex(shown, "with +--programs allow")
        self.assertEqual(self.there.contents(), {"Gels/moon.gel": "1"})

    def test_what_is_missing_ends_with_one(self) -> None:
        (self.world.folder / "downloads/moons.zip").unlink()
        missing = self.run_words(self.world, "carry", "out", "all", code=1)
        self.assertIn("`usufruct pack moons` makes one", missing)
        self.run_words(self.world, "pack", "moons")
        refused = self.run_words(self.there, "carry", "in", "moons.zip", code=2)
        looked = self.run_words(self.there, *shlex.split(refused.split("`")[3])[1:], code=3)
        self.assertIn("moons.zip  zip", looked)
        self.assertIn("neither in the file", self.run_words(self.there, "carry", "in", self.file, "--map", self.mapped,
                                                            "--yes", code=1))  # fmt: skip
        self.assertIn("THERE=HERE", self.run_words(self.there, "carry", "in", self.file, "--map", "x", code=2))


if __name__ == "__main__":
    unittest.main()
