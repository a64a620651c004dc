"""What holds for every archive: generated trees of names that mean something and names that do not."""

import unittest
from collections.abc import Sequence

from blake3 import blake3
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.often import often
from tests.support import sample_application
from usufruct.archives.allowance import Allowance, Limits
from usufruct.archives.rows import Rows
from usufruct.model.choices import Choices
from usufruct.model.entries import EntryKind, Listing
from usufruct.model.layout import Layout
from usufruct.planning.junk import is_notes
from usufruct.planning.layout import layout_of, outside_layout
from usufruct.planning.names import folded, spelling_key

DIRECTORIES = ["Puppets", "gels", "Backdrops", "Owl", "owl", "dl 1", "Lanternbox", "figures", "parts", "__MACOSX", "a"]
FILES = [
    "rig.toml",
    "moon.gel",
    "Moon.gel",
    "moon.csv",
    "sky.png",
    "readme.txt",
    "x.bak",
    "tool.exe",
    "wing.svg",
    "in.zip",
]
APPS = {name: sample_application(name) for name in ("lanternbox", "weftline", "tidebook")}

paths = st.lists(
    st.builds(
        lambda above, name: "/".join([*above, name]),
        st.lists(st.sampled_from(DIRECTORIES), max_size=4),
        st.sampled_from(FILES),
    ),
    min_size=1,
    max_size=14,
    unique=True,
)
choices = st.builds(
    Choices,
    choose=st.sampled_from([(), ("all",)]),
    every_format=st.booleans(),
    skip=st.sampled_from([(), ("*.csv",)]),
    into=st.sampled_from([None, None, "gels", "puppets", "backdrops"]),
)


def listing_of(paths: Sequence[str]) -> tuple[Listing, dict[int, bytes]]:
    """Each entry's content is its own path, so that no two are equal."""
    rows = Rows(Allowance(Limits(), "x", "x", 0))
    digests = {}
    for path in paths:
        row = rows.enter(path, EntryKind.FILE, 9, None)
        assert row is not None
        digests[row] = blake3(path.encode()).digest()
    return rows.listing, digests


def layout(paths: Sequence[str], app: str | None, wanted: Choices) -> Layout:
    listing, digests = listing_of(paths)
    if app is None:
        return outside_layout(listing, "tidy", wanted, digests)
    return layout_of(listing, APPS[app], "tidy", wanted, digests)


def outcome(found: Layout) -> dict[str, str]:
    """Entry → where it goes or why not."""
    result = {found.listing.path(one.row): one.to for one in found.placements}
    result |= {found.listing.path(one.row): f"- {one.kind.label}" for one in found.skipped}
    return result | {one.entry: "- refused" for one in found.refused}


class GeneratedTest(unittest.TestCase):
    @settings(max_examples=often(150), deadline=None)
    @given(paths, choices)
    def test_every_entry_is_accounted_for_once_and_destinations_are_unique(
        self, paths: list[str], wanted: Choices
    ) -> None:
        for app in (*APPS, None):
            found = layout(paths, app, wanted if app == "lanternbox" or not wanted.into else Choices())
            accounted = [one.row for one in found.placements] + [one.row for one in found.skipped]
            self.assertEqual(len(accounted) + len(found.refused), len(paths))
            self.assertEqual(len(set(accounted)), len(accounted))
            if not found.decisions:
                places = [spelling_key(one.to) for one in found.placements]
                self.assertEqual(len(set(places)), len(places))
            for one in found.placements:
                self.assertFalse(one.to.startswith(("/", "..")) or "/../" in one.to, one.to)
                if one.home.folder and not one.home.folder.is_root:
                    self.assertTrue(one.to.startswith(one.home.folder.path + "/"))

    @settings(max_examples=often(100), deadline=None)
    @given(paths, choices, st.randoms())
    def test_the_order_of_entries_does_not_matter(self, paths: list[str], wanted: Choices, chance: object) -> None:
        if wanted.choose:
            return  # with `all`, who keeps the plain name is a matter of order
        shuffled = list(paths)
        chance.shuffle(shuffled)  # type: ignore[attr-defined]
        self.assertEqual(outcome(layout(paths, "lanternbox", wanted)), outcome(layout(shuffled, "lanternbox", wanted)))

    def test_of_two_pieces_with_one_name_the_upper_one_names_its_parts_in_any_order(self) -> None:
        entries = ["Puppets/rig.toml", "Owl/moon.gel", "owl/rig.toml", "Puppets/Owl/rig.toml"]
        for paths in (entries, entries[::-1]):
            self.assertEqual(outcome(layout(paths, "lanternbox", Choices()))["Owl/moon.gel"], "Puppets/owl/moon.gel")

    @settings(max_examples=often(100), deadline=None)
    @given(paths)
    def test_one_more_meaningless_folder_around_it_all_changes_only_entry_paths(self, paths: list[str]) -> None:
        # Files directly at the top are about the top itself: a mark there makes the archive a piece.
        kept = [path for path in paths if "/" in path or (path != "rig.toml" and not is_notes(path))]
        if not kept:
            return
        plain = outcome(layout(kept, "lanternbox", Choices()))
        wrapped = outcome(layout([f"New Folder/{path}" for path in kept], "lanternbox", Choices()))
        self.assertEqual({f"New Folder/{path}": to for path, to in plain.items()}, wrapped)

    @given(st.text(max_size=30))
    def test_folding_twice_is_folding_once(self, name: str) -> None:
        self.assertEqual(folded(folded(name)), folded(name))
        self.assertEqual(spelling_key(spelling_key(name)), spelling_key(name))


if __name__ == "__main__":
    unittest.main()
