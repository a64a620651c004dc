"""What an index of packages shows of the README: no link there may lead nowhere."""

import re
import runpy
import unittest
from pathlib import Path

ROOT = Path(__file__).parents[2]


class IndexPageTest(unittest.TestCase):
    def setUp(self) -> None:
        self.made = runpy.run_path(str(ROOT / "setup.py"))["long_description"]
        self.readme = (ROOT / "README.md").read_text("utf-8")

    def test_without_an_address_nothing_is_linked_and_nothing_is_lost_but_pictures(self) -> None:
        page = self.made(self.readme, None)
        self.assertEqual([], re.findall(r"\]\((?!https?:)[^)]*\)", page))
        self.assertIn("**The guide (docs/guide/README.md)**", page)
        self.assertIn("a definition (docs/definitions.md), one short TOML file", page)
        self.assertIn("```sh\npython3 -m venv", page)

    def test_with_an_address_all_that_is_linked_is_there(self) -> None:
        page = self.made(self.readme, "https://example.org/usufruct/")
        places = re.findall(r"\]\(([^)]*)\)", page)
        self.assertGreater(len(places), 25)
        for place in places:
            self.assertTrue(place.startswith("https://example.org/usufruct/"), place)
            file = place.removeprefix("https://example.org/usufruct/").partition("#")[0]
            self.assertTrue((ROOT / file).exists(), place)
