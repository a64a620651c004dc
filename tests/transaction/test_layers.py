"""Adding and removing on a real disk: whatever the order, what was there comes back."""

import itertools
import os
import unittest
from unittest import mock

from tests.support import WorldTest
from tests.systems import is_windows
from usufruct.actions.demonstration import differences
from usufruct.actions.removing import forget_holdings, remove_holdings
from usufruct.actions.showing import show_holding
from usufruct.actions.undoing import undo
from usufruct.archives.reading import Access
from usufruct.errors import MachineError
from usufruct.model.choices import OnClash


class LayersTest(WorldTest):
    where = None  # on a real disk

    def test_one_that_is_forgotten_beneath_another_gives_nothing_to_the_user(self) -> None:
        """Where it was on top its file became the user's; beneath another there is nothing on disk to keep."""
        self.world.add_files("sky.zip", {"gels/moon.gel": "sky", "gels/sun.gel": "sun"})
        self.world.add_files("moons.zip", {"moon.gel": "moons"})
        forget_holdings(self.world.context, ["sky"])
        self.world.remove("moons")
        self.assertEqual(self.world.contents(), {"Gels/sun.gel": "sun"})

    def test_one_that_is_forgotten_above_another_leaves_its_file_to_the_user(self) -> None:
        self.world.add_files("sky.zip", {"gels/moon.gel": "sky", "gels/sun.gel": "sun"})
        self.world.add_files("moons.zip", {"moon.gel": "moons", "dusk.gel": "dusk"})
        (forgotten,) = forget_holdings(self.world.context, ["moons"])
        moon = str(self.world.lanternbox / "Gels/moon.gel")
        self.assertEqual((forgotten.files, forgotten.over_others), (2, [moon]))
        # What it replaced is still there to be given back.
        (kept,) = self.world.paths.backups.glob("??/*")
        self.assertEqual(kept.read_text(), "sky")
        self.world.remove("sky")
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "moons", "Gels/dusk.gel": "dusk"})
        remove_holdings(self.world.context, ["sky"], lambda _: None, gives_back_changed=True)
        self.assertEqual(self.world.contents(), {"Gels/dusk.gel": "dusk"})

    def test_forgetting_touches_nothing_not_even_an_empty_directory(self) -> None:
        self.world.add_files("owl.zip", {"Owl/rig.toml": "rig", "Owl/empty/": ""})
        (self.world.lanternbox / "Puppets/Owl/rig.toml").unlink()
        before = self.world.tree()
        forget_holdings(self.world.context, ["owl"])
        self.assertEqual(differences(before, self.world.tree()), [])

    def test_directories_of_a_piece_are_not_counted_as_files_that_go(self) -> None:
        self.world.add_files("owl.zip", {"Owl/rig.toml": "rig", "Owl/empty/": "", "Owl/wing.svg": "w"})
        (removal,) = remove_holdings(self.world.context, ["owl"], lambda _: None, only=["Owl/empty", "Owl/rig.toml"])
        self.assertEqual(removal.removed.taken, 1)

    def test_one_archive_in_and_out(self) -> None:
        self.world.write({"Backdrops/old.png": "mine"})
        before = self.world.tree()
        self.world.add_files("owl.zip", {"w/Owl/rig.toml": "rig", "w/Owl/sub/empty/": "", "w/Owl/left.svg": "l"})
        self.assertEqual(
            self.world.contents(),
            {"Backdrops/old.png": "mine", "Puppets/Owl/rig.toml": "rig", "Puppets/Owl/left.svg": "l"},
        )
        self.assertTrue((self.world.lanternbox / "Puppets/Owl/sub/empty").is_dir())
        placed = self.world.contents()
        self.world.remove("owl")
        self.assertEqual(differences(before, self.world.tree()), [])
        # An empty folder comes back too, but was once counted as a file.
        (undone,) = undo(self.world.context_with_definitions(), Access())
        self.assertEqual(undone.files, 2)
        self.assertEqual(self.world.contents(), placed)
        self.assertTrue((self.world.lanternbox / "Puppets/Owl/sub/empty").is_dir())

    def test_three_archives_that_replace_one_file_removed_in_every_order(self) -> None:
        for order in itertools.permutations("abc"):
            with self.subTest(order=order):
                self.world.write({"Gels/moon.gel": "mine"})
                before = self.world.tree()
                for name in "abc":
                    self.world.add_files(f"{name}.zip", {"Gels/moon.gel": f"of {name}", f"Gels/{name}.gel": name})
                left = list("abc")
                for name in order:
                    self.world.remove(name)
                    left.remove(name)
                    expected = f"of {left[-1]}" if left else "mine"
                    self.assertEqual(self.world.contents()["Gels/moon.gel"], expected)
                self.assertEqual(differences(before, self.world.tree()), [])
                self.assertEqual(list((self.world.paths.backups).rglob("*")), [])

    def test_removing_a_from_beneath_touches_no_file(self) -> None:
        self.world.write({"Gels/moon.gel": "mine"})
        self.world.add_files("a.zip", {"Gels/moon.gel": "of a"})
        self.world.add_files("b.zip", {"Gels/moon.gel": "of b"})
        before = os.stat(self.world.lanternbox / "Gels/moon.gel")
        self.world.remove("a")
        after = os.stat(self.world.lanternbox / "Gels/moon.gel")
        self.assertEqual((before.st_ino, before.st_mtime_ns), (after.st_ino, after.st_mtime_ns))

    def test_the_very_same_content_is_shared(self) -> None:
        self.world.write({"Gels/moon.gel": "same"})
        before = self.world.tree()
        added = self.world.add_files("a.zip", {"Gels/moon.gel": "same", "Gels/sun.gel": "sun"})
        assert added.placed
        self.assertEqual(len(added.placed.shared), 1)
        self.world.add_files("b.zip", {"Gels/sun.gel": "sun"})
        self.world.remove("a")
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "same", "Gels/sun.gel": "sun"})
        self.world.remove("b")
        self.assertEqual(differences(before, self.world.tree()), [])

    def test_keep_leaves_what_is_there_and_says_so(self) -> None:
        self.world.write({"Gels/moon.gel": "mine"})
        added = self.world.add_files("a.zip", {"Gels/moon.gel": "a", "Gels/sun.gel": "s"}, on_clash=OnClash.KEEP)
        assert added.examined.plan
        self.assertEqual([aside.kind.label for aside in added.examined.plan.skipped], ["clash"])
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "mine", "Gels/sun.gel": "s"})

    def test_a_changed_file_stays_and_keeps_its_holding_in_the_list(self) -> None:
        self.world.add_files("a.zip", {"Gels/moon.gel": "a", "Gels/sun.gel": "s"})
        self.world.write({"Gels/moon.gel": "edited by hand"})
        removed = self.world.remove("a")[0].removed
        self.assertEqual(len(removed.left), 1)
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "edited by hand"})
        self.assertTrue(show_holding(self.world.context, "a").holding.is_partial)

    def test_a_file_edited_and_then_replaced_comes_back_edited(self) -> None:
        self.world.write({"Gels/moon.gel": "mine"})
        self.world.add_files("a.zip", {"Gels/moon.gel": "of a"})
        self.world.write({"Gels/moon.gel": "edited"})
        self.world.add_files("b.zip", {"Gels/moon.gel": "of b"})
        self.assertEqual(self.world.remove("a")[0].removed.left, (str(self.world.lanternbox / "Gels/moon.gel"),))
        self.world.remove("b")
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "edited"})

    def test_a_file_the_user_deleted_gives_back_what_was_beneath(self) -> None:
        self.world.write({"Gels/moon.gel": "mine"})
        before = self.world.tree()
        self.world.add_files("a.zip", {"Gels/moon.gel": "of a"})
        (self.world.lanternbox / "Gels/moon.gel").unlink()
        self.world.remove("a")
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "mine"})
        self.assertEqual(self.world.tree()["Lanternbox/Gels/moon.gel"], before["Lanternbox/Gels/moon.gel"])

    def test_a_whole_folder_the_user_deleted(self) -> None:
        self.world.add_files("a.zip", {"Owl/rig.toml": "of a", "Gels/x.gel": "x"})
        (self.world.lanternbox / "Puppets/Owl/rig.toml").unlink()
        (self.world.lanternbox / "Puppets/Owl").rmdir()
        (self.world.lanternbox / "Puppets").rmdir()
        self.world.remove("a")
        self.assertEqual(self.world.contents(), {})

    def test_a_directory_in_which_the_user_put_something_stays(self) -> None:
        self.world.add_files("a.zip", {"Owl/rig.toml": "r", "Wren/rig.toml": "r"})
        self.world.write({"Puppets/Owl/my pose.txt": "pose"})
        self.world.remove("a")
        self.assertEqual(self.world.contents(), {"Puppets/Owl/my pose.txt": "pose"})

    def test_a_directory_made_by_one_and_used_by_another_goes_with_the_last(self) -> None:
        before = self.world.tree()
        self.world.add_files("a.zip", {"Owl/rig.toml": "r"})
        self.world.add_files("b.zip", {"Wren/rig.toml": "r"})
        self.world.remove("a")
        self.assertEqual(self.world.contents(), {"Puppets/Wren/rig.toml": "r"})
        self.world.remove("b")
        self.assertEqual(differences(before, self.world.tree()), [])

    @unittest.skipIf(is_windows(), "not every account may make links there")
    def test_links_are_placed_replaced_and_given_back(self) -> None:
        self.world.write({"Puppets/Owl/rig.toml": "mine", "Puppets/Owl/left.svg": "l"})
        (self.world.lanternbox / "Puppets/Owl/right.svg").symlink_to("left.svg")
        before = self.world.tree()
        self.world.add_files("a.tar", {"Owl/rig.toml": "a", "Owl/right.svg": "real", "Owl/left.svg": "->rig.toml"})
        self.assertEqual(os.readlink(self.world.lanternbox / "Puppets/Owl/left.svg"), "rig.toml")
        self.assertEqual((self.world.lanternbox / "Puppets/Owl/right.svg").read_text(), "real")
        self.world.remove("a")
        self.assertEqual(differences(before, self.world.tree()), [])

    def test_spellings_on_disk_are_used(self) -> None:
        self.world.write({"PUPPETS/OWL/rig.toml": "mine"})
        before = self.world.tree()
        self.world.add_files("a.zip", {"owl/RIG.toml": "a", "owl/new.svg": "n"})
        self.assertEqual(self.world.contents(), {"PUPPETS/OWL/rig.toml": "a", "PUPPETS/OWL/new.svg": "n"})
        self.world.remove("a")
        self.assertEqual(differences(before, self.world.tree()), [])

    def test_a_link_at_a_folders_own_path_is_followed_and_a_deeper_one_out_is_not(self) -> None:
        elsewhere = self.world.folder / "elsewhere"
        elsewhere.mkdir()
        (self.world.lanternbox / "Gels").symlink_to(elsewhere)
        self.world.add_files("a.zip", {"Gels/moon.gel": "a"})
        self.assertEqual((elsewhere / "moon.gel").read_text(), "a")
        self.world.remove("a")
        self.assertEqual(list(elsewhere.iterdir()), [])
        (self.world.lanternbox / "Backdrops").mkdir()
        (self.world.lanternbox / "Backdrops/Forest").symlink_to(elsewhere)
        added = self.world.add(self.world.archive("b.zip", {"Backdrops/Forest/a.png": "x"}))
        assert isinstance(added.error, MachineError)
        self.assertIn("leads out", added.error.message)
        self.assertEqual(list(elsewhere.iterdir()), [])

    def test_folders_in_the_way_of_files_and_the_reverse_are_named(self) -> None:
        self.world.write({"Gels/moon.gel/in.txt": "x", "Gels/sun.gel/in.txt": "x", "Backdrops/Forest": "a file"})
        before = self.world.tree()
        for number, (files, said) in enumerate(
            (
                ({"Gels/moon.gel": "x"}, "moon.gel is already there"),
                ({"Gels/moon.gel": "x", "Gels/sun.gel": "x"}, "moon.gel and 1 more are already there"),
                ({"Backdrops/Forest/a.png": "x"}, "Forest is already there"),
            )
        ):
            added = self.world.add(self.world.archive(f"{number}.zip", files))
            assert added.error
            self.assertEqual(added.error.exit_code, 5)
            self.assertIn(said, added.error.message)
        self.assertEqual(differences(before, self.world.tree()), [])

    def test_files_that_are_entered_in_several_goes_are_entered_once(self) -> None:
        self.world.write({"Gels/0.gel": "mine", "Gels/3.gel": "mine too"})
        with mock.patch("usufruct.transaction.place._BATCH", 2):
            self.world.add_files("many.zip", {f"gels/{number}.gel": "theirs" for number in range(7)})
        self.world.remove("many")
        self.assertEqual(self.world.contents(), {"Gels/0.gel": "mine", "Gels/3.gel": "mine too"})

    def test_modes_and_times(self) -> None:
        self.world.add_files("a.tar", {"Gels/moon.gel": "a"})
        found = os.stat(self.world.lanternbox / "Gels/moon.gel")
        self.assertEqual((found.st_mode & 0o777, found.st_mtime), (0o644, 1_700_000_000))

    def test_the_same_archive_again_changes_nothing(self) -> None:
        archive = self.world.archive("a.zip", {"Gels/moon.gel": "a"})
        self.assertEqual(self.world.add(archive).state, "added")
        before = self.world.tree()
        self.assertEqual(self.world.add(archive).state, "already added")
        self.assertEqual(differences(before, self.world.tree()), [])

    def test_another_archive_of_the_same_name_is_a_decision(self) -> None:
        self.world.add_files("moon v1.zip", {"Gels/moon.gel": "a"})
        added = self.world.add(self.world.archive("moon v2.zip", {"Gels/moon.gel": "b"}))
        assert added.error
        self.assertEqual(added.error.exit_code, 3)
        self.assertEqual(added.examined.decisions[0].options[1].answer, ("--as", "moon (2)"))
        self.world.add_files("moon v2.zip", {"Gels/moon.gel": "b"}, name="moon (2)")
        self.assertEqual(self.world.contents()["Gels/moon.gel"], "b")

    def test_a_missing_root_is_told(self) -> None:
        self.world.lanternbox.rmdir()
        added = self.world.add(self.world.archive("a.zip", {"Gels/moon.gel": "a"}))
        assert added.error
        self.assertEqual(added.error.exit_code, 5)
        self.assertIn("drive", added.error.remedy)

    def test_without_an_application_the_directory_is_made_and_goes_again(self) -> None:
        before = self.world.tree()
        target = self.world.folder / "apps" / "new" / "place"
        self.world.add_files("owls.zip", {"a.txt": "1", "b.txt": "2"}, to=str(target))
        self.assertEqual(self.world.contents(target), {"owls/a.txt": "1", "owls/b.txt": "2"})
        self.world.remove("owls")
        self.assertEqual(differences(before, self.world.tree()), [])

    def test_notes_are_kept_and_go_with_the_holding(self) -> None:
        notes = {"readme.txt": "read me", "readme.mar\u212adown": "Kelvin", "licence.txt": "->readme.txt"}
        self.world.add_files("a.zip", {"moon.gel": "a", **notes})
        shown = show_holding(self.world.context, "a")
        found = {note.entry: self.world.paths.notes / str(shown.holding.number) / note.file for note in shown.notes}
        self.assertEqual(found.keys(), {"readme.txt", "readme.mar\u212adown"})
        kept = found["readme.txt"]
        self.assertEqual(kept.read_text(), "read me")
        # Of a name that an archive chose, only a plain suffix reaches the disk.
        self.assertEqual({path.suffix for path in found.values()}, {".txt", ""})
        self.world.remove("a")
        self.assertTrue(kept.exists(), "the last changes can be undone")
        with mock.patch("usufruct.transaction.finish.KEPT_CHANGES", 0):
            self.world.add_files("other.zip", {"gels/day.gel": "d"})
        self.assertFalse(kept.exists())


if __name__ == "__main__":
    unittest.main()
