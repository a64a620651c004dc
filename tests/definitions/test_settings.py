"""Settings: where values come from, and what is refused by key."""

import tempfile
import unittest
from collections.abc import Mapping
from pathlib import Path
from types import MappingProxyType

from usufruct.definitions.settings import found_settings, load_settings, parsed, write_setting
from usufruct.errors import BadDefinition, WrongUsage
from usufruct.files.platform import this_platform
from usufruct.model.settings import Settings, meanings


class SettingsTest(unittest.TestCase):
    def setUp(self) -> None:
        passing = tempfile.TemporaryDirectory()
        self.addCleanup(passing.cleanup)
        self.file = Path(passing.name) / "new" / "settings.toml"

    def load(self, environment: Mapping[str, str] = MappingProxyType({})) -> Settings:
        return load_settings(self.file, self.fail, environment)

    def write(self, key: str, value: object) -> None:
        write_setting(self.file, key, value, this_platform())

    def test_the_environment_is_stronger_than_the_file_and_the_file_than_the_default(self) -> None:
        self.assertEqual(self.load(), Settings())
        self.write("patience", 9)
        self.write("most-levels", 1)
        environment = {"USUFRUCT_PATIENCE": "2"}
        self.assertEqual(self.load(environment), Settings(patience=2, most_levels=1))
        sources = {found.key: found.source for found in found_settings(self.file, self.fail, environment)}
        self.assertEqual(sources["patience"], "USUFRUCT_PATIENCE")
        self.assertEqual((sources["most-levels"], sources["most-ratio"]), ("file", "default"))
        self.assertEqual(set(sources), set(meanings()))

    def test_comments_stay_when_a_value_changes(self) -> None:
        self.file.parent.mkdir()
        self.file.write_text("# mine\npatience = 7 # long\n", encoding="utf-8")
        self.write("patience", 8)
        self.assertEqual(self.file.read_text(encoding="utf-8"), "# mine\npatience = 8 # long\n")
        self.write("patience", None)
        self.assertEqual(self.load(), Settings())

    def test_what_is_wrong_is_told_by_its_key_and_stands_aside(self) -> None:
        self.file.parent.mkdir()
        for text, said in (
            ("patience = true", "patience .* whole number"), ("most-ratio = 1", "most-ratio .* at least 2"),
            ("colour = 1", "colour .* no such setting"), ("patience =", "cannot be read"),
        ):  # fmt: skip
            self.file.write_text(f"{text}\nmost-levels = 1\n", encoding="utf-8")
            faults: list[BadDefinition] = []
            found = load_settings(self.file, faults.append, {})
            with self.subTest(text):
                self.assertRegex(" ".join(map(str, faults)), said)
                self.assertEqual(found, Settings() if text.endswith("=") else Settings(most_levels=1))
        self.file.write_text("patience =", encoding="utf-8")
        with self.assertRaises(BadDefinition):
            self.write("patience", 3)
        self.assertEqual(self.file.read_text(encoding="utf-8"), "patience =")
        with self.assertRaisesRegex(WrongUsage, "whole number"):
            parsed("patience", "soon")
        with self.assertRaises(WrongUsage):
            load_settings(self.file.with_name("none"), self.fail, {"USUFRUCT_PATIENCE": "-1"})


if __name__ == "__main__":
    unittest.main()
