"""Which application an archive is for."""

import unittest
from dataclasses import replace

from tests.planning.test_layouts import listing_of
from tests.support import sample_application
from usufruct.model.choices import Choices
from usufruct.planning.competition import Verdict, verdict_on
from usufruct.planning.layout import layout_of

LANTERNBOX, WEFTLINE = sample_application("lanternbox"), sample_application("weftline")
TWIN = replace(LANTERNBOX, name="twin")


def verdict(entries: list[str], *applications: object) -> Verdict:
    listing, digests = listing_of(entries)
    return verdict_on([layout_of(listing, app, "pack", Choices(), digests) for app in applications])  # type: ignore[arg-type]


class CompetitionTest(unittest.TestCase):
    def test_the_strongest_evidence_wins_over_numbers(self) -> None:
        found = verdict(["Drafts/a.weft", "x/1.png", "x/2.png", "x/3.png"], LANTERNBOX, WEFTLINE)
        assert found.layout and found.layout.application
        self.assertEqual(found.layout.application.name, "weftline")
        self.assertEqual(found.runners_up[0][0], "lanternbox")
        self.assertIn("by pattern only", found.runners_up[0][1])

    def test_of_equal_evidence_the_most_files_win(self) -> None:
        found = verdict(["a.weft", "b.gel", "c.gel"], LANTERNBOX, WEFTLINE)
        assert found.layout and found.layout.application
        self.assertEqual(found.layout.application.name, "lanternbox")

    def test_a_draw_is_a_decision(self) -> None:
        found = verdict(["b.gel"], LANTERNBOX, TWIN)
        assert found.decision
        self.assertEqual([o.answer for o in found.decision.options], [("--app", "lanternbox"), ("--app", "twin")])

    def test_numbers_within_a_tenth_are_a_draw(self) -> None:
        entries = [f"{n}.gel" for n in range(10)] + [f"{n}.weft" for n in range(9)]
        self.assertIsNotNone(verdict(entries, LANTERNBOX, WEFTLINE).decision)
        self.assertIsNone(verdict(entries[:-1], LANTERNBOX, WEFTLINE).decision)

    def test_shipped_definitions_count_only_where_none_of_the_users_fits(self) -> None:
        shipped = replace(LANTERNBOX, name="shipped", is_shipped=True)
        found = verdict(["Gels/b.gel", "x.weft"], shipped, WEFTLINE)
        assert found.layout and found.layout.application
        self.assertEqual(found.layout.application.name, "weftline")
        found = verdict(["Gels/b.gel"], shipped, WEFTLINE)
        assert found.layout and found.layout.application
        self.assertEqual(found.layout.application.name, "shipped")

    def test_nothing_fits(self) -> None:
        found = verdict(["song.ogg"], LANTERNBOX, WEFTLINE)
        self.assertIsNone(found.layout)
        self.assertIsNone(found.decision)


if __name__ == "__main__":
    unittest.main()
