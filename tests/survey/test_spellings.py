"""Destinations take the spelling that is on disk, so that no twin folder appears; which links are followed."""

import os
import unicodedata
import unittest

from tests.support import WorldTest
from usufruct.actions.demonstration import differences


class SpellingsTest(WorldTest):
    def test_directories_and_files_that_differ_only_in_case(self) -> None:
        self.world.write({"GELS/Moon.GEL": "mine", "backdrops/FOREST/sky.png": "mine"})
        before = self.world.tree()
        self.world.add_files("pack.zip", {"gels/moon.gel": "theirs", "Backdrops/Forest/path.png": "path"})
        self.assertEqual(
            self.world.contents(),
            {"GELS/Moon.GEL": "theirs", "backdrops/FOREST/sky.png": "mine", "backdrops/FOREST/path.png": "path"},
        )
        self.world.remove("pack")
        self.assertEqual(differences(before, self.world.tree()), [])

    def test_names_that_differ_only_in_unicode_form(self) -> None:
        composed, parts = (unicodedata.normalize(form, "N\u00e4chte") for form in ("NFC", "NFD"))
        self.world.write({f"Backdrops/{parts}/sky.png": "mine"})
        self.world.add_files("pack.zip", {f"Backdrops/{composed}/moon.png": "moon"})
        self.assertEqual(os.listdir(self.world.lanternbox / "Backdrops"), [parts])

    def test_the_exact_spelling_counts_where_a_case_sensitive_disk_has_both(self) -> None:
        self.world.write({"Gels/Moon.gel": "upper", "Gels/moon.gel": "lower"})
        if len(os.listdir(self.world.lanternbox / "Gels")) < 2:
            self.skipTest("this file system does not tell case")
        self.world.add_files("pack.zip", {"gels/moon.gel": "theirs"})
        self.assertEqual(self.world.contents(), {"Gels/Moon.gel": "upper", "Gels/moon.gel": "theirs"})

    def test_without_an_application_too(self) -> None:
        target = self.world.folder / "apps" / "out"
        self.world.write({"OWLS/a.txt": "mine"}, below=target)
        self.world.add_files("pack.zip", {"Owls/b.txt": "b", "Owls/c.txt": "c"}, to=str(target))
        self.assertEqual(set(self.world.contents(target)), {"OWLS/a.txt", "OWLS/b.txt", "OWLS/c.txt"})

    def test_a_link_at_a_folders_own_path_is_followed_and_a_deeper_one_that_leads_out_is_not(self) -> None:
        elsewhere = self.world.folder / "elsewhere"
        elsewhere.mkdir()
        (self.world.lanternbox / "Gels").symlink_to(elsewhere)
        self.world.add_files("gels.zip", {"moon.gel": "moon"})
        self.assertEqual((elsewhere / "moon.gel").read_text(), "moon")
        self.world.remove("gels")
        self.assertEqual(os.listdir(elsewhere), [])
        (self.world.lanternbox / "Backdrops").mkdir()
        (self.world.lanternbox / "Backdrops" / "Forest").symlink_to(elsewhere)
        refused = self.world.add(self.world.archive("sky.zip", {"Backdrops/Forest/sky.png": "sky"}))
        self.assertEqual((refused.state, refused.error.exit_code), ("refused", 5))
        self.assertIn("Forest is a link that leads out", refused.error.message)
        self.assertEqual(os.listdir(elsewhere), [])


if __name__ == "__main__":
    unittest.main()
