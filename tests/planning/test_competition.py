"""Which application an archive is for."""

import unittest

from msgspec.structs import replace

from tests.planning.test_layouts import listing_of
from tests.support import sample_application
from usufruct.model.choices import Choices
from usufruct.planning.competition import Verdict, named_in, verdict_on
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
        self.assertIn("by common file types only", found.runners_up[0][1])

    def test_of_equal_evidence_the_most_files_win(self) -> None:
        found = verdict(["a.weft", *(f"{n}.gel" for n in range(10))], LANTERNBOX, WEFTLINE)
        assert found.layout and found.layout.application
        self.assertEqual(found.layout.application.name, "lanternbox")

    def test_a_draw_is_a_decision(self) -> None:
        found = verdict(["b.gel"], LANTERNBOX, TWIN)
        assert found.decision
        self.assertEqual([o.answer for o in found.decision.options], [("--app", "lanternbox"), ("--app", "twin")])

    def test_one_that_yields_gets_nothing_by_itself(self) -> None:
        found = verdict(["Gels/b.gel"], replace(TWIN, yields=True), WEFTLINE)
        self.assertEqual((found.layout, found.decision, found.standings), (None, None, ()))

    def test_two_thirds_of_the_most_files_are_a_draw(self) -> None:
        entries = [f"{n}.gel" for n in range(12)] + [f"{n}.weft" for n in range(8)]
        found = verdict(entries, LANTERNBOX, WEFTLINE).decision
        assert found
        self.assertIn("fit equally well", found.question)
        self.assertEqual([(one.files, one.left_out) for one in found.options], [(12, 8), (8, 12)])
        # More than a tenth of another's own type would be left out: that is asked as well, in other words.
        found = verdict(entries[:-1], LANTERNBOX, WEFTLINE).decision
        assert found
        self.assertIn("would leave out 7 of 19 files of a type that weftline uses", found.question)

    def test_what_a_bare_star_takes_counts_for_nothing(self) -> None:
        star = replace(LANTERNBOX.folders[2], takes=("*.gel", "*"))
        greedy = replace(TWIN, folders=(star,))
        found = verdict([*(f"{n}.weft" for n in range(9)), "x.gel", *(f"{n}.dat" for n in range(9))], greedy, WEFTLINE)
        self.assertEqual([(one.application, one.files) for one in found.standings], [("weftline", 9), ("twin", 1)])

    def test_a_draw_by_mark_is_the_users_own_and_one_by_name_alone_is_asked(self) -> None:
        shipped = replace(TWIN, is_shipped=True)
        for entries, winner in ((["Owl/rig.toml"], "lanternbox"), (["Gels/b.gel"], None), (["b.gel"], None)):
            with self.subTest(entries):
                found = verdict(entries, shipped, LANTERNBOX)
                app = found.layout.application if found.layout else None
                self.assertEqual(app and app.name, winner)

    def test_the_named_goes_before_others(self) -> None:
        listing, digests = listing_of(["b.gel"])
        layouts = [
            layout_of(listing, app, "pack", Choices(), digests)
            for app in (LANTERNBOX, replace(TWIN, also=(), title="Twin theatre"))
        ]
        named = verdict_on(layouts, "twin-theatre_gels.zip").layout
        assert named and named.application
        self.assertEqual(named.application.name, "twin")

    def test_the_strongest_evidence_wins_whoever_made_the_definition(self) -> None:
        shipped = replace(LANTERNBOX, name="shipped", is_shipped=True)
        found = verdict([*(f"Gels/{n}.gel" for n in range(20)), "x.weft"], shipped, WEFTLINE)
        assert found.layout and found.layout.application
        self.assertEqual(found.layout.application.name, "shipped")

    def test_which_words_of_a_name_are_an_applications(self) -> None:
        kiln = replace(TWIN, name="kiln-room", title="Kiln", root="~/Glazes", also=("箱庭", "puppets", "X"))
        for name, is_named in (
            ("kilnroom.zip", True), ("My KilnRoom pack.zip", True), ("glaze_2.zip", True), ("Kilns-v2.zip", True),
            ("箱庭の素材.zip", True), ("skiln.zip", False), ("kilnroomy.zip", False), ("x.zip", False),
            ("puppets.zip", False),  # a folder of the other
        ):  # fmt: skip
            with self.subTest(name):
                self.assertEqual(named_in([kiln, LANTERNBOX], [name]), [kiln] if is_named else [])

    def asked(self, entries: list[str], *applications: object) -> str:
        found = verdict(entries, *applications)
        self.assertIsNone(found.layout)
        assert found.decision
        return " ".join((found.decision.question, *found.decision.detail))

    def test_everyday_types_alone_lead_to_no_shipped_definition(self) -> None:
        shipped = replace(LANTERNBOX, name="wallpapers", is_shipped=True)
        scan = [*(f"page {n}.png" for n in range(8)), "rules.pdf"]
        self.assertIn("Only common file types, such as pictures or texts, fit wallpapers", self.asked(scan, shipped))

    def test_types_alone_that_leave_most_aside_are_a_question(self) -> None:
        self.assertIn(
            "? lanternbox has a folder for only 2 of 9 files",
            self.asked(["a.gel", "b.gel", *(f"{n}.dat" for n in range(7))], LANTERNBOX),
        )

    def test_a_piece_of_another_application_that_would_stay_aside_is_a_question(self) -> None:
        entries = [*(f"Gels/{n}.gel" for n in range(20)), "Jack/data/loom.toml"]
        self.assertIn(
            "would leave out Jack/data/loom.toml, which belongs to weftline", self.asked(entries, LANTERNBOX, WEFTLINE)
        )

    def test_content_below_another_applications_name_is_a_question(self) -> None:
        other = replace(WEFTLINE, also=("Wrackline",))
        self.assertIn(
            "It is inside Wrackline, which is a name of weftline",
            self.asked(["Wrackline/Gels/a.gel"], LANTERNBOX, other),
        )

    def test_nothing_fits(self) -> None:
        found = verdict(["song.ogg"], LANTERNBOX, WEFTLINE)
        self.assertIsNone(found.layout)
        self.assertIsNone(found.decision)


if __name__ == "__main__":
    unittest.main()
