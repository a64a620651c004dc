"""Settings: where values come from, and what is refused by key."""

import tempfile
import unittest
from pathlib import Path

from usufruct.definitions.settings import found_settings, load_settings, parsed, write_setting
from usufruct.errors import BadDefinition, WrongUsage
from usufruct.model.settings import Settings, meanings


class SettingsTest(unittest.TestCase):
    def setUp(self) -> None:
        passing = tempfile.TemporaryDirectory()
        self.addCleanup(passing.cleanup)
        self.file = Path(passing.name) / "new" / "settings.toml"

    def test_the_environment_is_stronger_than_the_file_and_the_file_than_the_default(self) -> None:
        self.assertEqual(load_settings(self.file, {}), Settings())
        write_setting(self.file, "patience", 9)
        write_setting(self.file, "most-levels", 1)
        environment = {"USUFRUCT_PATIENCE": "2"}
        self.assertEqual(load_settings(self.file, environment), Settings(patience=2, most_levels=1))
        sources = {found.key: found.source for found in found_settings(self.file, environment)}
        self.assertEqual(sources["patience"], "USUFRUCT_PATIENCE")
        self.assertEqual((sources["most-levels"], sources["most-ratio"]), ("file", "default"))
        self.assertEqual(set(sources), set(meanings()))

    def test_comments_stay_when_a_value_changes(self) -> None:
        self.file.parent.mkdir()
        self.file.write_text("# mine\npatience = 7 # long\n", encoding="utf-8")
        write_setting(self.file, "patience", 8)
        self.assertEqual(self.file.read_text(encoding="utf-8"), "# mine\npatience = 8 # long\n")
        write_setting(self.file, "patience", None)
        self.assertEqual(load_settings(self.file, {}), Settings())

    def test_what_is_wrong_is_refused_by_its_key(self) -> None:
        self.file.parent.mkdir()
        for text, said in (
            ("patience = true", "patience .* whole number"), ("most-ratio = 1", "most-ratio .* at least 2"),
            ("colour = 1", "colour .* no such setting"), ("patience =", "cannot be read"),
        ):  # fmt: skip
            self.file.write_text(text, encoding="utf-8")
            with self.subTest(text), self.assertRaisesRegex(BadDefinition, said):
                load_settings(self.file, {})
            with self.subTest(text), self.assertRaises(BadDefinition):
                write_setting(self.file, "patience", 3)
            self.assertEqual(self.file.read_text(encoding="utf-8"), text)
        with self.assertRaisesRegex(WrongUsage, "whole number"):
            parsed("patience", "soon")
        with self.assertRaises(WrongUsage):
            load_settings(self.file.with_name("none"), {"USUFRUCT_PATIENCE": "-1"})


if __name__ == "__main__":
    unittest.main()
