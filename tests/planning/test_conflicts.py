"""What placements meet on disk, as pure decisions: every policy against everything that can be there."""

import unittest

from tests.support import sample_application
from usufruct.errors import MachineError
from usufruct.model.choices import Choices, OnClash
from usufruct.model.entries import Entry, EntryKind, Listing
from usufruct.model.plan import Conflict, Place, Plan, Renew, Replace
from usufruct.model.records import ABSENT, FileKind, FileState, Layer
from usufruct.model.snapshot import Found, Met, Snapshot, SurveyedHome
from usufruct.planning.conflicts import may_be_same, pieces_beside, plan_of
from usufruct.planning.layout import layout_of
from usufruct.planning.names import compared_versions, free_name, spelling_key

NOW = 1_700_000_000 * 10**9
MINE = FileState(FileKind.FILE, 4, NOW, 0o644, 7, b"mine")


def plan(
    *entries: Entry,
    there: dict[str, Found] | None = None,
    same: set[int] | None = None,
    updating: int | None = None,
    taken: tuple[str, ...] = (),
    **choices: object,
) -> Plan:
    """The plan for gels, with what is there in their folder."""
    listing = Listing.of(entries)
    layout = layout_of(listing, sample_application("lanternbox"), "pack", Choices())
    by_key = {spelling_key(name): one for name, one in (there or {}).items()}
    keys = {row: spelling_key(layout.name(row)) for row in layout.placed_rows()}
    found = {row: by_key[key] for row, key in keys.items() if key in by_key}
    homes = tuple(
        SurveyedHome(f"/world/{home.path}", "/world", True, frozenset(map(spelling_key, (*taken, *(there or {})))))
        for home in layout.homes
    )
    return plan_of(
        layout, Snapshot("/world", homes, Met(layout.names, found)), Choices(**choices), same or set(), updating
    )  # type: ignore[arg-type]


def gel(name: str = "moon.gel", **fields: object) -> Entry:
    return Entry(path=f"gels/{name}", **{"size": 4, "modified": NOW, **fields})  # type: ignore[arg-type]


def at(state: FileState = MINE, *stack: Layer, name: str = "moon.gel") -> Found:
    return Found(name, state, stack)


class PoliciesTest(unittest.TestCase):
    def test_nothing_there_is_simply_placed(self) -> None:
        for policy in OnClash:
            found = plan(gel(), on_clash=policy)
            if policy is OnClash.EXISTING:
                self.assertEqual(([*found.steps], found.skipped[0].kind.label), ([], "clash"))
            else:
                self.assertEqual([type(step) for step in found.steps], [Place])

    def test_another_file_there(self) -> None:
        expected = {
            OnClash.REPLACE: ([Replace], Conflict.REPLACES),
            OnClash.EXISTING: ([Replace], Conflict.REPLACES),
            OnClash.ASK: ([Replace], Conflict.REPLACES),
            OnClash.KEEP: ([], Conflict.NONE),
            OnClash.NEWER: ([], Conflict.NONE),
            OnClash.BOTH: ([Place], Conflict.STAYS),
        }
        for policy, (steps, conflict) in expected.items():
            with self.subTest(policy):
                found = plan(gel(), there={"moon.gel": at()}, on_clash=policy)
                self.assertEqual([type(step) for step in found.steps], steps)
                self.assertIs(found.conflict(0), conflict)
                self.assertEqual(bool(found.open_conflicts), policy is OnClash.ASK)

    def test_the_very_same_content_is_shared_whatever_the_policy(self) -> None:
        for policy in OnClash:
            found = plan(gel(), there={"moon.gel": at()}, same={0}, on_clash=policy)
            self.assertEqual((found.conflict(0), found.open_conflicts), (Conflict.SAME, []))

    def test_newer_allows_for_file_systems_with_coarse_times(self) -> None:
        for later, replaces in ((1, False), (2, False), (3, True), (-9, False)):
            entry = gel(modified=NOW + later * 10**9)
            found = plan(entry, there={"moon.gel": at()}, on_clash=OnClash.NEWER)
            self.assertEqual(bool([*found.steps]), replaces, later)
        self.assertFalse(plan(gel(modified=None), there={"moon.gel": at()}, on_clash=OnClash.NEWER).skipped == [])

    def test_each_entry_may_have_an_answer_of_its_own(self) -> None:
        there = {"moon.gel": at(), "sun.gel": at(name="sun.gel")}
        answers = (("gels/moon.gel", OnClash.KEEP), ("gels/sun.gel", OnClash.BOTH))
        found = plan(gel(), gel("sun.gel"), there=there, on_clash=OnClash.ASK, on_clash_of=answers)
        self.assertEqual((found.open_conflicts, found.beside), ([], {1: "sun (2).gel"}))

    def test_free_names_avoid_what_is_there_what_is_on_record_and_one_another(self) -> None:
        entries = gel(), gel("Moon (2).gel"), gel("moon (3).gel")
        found = plan(*entries, there={"moon.gel": at()}, taken=("moon (4).GEL",), on_clash=OnClash.BOTH)
        self.assertEqual(found.beside, {0: "moon (5).gel"})

    def test_files_and_directories_never_take_each_others_place(self) -> None:
        directory = FileState(FileKind.DIRECTORY)
        device = FileState(FileKind.OTHER)
        for state in (directory, device):
            with self.assertRaisesRegex(MachineError, r"moon\.gel is already there"):
                plan(gel(), there={"moon.gel": at(state)})

    def test_links_are_compared_by_their_targets(self) -> None:
        link = gel(kind=EntryKind.LINK, target="sun.gel", size=0)
        for target, conflict in (("sun.gel", Conflict.SAME), ("day.gel", Conflict.REPLACES)):
            found = plan(link, there={"moon.gel": at(FileState(FileKind.LINK, target=target))})
            self.assertEqual(found.conflict(0), conflict)

    def test_only_files_of_one_size_may_be_the_same(self) -> None:
        for size, suspects in ((4, 1), (5, 0)):
            listing = Listing.of([gel(size=size)])
            layout = layout_of(listing, sample_application("lanternbox"), "pack", Choices())
            homes = tuple(SurveyedHome("/w", "/w", True) for _ in layout.homes)
            self.assertEqual(len(may_be_same(layout, Snapshot("/w", homes, Met(layout.names, {0: at()})))), suspects)


class UpdatingTest(unittest.TestCase):
    """Holding 5 is updated; it had placed `moon.gel` over a file of the user's."""

    ORIGINAL = Layer(0, None, FileState(FileKind.FILE, 9, digest=b"original"), is_backed=True)
    PLACED = Layer(1, 5, MINE)

    def test_its_own_file_is_renewed_whatever_the_policy(self) -> None:
        for policy in OnClash:
            found = plan(gel(), there={"moon.gel": at(MINE, self.ORIGINAL, self.PLACED)}, updating=5, on_clash=policy)
            (step,) = found.steps
            assert isinstance(step, Renew)
            self.assertEqual((step.level, found.conflict(0)), (1, Conflict.REPLACES))

    def test_a_file_the_user_deleted_is_renewed_too(self) -> None:
        found = plan(gel(), there={"moon.gel": at(ABSENT, self.ORIGINAL, self.PLACED)}, updating=5)
        self.assertIsInstance(next(found.steps), Renew)

    def test_an_edited_file_keeps_its_name(self) -> None:
        edited = FileState(FileKind.FILE, 6, NOW + 1, 0o644, 8, b"edited")
        found = plan(gel(), there={"moon.gel": at(edited, self.ORIGINAL, self.PLACED)}, updating=5)
        self.assertEqual(found.beside, {0: "moon (2).gel"})

    def test_an_edited_file_that_another_covered_stays_beneath_it(self) -> None:
        edited = Layer(2, None, FileState(FileKind.FILE, 6, digest=b"edited"), is_backed=True)
        above = Layer(3, 6, FileState(FileKind.FILE, 3, digest=b"top"))
        stack = self.ORIGINAL, self.PLACED, edited, above
        found = plan(gel(), there={"moon.gel": at(above.state, *stack)}, updating=5)
        self.assertEqual(found.beside, {0: "moon (2).gel"})

    def test_what_other_holdings_placed_is_a_clash_like_any(self) -> None:
        other = Layer(1, 6, MINE)
        found = plan(gel(), there={"moon.gel": at(MINE, other)}, updating=5, on_clash=OnClash.KEEP)
        self.assertEqual([*found.steps], [])

    def test_a_piece_of_which_one_file_goes_beside_goes_as_a_whole(self) -> None:
        rig = Entry(path="Owl/rig.toml", size=4)
        found = plan(rig, there={"rig.toml": at(name="rig.toml")}, on_clash=OnClash.BOTH)
        self.assertEqual(pieces_beside(found), {"Puppets/Owl"})


class NamesTest(unittest.TestCase):
    def test_versions_compare_as_those_of_packages_or_by_their_numbers(self) -> None:
        for one, other, expected in (
            ("1.10", "1.9", 1),
            ("2", "2.0.1", -1),
            ("2026-03-14", "2025-12-31", 1),
            ("1.2", "1.2.0", 0),
            ("1.0-beta", "1.0", -1),
            ("1.0-beta.2", "1.0-beta", 1),
            ("1.0rc1", "1.0-beta", 1),
            ("2026-03-14", "1.0", 1),
            ("1.2-3", "1.2-10", -1),
            ("1.0", "1.0", 0),
            ("", "1", 0),
            ("3", "", 0),
        ):
            self.assertEqual(compared_versions(one, other), expected, (one, other))

    def test_free_names_count_from_two_before_the_extension(self) -> None:
        self.assertEqual(free_name("gel.csv", {"gel.csv"}), "gel (2).csv")
        self.assertEqual(free_name("gel.csv", {"gel.csv", "gel (2).csv"}), "gel (3).csv")
        self.assertEqual(free_name("Owl", {"owl"}), "Owl (2)")
        self.assertEqual(free_name(".hidden", {".hidden"}), ".hidden (2)")


if __name__ == "__main__":
    unittest.main()
