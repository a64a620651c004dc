"""The same archive again: added already, added to by another choice, settled afterwards all the same."""

import unittest
from pathlib import Path
from unittest import mock

from msgspec.structs import replace

from tests.archives.zip_writer import Item, zip_of
from tests.support import WorldTest, zip_bytes
from usufruct.actions import download
from usufruct.actions.adding import Added, add_archives
from usufruct.actions.demonstration import differences
from usufruct.actions.history import history
from usufruct.actions.listing import list_holdings
from usufruct.actions.looking import look_at
from usufruct.actions.outcomes import AlreadyThere, Refused
from usufruct.actions.removing import remove_holdings
from usufruct.actions.request import Request
from usufruct.actions.undoing import redo, undo
from usufruct.archives.reading import Access
from usufruct.errors import MachineError
from usufruct.model.settings import STORE

SEASON = {
    "Puppets/Owl/rig.toml": "owl",
    "Puppets/Fox/rig.toml": "fox",
    "gels/moon.gel": "moon",
    "gels/moon.csv": "moon as a table",
    "gels/sun.gel": "sun",
}


class AgainTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.before = self.world.tree()
        self.season = self.world.archive("season.zip", SEASON)

    def holdings(self) -> list[tuple[str, int]]:
        return [(one.name, one.files) for one in list_holdings(self.world.context)]

    def again(self, **choices: object) -> Added:
        added = self.world.add(self.season, **choices)
        self.assertEqual((added.state, added.error), ("added", None))
        return added

    def test_another_choice_adds_to_the_holding_and_is_one_change_that_can_be_undone(self) -> None:
        self.again(only=("Owl",))
        first = self.world.contents()
        self.again(only=("*.gel",))
        both = self.world.contents()
        self.assertEqual(set(both), {"Puppets/Owl/rig.toml", "Gels/moon.gel", "Gels/sun.gel"})
        self.assertEqual(self.holdings(), [("season", 3)])
        self.again()
        self.assertEqual(len(self.world.contents()), 4)
        self.again(every_format=True)
        self.assertEqual(self.holdings(), [("season", 5)])
        self.assertEqual(self.world.add(self.season, only=("Fox",)).state, "already added")
        self.assertEqual(len(history(self.world.context)[0]), 4)
        context = self.world.context_with_definitions()
        undo(context, Access())
        undo(context, Access())
        self.assertEqual(self.world.contents(), both)
        undo(context, Access())
        self.assertEqual(self.world.contents(), first)
        self.world.remove("season")
        self.assertEqual(differences(self.before, self.world.tree()), [])

    def test_what_comes_later_spares_the_files_of_the_users_that_the_first_part_was_to_spare(self) -> None:
        self.world.write({"Gels/moon.gel": "mine"})
        self.again(only=("sun.gel",), on_clash="both")
        request = replace(self.world.request(), conflict_is_said=False)
        (added,) = add_archives(self.world.context, [self.season], request, lambda _: None)
        self.assertEqual(added.state, "added")
        gels = {path: text for path, text in self.world.contents().items() if "moon" in path}
        self.assertEqual(gels, {"Gels/moon.gel": "mine", "Gels/moon (2).gel": "moon"})

    def test_in_two_directories_it_is_two_holdings_and_the_newest_is_named(self) -> None:
        here, there = (str(self.world.folder / name) for name in ("here", "there"))
        self.again(to=here)
        self.again(to=there, name="owls", only=("Owl",))
        self.again(to=there, name="foxes", only=("Fox",))
        for directory, name in ((here, "season"), (there, "foxes")):
            added = self.world.add(self.season, to=directory, only=("Fox",))
            self.assertEqual((added.state, added.examined.name), ("already added", name))

    def test_a_choice_that_excludes_the_earlier_one_takes_its_place(self) -> None:
        self.season = self.world.archive("moods.zip", {
            f"{mood}/gels/{name}.gel": f"{mood} {name}" for mood in ("bright", "dim") for name in ("a", "b")
        })  # fmt: skip
        self.again(choose=("bright",))
        self.again(choose=("dim",))
        self.assertEqual(self.world.contents(), {"Gels/a.gel": "dim a", "Gels/b.gel": "dim b"})
        self.assertEqual(self.holdings(), [("moods", 2)])
        self.again(choose=("all",))
        self.assertEqual(self.holdings(), [("moods", 4)])
        self.again(choose=("bright",))
        self.assertEqual((self.holdings(), len(self.world.contents())), ([("moods", 2)], 2))

    def test_a_name_that_is_spelled_as_the_users_file_was_is_the_same_name(self) -> None:
        self.world.write({"Gels/MOON.gel": "mine"})
        self.again(on_clash="replace")
        self.assertEqual(self.world.contents()["Gels/MOON.gel"], "moon")
        self.assertEqual(self.world.add(self.season, on_clash="replace", nested=True).state, "already added")

    def test_what_was_taken_out_of_it_comes_back(self) -> None:
        self.again()
        whole = self.world.contents()
        self.world.remove("season")
        self.again(only=("Owl",))
        self.again()
        self.assertEqual(self.world.contents(), whole)

    def test_a_part_that_was_taken_out_stays_out_until_it_is_named(self) -> None:
        """Naming one of two brought the other back too."""
        self.again(every_format=True)
        whole = self.world.contents()
        remove_holdings(self.world.context, ["season"], lambda _: None, only=("moon.gel", "sun.gel"))
        self.assertEqual(self.world.add(self.season).state, "already added")
        self.again(only=("sun.gel",))
        self.assertEqual(set(whole) - set(self.world.contents()), {"Gels/moon.gel"})
        self.assertEqual(self.world.add(self.season, every_format=True).state, "already added")
        self.again(only=("Gels/moon.gel",))
        self.assertEqual(self.world.contents(), whole)
        self.assertFalse(list_holdings(self.world.context)[0].is_partial)
        for _ in range(2):
            undo(self.world.context_with_definitions(), Access())
        self.assertEqual(set(whole) - set(self.world.contents()), {"Gels/moon.gel", "Gels/sun.gel"})
        self.assertEqual(self.world.add(self.season).state, "already added")

    def test_an_undone_and_redone_removal_of_a_part_takes_it_out_again(self) -> None:
        """Redoing it did nothing, and said so with an exit code of success."""
        context = self.world.context_with_definitions()
        self.again()
        whole = self.world.contents()
        remove_holdings(context, ["season"], lambda _: None, only=("moon.gel", "sun.gel"))
        rest = self.world.contents()
        for _ in range(2):
            undo(context, Access())
        self.assertEqual(self.world.contents(), {})
        redo(context, Access())
        self.assertEqual(self.world.contents(), whole)
        (done,) = redo(context, Access())
        self.assertEqual((done.files, done.is_in), (2, False))
        self.assertEqual(self.world.contents(), rest)
        self.assertEqual(self.world.add(self.season).state, "already added")
        undo(context, Access())
        self.assertEqual(self.world.contents(), whole)
        self.assertEqual(self.world.add(self.season).state, "already added")
        self.assertFalse(list_holdings(context)[0].is_partial)

    def test_an_edited_file_of_a_part_that_goes_stays_with_the_holding(self) -> None:
        self.again()
        (self.world.lanternbox / "Gels/sun.gel").write_text("edited")
        remove_holdings(self.world.context, ["season"], lambda _: None, only=("moon.gel", "sun.gel"))
        self.assertEqual(self.world.add(self.season).state, "already added")
        self.assertEqual(self.world.contents()["Gels/sun.gel"], "edited")
        self.again(only=("moon.gel",))
        self.assertEqual(self.world.contents()["Gels/sun.gel"], "edited")

    def test_what_is_left_of_a_removal_is_not_all_of_it_and_the_rest_comes_again(self) -> None:
        self.again()
        first = self.world.contents()
        (self.world.lanternbox / "Gels/moon.gel").write_text("edited")
        self.world.remove("season")
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "edited"})
        self.again()
        self.assertIn("Gels/sun.gel", self.world.contents())
        self.assertLessEqual(set(first), set(self.world.contents()))

    def test_the_same_archive_under_another_name_is_added_already(self) -> None:
        """It moved the files, and changed what was on record of the archive."""
        self.season = self.world.archive("dusk v1.0.tar", {"one.weft": "1", "two.weft": "2"})
        self.again()
        placed, (before,) = self.world.contents(self.world.folder / "apps"), list_holdings(self.world.context)
        other = self.season.with_name("download_8841.tar")
        other.write_bytes(self.season.read_bytes())
        self.assertEqual(self.world.add(other).state, "already added")
        self.assertEqual(self.world.add(other, only=("*",)).state, "already added")
        self.assertEqual(self.world.contents(self.world.folder / "apps"), placed)
        remove_holdings(self.world.context, [before.name], lambda _: None, only=("one.weft",))
        self.assertEqual(self.world.add(other, only=("one.weft",)).state, "added")
        self.assertEqual(self.world.contents(self.world.folder / "apps"), placed)
        (after,) = list_holdings(self.world.context)
        self.assertEqual(
            (after.name, after.archive, after.version, after.tidy_name),
            (before.name, before.archive, before.version, before.tidy_name),
        )
        alone = self.world.folder / "downloads/moon.gel"
        alone.write_text("moon")
        self.assertEqual(self.world.add(alone).state, "added")
        alone = alone.rename(alone.with_name("moon (1).gel"))
        self.assertEqual(self.world.add(alone).state, "already added")
        self.assertEqual(self.world.add(alone, every_format=True).state, "already added")

    def test_it_is_opened_again_only_if_its_names_are_read_otherwise(self) -> None:
        self.season.write_bytes(zip_of([Item(name.encode("cp850"), b"x") for name in ("Òwl.gel", "Ðay.gel")])[0])
        request = self.world.request(to=str(self.world.folder / "to"))

        def add(request: Request) -> tuple[str, int]:
            with mock.patch.object(download, "open_archive", wraps=download.open_archive) as opens:
                (added,) = add_archives(self.world.context, [self.season], request, lambda _: None)
            return added.state, opens.call_count

        only = replace(request, choices=replace(request.choices, only=("*wl.gel",)), access=Access(names="cp850"))
        self.assertEqual(add(only), ("added", 1))
        self.assertEqual(add(request), ("added", 2))
        self.assertEqual(sorted(self.world.contents(self.world.folder / "to")), ["season/Ðay.gel", "season/Òwl.gel"])
        self.assertEqual(add(replace(request, access=Access(names="cp850"))), ("already added", 1))

    def test_an_explicit_answer_to_what_is_in_the_way_counts_for_the_same_archive_too(self) -> None:
        self.world.write({"Gels/moon.gel": "mine", "Gels/sun.gel": "mine too"})
        self.again(on_clash="keep")
        kept = self.world.contents()
        self.again(on_clash="both")
        self.assertEqual(set(self.world.contents()) - set(kept), {"Gels/moon (2).gel", "Gels/sun (2).gel"})
        self.assertEqual(self.world.contents()["Gels/moon.gel"], "mine")
        undo(self.world.context_with_definitions(), Access())
        self.again(on_clash="replace")
        self.assertEqual(self.world.contents()["Gels/moon.gel"], "moon")
        self.world.remove("season")
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "mine", "Gels/sun.gel": "mine too"})

    def test_what_was_placed_beside_the_users_keeps_its_name(self) -> None:
        """`Owl (2)` became `Owl (3)` with each further choice and each new version, and what names it found nothing."""
        self.world.write({"Gels/moon.gel": "mine", "Puppets/Owl/rig.toml": "mine", "Gels/moon (4).gel": "mine too"})
        self.again(on_clash="both")
        own = {"Gels/moon (2).gel", "Gels/sun.gel", "Puppets/Fox/rig.toml", "Puppets/Owl (2)/rig.toml"}
        mine = set(self.world.contents()) - own
        self.assertEqual(self.world.add(self.season, on_clash="both", nested=True).state, "already added")
        self.again(on_clash="both", every_format=True)
        self.assertEqual(set(self.world.contents()) - mine, own | {"Gels/moon.csv"})
        newer = self.world.archive(
            "season v2.zip", {f"season 2/{entry}": f"{text} 2" for entry, text in SEASON.items()}
        )
        self.assertEqual(self.world.add(newer, update="season", on_clash="both").state, "updated")
        after = self.world.contents()
        self.assertEqual(set(after) - mine, own)
        self.assertEqual((after["Gels/moon (2).gel"], after["Puppets/Owl (2)/rig.toml"]), ("moon 2", "owl 2"))
        self.world.remove("season")
        self.assertEqual(set(self.world.contents()), mine)

    def test_what_was_placed_beside_an_edited_file_beside_the_users_keeps_its_name_too(self) -> None:
        """A file, and a piece with a file in it that was edited: `Owl (2) (2)` was the next."""
        for name, entry, place in (
            ("moons", "gels/moon.gel", "Gels/moon{}.gel"),
            ("owls", "Owl/rig.toml", "Puppets/Owl{}/rig.toml"),
        ):
            with self.subTest(name):
                there = {place.format(""): "mine"}
                self.world.write(there)
                first = self.world.archive(f"{name}.zip", {entry: "1"})
                self.assertEqual(self.world.add(first, on_clash="both").state, "added")
                edited, version = 2, 2
                for edits in (True, False, True, False):
                    if edits:
                        there[place.format(f" ({edited})")] = "edited"
                        self.world.write(there)
                        edited += 1
                    newer = self.world.archive(f"{name} v{version}.zip", {entry: f"{version}"})
                    self.assertEqual(self.world.add(newer, update=name, on_clash="both").state, "updated")
                    now = {**there, place.format(f" ({edited})"): f"{version}"}
                    self.assertEqual({path: self.world.contents()[path] for path in now}, now)
                    version += 1
                self.world.remove(name)

    def test_what_the_archive_calls_so_itself_is_no_name_beside_the_users(self) -> None:
        self.world.write({"Gels/moon.gel": "mine", "Gels/bell.gel": "mine", "Puppets/Owl/art/a.png": "mine"})
        odd = {
            **{f"gels/moon{number}.gel": number for number in ("", " (2)", " (4)")},
            **{f"Puppets/Owl{number}/{name}": number for number in ("", " (2)") for name in ("rig.toml", "art/a.png")},
            **dict.fromkeys(("gels/bell.gel", "gels/day.gel", "gels/day.csv", "Backdrops/Owl (5)/art/a.png"), ""),
        }
        without_art = {"Puppets/Owl (3)/rig.toml": "without art"}
        self.season = self.world.archive("odd.zip", odd | without_art)
        self.again(on_clash="both")
        before = self.world.contents()
        self.assertEqual((before["Gels/moon (3).gel"], before["Puppets/Owl (4)/art/a.png"]), ("", ""))
        self.again(on_clash="both", every_format=True)
        self.assertEqual(self.world.contents(), before | {"Gels/day.csv": ""})
        newer = self.world.archive("odd v2.zip", odd)
        self.assertEqual(self.world.add(newer, update="odd", on_clash="both").state, "updated")
        self.assertEqual(self.world.contents() | without_art, before)

    def test_options_that_change_nothing_make_no_change(self) -> None:
        self.season = self.world.archive("plain.zip", {"gels/a.gel": "a", "gels/b.gel": "b"})
        self.again()
        for choices in ({"every_format": True}, {"nested": True}, {"choose": ("all",)}, {"only": ("*.gel",)}):
            with self.subTest(choices):
                self.assertEqual(self.world.add(self.season, **choices).state, "already added")
        self.assertEqual(len(history(self.world.context)[0]), 1)

    def test_archives_inside_are_added_when_they_are_opened(self) -> None:
        self.season = self.world.archive("outer.zip", {"gels/a.gel": "a", "more.zip": zip_bytes({"gels/b.gel": "b"})})
        self.again()
        self.again(nested=True)
        self.assertEqual(self.world.contents(), {"Gels/a.gel": "a", "Gels/b.gel": "b"})
        self.assertEqual(self.holdings(), [("outer", 2)])

    def test_added_is_added_whatever_definitions_have_come_since(self) -> None:
        self.again()
        lanternbox, *others = self.world.applications
        twin = replace(lanternbox, name="atwin", root=str(self.world.folder / "apps/Twin"))
        for applications in ((twin, lanternbox, *others), (twin,)):
            self.world.applications = applications
            self.assertEqual(self.world.add(self.season).state, "already added")
            (looked,) = look_at(self.world.context, [self.season], self.world.request())
            self.assertEqual((type(looked), looked.name, looked.obstacle), (AlreadyThere, "season", None))

    def test_what_becomes_of_the_archive_is_done_though_it_was_added_before(self) -> None:
        self.again()
        (added,) = add_archives(
            self.world.context, [self.season], self.world.request(), lambda _: None, afterwards=STORE
        )
        self.assertEqual(added.state, "already added")
        self.assertFalse(self.season.exists())
        assert added.put_away
        self.assertTrue(Path(added.put_away.paths[0]).exists())

    def test_the_rest_asks_before_it_replaces_what_another_holding_placed(self) -> None:
        self.again(only=("Owl",))
        self.world.add_files("other.zip", {"gels/moon.gel": "other"})
        request = replace(self.world.request(), conflict_is_said=False)
        (added,) = add_archives(self.world.context, [self.season], request, lambda _: None)
        self.assertEqual(added.state, "refused")
        self.assertIn("is there already from other", added.examined.decisions[0].question)
        self.assertEqual(self.world.contents()["Gels/moon.gel"], "other")
        # The answer used to make of it an update, told as such, which forgot that it only adds.
        answered = added.examined.request.with_answer(("--on-clash", "keep"))
        (added,) = add_archives(self.world.context, [self.season], answered, lambda _: None)
        self.assertEqual((added.state, added.examined.extends), ("added", True))
        self.assertEqual(self.world.contents()["Gels/moon.gel"], "other")

    def test_looking_says_too_that_nothing_is_left(self) -> None:
        """It ended as if something was to be asked, and said nothing."""
        self.world.write({"Gels/moon.gel": "mine"})
        archive = self.world.archive("moon.zip", {"gels/moon.gel": "theirs"})
        (looked,) = look_at(self.world.context, [archive], self.world.request(on_clash="keep"))
        assert isinstance(looked, Refused)
        self.assertIn("Nothing is left to place", looked.error.message)
        self.assertEqual(self.world.add(archive, on_clash="keep").error.message, looked.error.message)


class ByHandTest(WorldTest):
    """What was unpacked by hand before, and directories that a browser unpacked."""

    def setUp(self) -> None:
        super().setUp()
        self.context = self.world.context_with_definitions()
        self.world.write({"Gels/moon.gel": "moon", "Gels/sun.gel": "my own sun"})
        self.before = self.world.tree()
        self.sky = self.world.archive("sky.zip", {"gels/moon.gel": "moon", "gels/sun.gel": "sun", "gels/star.gel": "*"})

    def test_what_is_claimed_goes_with_the_holding_and_what_differs_stays_the_users(self) -> None:
        added = self.world.add(self.sky, claim=True, on_clash="keep")
        assert added.placed
        self.assertEqual((added.state, added.placed.claimed), ("added", 1))
        self.assertEqual(self.world.contents()["Gels/sun.gel"], "my own sun")
        self.world.remove("sky")
        self.assertEqual(self.world.contents(), {"Gels/sun.gel": "my own sun"})
        undo(self.context, Access())
        self.assertEqual(set(self.world.contents()), {"Gels/moon.gel", "Gels/sun.gel", "Gels/star.gel"})

    def test_undoing_a_claim_leaves_the_users_files_as_they_were(self) -> None:
        self.world.add(self.sky, claim=True, on_clash="keep")
        undo(self.context, Access())
        self.assertEqual(differences(self.before, self.world.tree()), [])
        self.assertEqual(list_holdings(self.context), [])

    def test_an_undone_removal_knows_what_was_claimed(self) -> None:
        """Undoing the addition after that took the user's file away."""
        self.world.add(self.sky, claim=True, on_clash="keep")
        self.world.remove("sky")
        undo(self.context, Access())
        undo(self.context, Access())
        self.assertEqual(differences(self.before, self.world.tree()), [])

    def test_a_claim_that_is_redone_is_a_claim_again(self) -> None:
        """The file stayed when the holding went, though it was claimed."""
        self.world.add(self.sky, claim=True, on_clash="keep")
        undo(self.context, Access())
        redo(self.context, Access())
        self.assertEqual(set(self.world.contents()), {"Gels/moon.gel", "Gels/sun.gel", "Gels/star.gel"})
        self.world.remove("sky")
        self.assertEqual(self.world.contents(), {"Gels/sun.gel": "my own sun"})
        undo(self.context, Access())
        undo(self.context, Access())
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "moon", "Gels/sun.gel": "my own sun"})

    def test_a_claim_is_not_made_of_what_the_user_wrote_since(self) -> None:
        self.world.add(self.sky, claim=True, on_clash="keep")
        undo(self.context, Access())
        self.world.write({"Gels/moon.gel": "another moon"})
        redo(self.context, Access())
        self.world.remove("sky")
        self.assertEqual(self.world.contents()["Gels/moon.gel"], "another moon")

    def test_a_claim_holds_across_an_update_that_is_undone(self) -> None:
        self.world.add(self.sky, claim=True, on_clash="keep")
        newer = self.world.archive("sky v2.zip", {"gels/moon.gel": "new moon", "gels/star.gel": "*"})
        self.assertEqual(self.world.add(newer, update="sky").state, "updated")
        undo(self.context, Access())
        undo(self.context, Access())
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "moon", "Gels/sun.gel": "my own sun"})

    def test_without_a_claim_the_users_file_stays_and_a_claim_afterwards_says_how(self) -> None:
        self.world.add(self.sky, on_clash="keep")
        again = self.world.add(self.sky, claim=True, on_clash="keep")
        self.assertIn("without --claim", str(again.error))
        self.world.remove("sky")
        self.assertEqual(differences(self.before, self.world.tree()), [])

    def test_a_directory_that_was_unpacked_already_is_taken_as_the_archive(self) -> None:
        folder = self.world.folder / "downloads/Owl pack v1.2"
        self.world.write({"dl/Owl/rig.toml": "rig", "dl/Owl/wing.svg": "wing", "readme.txt": "read me"}, folder)
        (folder / "dl/Owl/link.svg").symlink_to("wing.svg")
        (added,) = add_archives(self.context, [folder], self.world.request(), lambda _: None)
        self.assertEqual((added.state, added.error), ("added", None))
        self.assertEqual(added.examined.name, "Owl pack")
        placed = self.world.contents()
        self.assertEqual(placed["Puppets/Owl/wing.svg"], "wing")
        self.assertTrue((self.world.lanternbox / "Puppets/Owl/link.svg").is_symlink())
        self.assertTrue((folder / "dl/Owl/rig.toml").exists(), "the directory stays as it is")
        self.assertEqual(self.world.add(folder).state, "already added")
        self.world.remove("Owl pack")
        self.assertEqual(differences(self.before, self.world.tree()), [])
        undo(self.context, Access())
        self.assertEqual(self.world.contents(), placed)
        self.world.remove("Owl pack")
        (folder / "dl/Owl/wing.svg").write_text("another wing")
        with self.assertRaisesRegex(MachineError, "is not the archive any more"):
            undo(self.context, Access())


if __name__ == "__main__":
    unittest.main()
