"""`usufruct carry` as it is called, from one home to another."""

import json
import unittest

from tests.support import World, WorldTest, run_program


class CarryTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.surroundings_with_definitions()
        self.world.add_files("moons.zip", {"gels/moon.gel": "1"})
        self.file = str(self.world.folder / "all.zip")
        (self.world.folder / "there").mkdir()
        self.there = World(self.world.folder / "there")
        self.mapped = f"{self.world.folder}={self.there.folder}"

    def run_words(self, world: World, *words: str, code: int = 0) -> str:
        done = run_program(*words, home=world.places.data, cwd=self.world.folder)
        self.assertEqual(done.returncode, code, done.stderr)
        return done.stdout if done.stdout else done.stderr

    def test_out_and_in(self) -> None:
        self.assertIn("1 holding with 1 archive file", self.run_words(self.world, "carry", "out", "all"))
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

    def test_what_is_missing_ends_with_one(self) -> None:
        (self.world.folder / "downloads/moons.zip").unlink()
        self.assertIn("missing", self.run_words(self.world, "carry", "out", "all", code=1))
        self.assertIn("neither in the file", self.run_words(self.there, "carry", "in", self.file, "--map", self.mapped,
                                                            "--yes", code=1))  # fmt: skip
        self.assertIn("THERE=HERE", self.run_words(self.there, "carry", "in", self.file, "--map", "x", code=2))


if __name__ == "__main__":
    unittest.main()
