"""Packs as people publish them, with twelve definitions of one's own and the shipped ones: see packs/README.md."""

import os
import random
import re
import tomllib
import unittest
from itertools import product
from pathlib import Path

from tests.planning.test_layouts import listing_of, skipped_of
from usufruct.definitions.load import SHIPPED as SHIPPED_FILES
from usufruct.definitions.load import load_application
from usufruct.model.applications import Application
from usufruct.model.choices import Choices
from usufruct.model.entries import Listing
from usufruct.model.layout import Layout
from usufruct.planning.candidates import Candidates
from usufruct.planning.claims import claims_of
from usufruct.planning.competition import Verdict, verdict_on
from usufruct.planning.layout import layout_of
from usufruct.planning.names import tidy_name
from usufruct.planning.tree import Tree

HERE = Path(__file__).parent
PACKS = [
    pack
    for file in sorted((HERE / "packs").glob("*.toml"))
    for pack in tomllib.loads(file.read_text(encoding="utf-8"))["pack"]
]
OWN = [load_application(file) for file in sorted((HERE / "applications").glob("*.toml"))]
EVERY = [load_application(file, is_shipped=True) for file in sorted(SHIPPED_FILES.glob("*.toml"))]
SHIPPED = [one for one in EVERY if one.name in ("colours", "fonts", "icons", "own", "sounds", "wallpapers")]
"""What the desktop's standards fix, which is on every machine."""
_BRACES = re.compile(r"\{([^{}]*)\}")


def spread(text: str) -> list[str]:
    """Every path that braces stand for, in order."""
    parts = _BRACES.split(text)
    choices = [[part] if number % 2 == 0 else _each(part) for number, part in enumerate(parts)]
    return ["".join(chosen) for chosen in product(*choices)]


def _each(inside: str) -> list[str]:
    if span := re.fullmatch(r"(\d+)\.\.(\d+)", inside):
        return [str(number) for number in range(int(span[1]), int(span[2]) + 1)]
    return inside.split(",")


def places_of(pack: dict) -> dict[str, str]:
    """Entry → destination; `{}` in a destination repeats the braces of its entry, in order."""
    found: dict[str, str] = {}
    for entry, to in pack.get("goes", {}).items():
        braces = iter(_BRACES.findall(entry))
        whole = re.sub(r"\{\}", lambda _, each=braces: f"{{{next(each)}}}", to)
        found |= dict(zip(spread(entry), map(os.path.expanduser, spread(whole)), strict=True))
    return found


def skipped_in(pack: dict) -> dict[str, list[str]]:
    """Kind → the entries that go aside for it."""
    return {
        kind: sorted(path for text in texts for path in spread(text)) for kind, texts in pack.get("aside", {}).items()
    }


def entries_of(pack: dict) -> list[str]:
    """All entries; a pack that does not list them is made of those that it says the fate of."""
    if "entries" not in pack:
        return [*places_of(pack), *(path for paths in skipped_in(pack).values() for path in paths)]
    entries = [entry for text in pack["entries"] for entry in spread(text)]
    for sign, words in pack.get("expand", {}).items():
        formats = dict(word.split("=") for word in words.split())
        entries = [
            entry.replace(sign, next(suffix for name, suffix in formats.items() if f"/{name}/" in entry))
            for entry in entries
        ]
    return entries


def applications_of(pack: dict) -> list[Application]:
    if "alone" in pack:
        return [one for one in OWN if one.name == pack["alone"]]
    own = [one for one in OWN if one.name in pack.get("apps", [one.name for one in OWN])]
    return [*own, *SHIPPED]


def listing_in(pack: dict, entries: list[str]) -> tuple[Listing, dict[int, bytes]]:
    """The listing, with the archives inside opened that the pack says are."""
    listing, digests = listing_of(entries)
    for name in pack.get("nested", ()):
        for path in [path for path in listing.directories if f"/{path}".endswith(f"/{name}")]:
            listing.nested[listing.directory(path)] = tidy_name(name)
    return listing, digests


def judged(pack: dict, entries: list[str]) -> tuple[Verdict, list[Layout]]:
    listing, digests = listing_in(pack, entries)
    tidy = tidy_name(pack["download"])
    applications = applications_of(pack)
    claims = claims_of(listing, applications)
    layouts = [layout_of(listing, app, tidy, Choices(), digests, claims) for app in applications]
    return verdict_on(layouts, pack["download"]), layouts


class PacksTest(unittest.TestCase):
    def test_each_goes_where_a_careful_person_would_put_it_or_is_asked_about(self) -> None:
        for pack in PACKS:
            with self.subTest(pack["story"]):
                entries = entries_of(pack)
                verdict, _ = judged(pack, entries)
                if "asks" in pack:
                    self.assertIsNone(verdict.layout)
                    asked = verdict.decision
                    said = " ".join((asked.question, *asked.detail)) if asked else "it fits none"
                    self.assertIn(pack["asks"].lower(), said.lower())
                    continue
                self.assertIsNotNone(verdict.layout, verdict.decision)
                layout = verdict.layout
                assert layout and layout.application
                self.assertEqual(layout.application.name, pack["for"])
                questions = " ".join(decision.question for decision in layout.decisions)
                self.assertIn(pack.get("inside", ""), questions)
                self.assertEqual(len(layout.decisions), int("inside" in pack), questions)
                goes = {layout.listing.path(placement.row): placement.to for placement in layout.placements}
                self.assertEqual(goes, places_of(pack))
                self.assertEqual(skipped_of(layout), skipped_in(pack))
                why = {layout.listing.path(one.row): one.reason for one in layout.skipped} | layout.wrappers
                for path, part in pack.get("because", {}).items():
                    self.assertIn(part, why[path])

    def test_no_entry_is_lost_without_a_word(self) -> None:
        for pack in PACKS:
            entries = entries_of(pack)
            for layout in judged(pack, entries)[1]:
                told = {one.row for one in layout.placements} | {one.row for one in layout.skipped}
                self.assertEqual(len(told) + len(layout.refused), len(entries), pack["story"])

    def test_neither_the_order_of_entries_nor_wrappers_that_say_nothing_change_anything(self) -> None:
        wrapper = "New Folder/files/"
        for number, pack in enumerate(PACKS):
            entries = entries_of(pack)
            shuffled = random.Random(number).sample(entries, len(entries))
            with self.subTest(pack["story"]):
                plain, inner = self.outcome(pack, entries), self.outcome(pack, [wrapper + entry for entry in shuffled])
                self.assertEqual(plain, (inner[0], {entry.removeprefix(wrapper): to for entry, to in inner[1].items()}))

    def test_names_alone_tell_who_may_take_part_and_nobody_else_has_a_say(self) -> None:
        left_out = 0
        for pack in PACKS:
            with self.subTest(pack["story"]):
                listing, digests = listing_in(pack, entries_of(pack))
                applications = [*OWN, *SHIPPED]
                candidates = Candidates(applications)
                numbers = candidates.among(Tree.of(listing)) | candidates.taking(pack["download"])
                some = [applications[number] for number in sorted(numbers)]
                left_out += len(applications) - len(some)
                claims = claims_of(listing, applications)
                self.assertEqual(claims_of(listing, some), claims)

                def told(these: list[Application]) -> tuple[object, ...]:
                    tidy = tidy_name(pack["download"])  # noqa: B023 - called in this turn
                    layouts = [layout_of(listing, app, tidy, Choices(), digests, claims) for app in these]  # noqa: B023
                    verdict = verdict_on(layouts, pack["download"])  # noqa: B023
                    best = verdict.layout
                    goes = [(one.row, one.to) for one in best.placements] if best else []
                    also = verdict.also_for
                    return goes, also, verdict.decision, verdict.runners_up, verdict.standings, verdict.common

                self.assertEqual(told(some), told(applications))
        self.assertGreater(left_out, len(PACKS))

    def test_however_many_programs_are_there_none_gets_what_is_anothers(self) -> None:
        """Marker files like `preferences` and types like `*.lua`, which very many have, claimed these packs."""
        asked = 0
        for pack in PACKS:
            listing, digests = listing_in(pack, entries_of(pack))
            known = [*(OWN if "alone" not in pack else applications_of(pack)), *EVERY]
            candidates = Candidates(known)
            numbers = candidates.among(Tree.of(listing)) | candidates.taking(pack["download"])
            some = [known[number] for number in sorted(numbers)]
            claims = claims_of(listing, some)
            tidy = tidy_name(pack["download"])
            layouts = [layout_of(listing, one, tidy, Choices(), digests, claims) for one in some]
            found = verdict_on(layouts, pack["download"]).layout
            with self.subTest(pack["story"]):
                winner = found.application.name if found and found.application else None
                self.assertIn(winner, (None, pack.get("for"), pack.get("elsewhere")))
            asked += winner is None and "for" in pack
        self.assertLess(asked, len(PACKS) // 5)

    def outcome(self, pack: dict, entries: list[str]) -> tuple[str, dict[str, str]]:
        verdict, _ = judged(pack, entries)
        if not verdict.layout or not verdict.layout.application:
            return "", {}
        layout = verdict.layout
        assert layout.application
        goes = {layout.listing.path(placement.row): placement.to for placement in layout.placements}
        return layout.application.name, goes


if __name__ == "__main__":
    unittest.main()
