"""The definitions that ship: each finds the place of its own content, and takes nobody else's."""

import subprocess
import sys
import unittest
from collections.abc import Iterator
from itertools import count
from pathlib import Path

from msgspec.structs import replace

from tests.planning.test_layouts import listing_of
from usufruct.definitions.load import SHIPPED, load_application
from usufruct.model.applications import Application, Arrange, Folder
from usufruct.model.choices import Choices
from usufruct.planning.candidates import Candidates
from usufruct.planning.claims import claims_of
from usufruct.planning.competition import Verdict, verdict_on
from usufruct.planning.layout import layout_of
from usufruct.planning.patterns import is_own_type
from usufruct.planning.tree import Tree

DEFINITIONS = tuple(
    replace(load_application(file, is_shipped=True), is_here=True) for file in sorted(SHIPPED.glob("*.toml"))
)
PROJECT = Path(__file__).parents[2]
KNOWN = Candidates(DEFINITIONS)


def content(folder: Folder) -> Iterator[str]:
    """Three things of a made-up pack for a folder, by its marks and patterns, as paths below the folder."""
    if folder.arrange is Arrange.PIECES:
        for mark in folder.mark:
            yield from (f"Moon {n}/{mark.replace('*', 'moon')}" for n in "abc")
        return
    for pattern in folder.takes or ("*.zzz",):
        if pattern != "*":
            yield from (pattern.replace("[0-9]", "3").replace("*", f"moon {n}") for n in "abc")


def verdict(entries: list[str], download: str = "pack.zip") -> Verdict:
    listing, digests = listing_of(entries)
    tree = Tree.of(listing)
    some = [DEFINITIONS[number] for number in sorted(KNOWN.among(tree) | KNOWN.taking(download))]
    claims = claims_of(listing, some)
    return verdict_on([layout_of(listing, one, "pack", Choices(), digests, claims) for one in some], download)


def is_told_apart(application: Application, folder: Folder) -> bool:
    """Whether anything but common file types tells a folder's content."""
    return bool(folder.mark) or any(map(is_own_type, folder.takes))


class ShippedTest(unittest.TestCase):
    def test_each_says_where_it_is_from_and_what_it_was_checked_with(self) -> None:
        self.assertGreaterEqual(len(DEFINITIONS), 90)
        for one in DEFINITIONS:
            if one.name != "own":
                self.assertTrue(one.source and one.checked, one.name)
            self.assertEqual(len({folder.name for folder in one.folders}), len(one.folders))

    def test_what_is_written_of_all_is_what_each_says(self) -> None:
        checked = subprocess.run([sys.executable, "tools/definitions.py", "--check"], cwd=PROJECT, check=False)
        self.assertEqual(checked.returncode, 0, "`python tools/definitions.py` writes it anew")

    def test_nobody_gets_the_content_of_another_unasked(self) -> None:
        found = own = 0
        for application in DEFINITIONS:
            for folder in application.folders:
                with self.subTest(application.name, folder=folder.name):
                    result = verdict([f"Night Pack/{path}" for path in content(folder)])
                    winner = result.layout.application if result.layout else None
                    if application.yields:
                        continue  # it gets nothing by itself
                    self.assertIn(winner and winner.name, (None, application.name))
                    found += winner is not None
                    own += is_told_apart(application, folder)
        # Most of those with a type or a marker file of their own are found by it alone.
        self.assertGreater(found, own * 2 // 3)

    def test_content_below_the_programs_own_names_finds_its_place(self) -> None:
        for application, number in zip(DEFINITIONS, count()):
            if not application.also or application.yields:
                continue
            for folder in application.folders:
                if folder.is_elsewhere:
                    continue
                below = "" if folder.is_root else f"{folder.path}/"
                paths = [f"{application.also[-1]}/{below}{path}" for path in content(folder)]
                with self.subTest(application.name, folder=folder.name, number=number):
                    result = verdict(paths, f"{application.name}-things.zip")
                    self.assertIsNotNone(result.layout, result.decision)
                    assert result.layout and result.layout.application
                    self.assertEqual(result.layout.application.name, application.name)
                    self.assertTrue(all(one.home.folder == folder for one in result.layout.placements))
                    self.assertGreaterEqual(result.layout.files, len(paths) - 3)


if __name__ == "__main__":
    unittest.main()
