"""Finding the place: the catalogue of packaging habits, and what holds for every archive."""

import gc
import random
import tomllib
import unittest
import weakref
from pathlib import Path

from blake3 import blake3
from msgspec.structs import replace

from tests.support import sample_application
from usufruct.archives.allowance import Allowance, Limits
from usufruct.archives.rows import Rows
from usufruct.model.applications import Arrange, Folder, Programs
from usufruct.model.choices import Choices
from usufruct.model.entries import EntryKind, Listing
from usufruct.model.layout import Layout
from usufruct.model.rulings import SkippedKind
from usufruct.planning.layout import layout_of, outside_layout
from usufruct.planning.names import tidy_name
from usufruct.planning.tree import Tree

CASES = tomllib.loads((Path(__file__).parent / "layouts.toml").read_text(encoding="utf-8"))["case"]

ABOUT_THE_TOP = (
    "archive's top", "puppet alone", "with a slash", "** crosses", "climb out", "top director", "top entries",
    "repeats its parent", "beside it", "beside the mark", "Programs are placed", "loose files go under", "Picked",
)  # fmt: skip
"""Words of the stories that a wrapper changes: about the archive's top itself, or about paths from it."""


def listing_of(entries: list[str]) -> tuple[Listing, dict[int, bytes]]:
    """The listing of a case's entries, and the digests of their contents."""
    rows = Rows(Allowance(Limits(), "case", "case", 0))
    digests = {}
    for text in entries:
        name, _, content = text.partition(" = ")
        name, _, target = name.partition(" -> ")
        kind = EntryKind.LINK if target else EntryKind.DIRECTORY if name.endswith("/") else EntryKind.FILE
        content = content or name
        row = rows.enter(name, kind, 0 if kind else len(content), None, target=target)
        if row is not None:
            digests[row] = blake3(content.encode()).digest()
    return rows.listing, digests


def layout_of_case(case: dict, entries: list[str]) -> Layout:
    listing, digests = listing_of(entries)
    options = {
        key: tuple(value) if isinstance(value, list) else value for key, value in case.get("options", {}).items()
    }
    if "programs" in options:
        options["programs"] = Programs(options["programs"])
    choices = Choices(**options)
    if "app" not in case:
        return outside_layout(listing, tidy_name(case["archive"]), choices, digests)
    application = sample_application(case["app"])
    return layout_of(listing, application, tidy_name(case["archive"]), choices, digests)


def skipped_of(layout: Layout) -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    for one in layout.skipped:
        found.setdefault(one.kind.label, []).append(layout.listing.path(one.row))
    return {kind: sorted(paths) for kind, paths in found.items()}


class CatalogueTest(unittest.TestCase):
    def test_every_directory_that_into_drops_is_told(self) -> None:
        listing, digests = listing_of(["pack/files/a.dat", "pack/files/b.dat"])
        layout = layout_of(listing, sample_application("lanternbox"), "pack", Choices(into="gels"), digests)
        self.assertEqual(set(layout.wrappers), {"pack", "pack/files"})

    def test_an_archive_that_only_the_widest_pattern_takes_is_to_be_opened(self) -> None:
        folder = Folder(name="all", path="All", arrange=Arrange.LOOSE, takes=("*",))
        application = replace(sample_application("lanternbox"), folders=(folder,))
        listing, digests = listing_of(["moon.dat", "more.zip"])
        layout = layout_of(listing, application, "pack", Choices(), digests)
        self.assertEqual(skipped_of(layout), {"archive": ["more.zip"]})

    def test_a_lone_link_is_no_lone_file_and_keeps_its_directory(self) -> None:
        for kind, to in ((EntryKind.FILE, "owl"), (EntryKind.LINK, "pack/owl")):
            listing = Listing()
            listing.add(listing.directory("pack"), "owl", kind, 0, None, target="there.gel" * (kind == EntryKind.LINK))
            layout = outside_layout(listing, "pack", Choices())
            self.assertEqual([placement.to for placement in layout.placements], [to])

    def test_documentation_of_a_package_is_kept_to_read_as_far_as_it_can_be(self) -> None:
        documents = {"readme": "notes", "story.html": "notes", "night.png": "notes", "scene.bin": "junk"}
        entries = ["usr/share/lanternbox/gels/moon.gel", *(f"usr/share/doc/moon/{name}" for name in documents)]
        listing, digests = listing_of(entries)
        layout = layout_of(listing, sample_application("lanternbox"), "moon", Choices(), digests)
        kinds = {listing.names[one.row]: one.kind.label for one in layout.skipped}
        self.assertEqual(kinds, documents)

    def test_the_directory_of_the_program_itself_is_skipped_with_the_reason(self) -> None:
        listing, digests = listing_of(["stuff/Lanternbox/gels/moon.gel"])
        layout = layout_of(listing, sample_application("lanternbox"), "stuff", Choices(), digests)
        self.assertIn("is the folder of Lanternbox", layout.wrappers["stuff/Lanternbox"])
        self.assertEqual([placement.to for placement in layout.placements], ["Gels/moon.gel"])

    def test_alternatives_that_meet_in_half_of_the_smaller_are_chosen_whole(self) -> None:
        for more, said in ((("b", "c"), "contain the same files"), (("b", "c", "d"), "differ in")):
            of_bright, of_dim = ("a", *more), ("a", *(f"{name}2" for name in more))
            entries = [f"p/bright/{name}.gel" for name in of_bright[: len(more)]]
            entries += [f"p/dim/{name}.gel" for name in of_dim[: len(more)]]
            listing, digests = listing_of(entries)
            layout = layout_of(listing, sample_application("lanternbox"), "x", Choices(), digests)
            self.assertIn(said, layout.decisions[0].question)

    def test_of_many_archives_one_after_the_other_only_the_last_are_kept(self) -> None:
        """Every tree once held the listing by which it was remembered, so that none was ever let go of."""
        met = []
        for number in range(5):
            listing, _ = listing_of([f"gels/{number}.gel"])
            self.assertIs(Tree.of(listing), Tree.of(listing))
            met.append(weakref.ref(listing))
        del listing
        gc.collect()
        self.assertLessEqual(sum(one() is not None for one in met), 2)

    """Every case of layouts.toml: where each entry goes, what goes aside, what is asked."""

    def test_every_entry_goes_where_the_catalogue_says(self) -> None:
        for case in CASES:
            with self.subTest(case["story"]):
                layout = layout_of_case(case, case["entries"])
                goes = {layout.listing.path(placement.row): placement.to for placement in layout.placements}
                self.assertEqual(goes, case.get("goes", {}))
                kinds = [layout.listing.kinds[row] for row in layout.placed_rows()]
                self.assertEqual(layout.files, len(kinds) - kinds.count(EntryKind.DIRECTORY))
                expected = {kind: sorted(paths) for kind, paths in case.get("aside", {}).items()}
                self.assertEqual(skipped_of(layout), expected)
                self.assertEqual([refusal.entry for refusal in layout.refused], case.get("refused", []))
                questions = [decision.question for decision in layout.decisions]
                self.assertEqual(bool(questions), "question" in case, questions)
                if questions:
                    self.assertIn(case["question"], questions[0])
                    options = layout.decisions[0].options
                    self.assertEqual([option.name for option in options], case.get("answers", []))
                    self.assertEqual(
                        [option.files for option in options], case.get("files", [o.files for o in options])
                    )

    def test_every_placement_and_aside_has_a_reason(self) -> None:
        for case in CASES:
            layout = layout_of_case(case, case["entries"])
            for placement in layout.placements:
                self.assertGreater(len(placement.why), 5, case["story"])
            for one in layout.skipped:
                self.assertGreater(len(one.reason), 5, case["story"])

    def test_the_order_of_entries_changes_nothing(self) -> None:
        for number, case in enumerate(CASES):
            if {"first", "last"} & {*case.get("answers", []), *case.get("options", {}).get("choose", [])}:
                continue  # the only answers that are about order
            with self.subTest(case["story"]):
                shuffled = random.Random(number).sample(case["entries"], len(case["entries"]))
                layout = layout_of_case(case, shuffled)
                goes = {layout.listing.path(placement.row): placement.to for placement in layout.placements}
                self.assertEqual(goes, case.get("goes", {}))
                expected = {kind: sorted(paths) for kind, paths in case.get("aside", {}).items()}
                self.assertEqual(skipped_of(layout), expected)

    def test_one_more_meaningless_wrapper_changes_nothing_but_entry_paths(self) -> None:
        for case in CASES:
            if any(words in case["story"] for words in ABOUT_THE_TOP):
                continue  # about the top itself, or about paths from it
            with self.subTest(case["story"]):
                wrapped = [f"New Folder/{entry}" for entry in case["entries"]]
                layout = layout_of_case(case, wrapped)
                goes = {layout.listing.path(placement.row): placement.to for placement in layout.placements}
                self.assertEqual(goes, {f"New Folder/{entry}": to for entry, to in case.get("goes", {}).items()})

    def test_so_many_directories_are_the_things_themselves_and_not_a_format_each(self) -> None:
        for count, dropped in ((24, 12), (25, 0)):
            entries = [f"{n:02}/loom {n // 2}.{'wif' if n % 2 else 'weft'}" for n in range(count)]
            layout = layout_of_case({"app": "weftline", "archive": "drafts.zip"}, entries)
            self.assertEqual(len(layout.rows_skipped(SkippedKind.OTHER_FORMAT)), dropped, count)


if __name__ == "__main__":
    unittest.main()
