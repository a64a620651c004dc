"""A drive is pulled out: nothing is written to its place, nothing of it is forgotten, and all else goes on."""

import json
import shutil
import unittest
from collections.abc import Callable
from contextlib import ExitStack
from pathlib import Path

from msgspec.structs import replace

from tests.support import World, WorldTest, run_program
from tests.transaction.drive import Drive, drives, with_drive
from tests.transaction.kills import killed_at
from usufruct.actions.checking import check_holdings, check_store
from usufruct.actions.context import Context
from usufruct.actions.demonstration import differences
from usufruct.actions.listing import list_holdings
from usufruct.actions.recovering import say_moved
from usufruct.actions.removing import remove_holdings
from usufruct.actions.repairing import repair
from usufruct.actions.undoing import redo, undo
from usufruct.archives.reading import Access
from usufruct.errors import DriveAway, LeadsElsewhere, MachineError
from usufruct.files.platform import this_platform
from usufruct.ledger import open_ledger
from usufruct.transaction.recover import Recovered

PACK = {"gels/moon.gel": "theirs", "gels/new.gel": "new", "Owl/rig.toml": "owl"}


class DrivesTest(WorldTest):
    def each(self, story: Callable[[World, Drive], None]) -> None:
        """Tell a story with every kind of drive: Lanternbox's folder is on it, with a file that a pack replaced."""
        for kind in drives():
            with self.subTest(kind.__name__), ExitStack() as ends:
                folder = self.world.folder / kind.__name__
                folder.mkdir()
                world = World(folder)
                drive = with_drive(world, kind, ends.callback)
                world.write({"Gels/moon.gel": "mine", "Backdrops/sky.png": "sky"})
                story(world, drive)

    def recovered(self, world: World) -> Recovered:
        told: list[Recovered] = []
        context = Context(paths=world.paths, platform=world.platform, on_recovery=told.append)
        with context.writing("recover"):
            pass
        return told[0] if told else Recovered()

    def test_removing_and_all_else_says_which_drive_and_changes_nothing(self) -> None:
        def story(world: World, drive: Drive) -> None:
            before = world.tree()
            pack = world.archive("pack.zip", PACK)
            world.add(pack)
            newer = world.archive("pack v2.zip", {"gels/moon.gel": "newer"})
            context = world.context_with_definitions()
            placed = world.tree()
            drive.pull_out()
            empty = world.tree()
            doings: tuple[Callable[[], object], ...] = (
                lambda: world.remove("pack"),
                lambda: remove_holdings(context, ["pack"], lambda _: None, gives_back_changed=True),
                lambda: repair(context, "pack", Access(), None, gives_back_changed=False),
                lambda: undo(context, Access()),
                lambda: self.raised(world, newer, update="pack"),
                lambda: self.raised(world, newer, name="another"),
            )
            for doing in doings:
                with self.assertRaisesRegex(DriveAway, "is on a drive that is not connected") as caught:
                    doing()
                self.assertIn("left as they are", caught.exception.kept)
                self.assertEqual(differences(empty, world.tree()), [])
            self.assertEqual([one.is_away for one in list_holdings(context)], [True])
            (checked,) = check_holdings(context, (), deep=False)
            self.assertTrue(checked.away and checked.is_fine)
            self.assertEqual(check_store(context).kept, 1)
            drive.plug_in()
            self.assertEqual(differences(placed, world.tree()), [])
            world.remove("pack")
            self.assertEqual(differences(before, world.tree()), [])

        self.each(story)

    def raised(self, world: World, archive: Path, **options: str) -> None:
        error = world.add(archive, **options).error
        if error:
            raise error

    def test_what_went_from_a_drive_does_not_come_back_while_it_is_away(self) -> None:
        """Nor into the empty place where it is connected otherwise."""

        def story(world: World, drive: Drive) -> None:
            world.add(world.archive("pack.zip", PACK))
            context = world.context_with_definitions()
            placed = world.contents()
            for goes, comes in ((lambda: world.remove("pack"), undo), (lambda: undo(context, Access()), redo)):
                goes()
                drive.pull_out()
                empty = world.tree()
                with self.assertRaises(DriveAway):
                    comes(context, Access())
                self.assertEqual(differences(empty, world.tree()), [])
                drive.plug_in()
                comes(context, Access())
                self.assertEqual(world.contents(), placed)

        self.each(story)

    def test_one_of_several_is_told_and_the_others_go(self) -> None:
        def story(world: World, drive: Drive) -> None:
            world.add_files("pack.zip", PACK)
            world.add_files("loom.zip", {"drafts/a.weft": "w"})
            drive.pull_out()
            first, second = world.remove("pack", "loom")
            self.assertTrue(first.away)
            self.assertEqual((second.away, second.removed.taken), (None, 1))
            drive.plug_in()
            self.assertEqual([one.name for one in list_holdings(world.context)], ["pack"])

        self.each(story)

    def test_a_change_that_is_cut_off_waits_for_its_drive_and_others_do_not(self) -> None:
        """Killed at every point, pulled out, recovered in vain, plugged in: exactly as before, or it was done."""

        def story(world: World, drive: Drive) -> None:
            before, number = world.tree(), 0
            pack = world.archive("pack.zip", PACK)
            waited = 0
            while killed_at(world, lambda: self.raised(world, pack), number) is not None:
                drive.pull_out()
                empty = world.tree()
                waiting = self.recovered(world).waiting
                waited += len(waiting)
                self.assertTrue(all(isinstance(error, DriveAway) for _, error in waiting))
                world.add_files("loom.zip", {"drafts/a.weft": "w"})
                world.remove("loom")
                self.assertEqual(differences(empty, world.tree()), [])
                drive.plug_in()
                recovered = self.recovered(world)
                self.assertFalse(recovered.waiting)
                if list_holdings(world.context):
                    world.remove("pack")
                self.assertEqual(differences(before, world.tree()), [], number)
                self.assertEqual(world.strays(), [])
                number += 1
            self.assertGreater(waited, 10)

        self.each(story)

    def test_what_a_waiting_change_has_on_another_disk_is_left_alone_until_it_is_reversed(self) -> None:
        def story(world: World, drive: Drive) -> None:
            shelf = world.folder / "shelf"
            shelf.mkdir()
            outside = replace(world.applications[0].folders[-1], path=str(shelf))
            folders = (*world.applications[0].folders[:-1], outside)
            world.applications = (replace(world.applications[0], folders=folders), *world.applications[1:])
            pack = world.archive("pack.zip", {"Owl/rig.toml": "owl", "gels/moon.gel": "moon"})
            killed_at(world, lambda: self.raised(world, pack), 0, "switched-all")
            drive.pull_out()
            waiting = self.recovered(world).waiting
            self.assertEqual(len(waiting), 1)
            other = world.add(world.archive("other.zip", {"sun.gel": "sun"}), to=str(shelf))
            self.assertIn("was interrupted and could not be undone yet", str(other.error))
            drive.plug_in()
            self.assertFalse(self.recovered(world).waiting)
            self.assertEqual(sorted(path.name for path in shelf.iterdir()), [])

        self.each(story)

    def test_another_drive_in_its_place_is_not_taken_for_it(self) -> None:
        def story(world: World, drive: Drive) -> None:
            world.add_files("pack.zip", PACK)
            drive.pull_out()
            drive.another()
            with self.assertRaisesRegex(DriveAway, "is something else now"):
                world.remove("pack")
            self.assertEqual([path.name for path in world.lanternbox.iterdir() if path.name != ".drive"], [])
            drive.not_another()
            drive.plug_in()
            world.remove("pack")
            self.assertEqual(world.contents()["Gels/moon.gel"], "mine")

        self.each(story)

    def test_a_drive_that_comes_back_under_another_path_is_said_to_have_moved(self) -> None:
        def story(world: World, drive: Drive) -> None:
            world.add_files("pack.zip", PACK)
            elsewhere = world.folder / "media" / "stick"
            elsewhere.parent.mkdir()
            drive.pull_out()
            drive.plug_in(elsewhere)
            with self.assertRaises(DriveAway) as caught:
                world.remove("pack")
            self.assertIn("usufruct recover --moved", caught.exception.remedy)
            if "Mounted" in type(drive).__name__:
                self.assertIn(f"The drive is at {elsewhere}.", caught.exception.remedy)
            self.assertEqual(say_moved(world.context, str(world.lanternbox), str(elsewhere)).holdings, 1)
            world.remove("pack")
            self.assertEqual((elsewhere / "Gels" / "moon.gel").read_text(), "mine")
            self.assertEqual([one.name for one in world.lanternbox.iterdir()], [])

        self.each(story)

    def test_nothing_is_known_of_a_place_that_nothing_was_placed_in(self) -> None:
        with self.assertRaisesRegex(MachineError, "No recorded file is in"):
            say_moved(self.world.context, str(self.world.folder / "x"), str(self.world.lanternbox))

    def test_two_folders_with_holdings_do_not_become_one(self) -> None:
        shelf = self.world.folder / "shelf"
        shelf.mkdir()
        for to in (self.world.lanternbox, shelf):
            self.world.add_files(f"{to.name}.zip", {"a.txt": "a", "b.txt": "b"}, to=str(to))
        self.world.add_files("same.zip", {"a.txt": "a", "b.txt": "b"}, to=str(shelf / "Lanternbox"))
        shutil.copytree(self.world.lanternbox, shelf, dirs_exist_ok=True)
        with self.assertRaisesRegex(MachineError, "cannot be merged"):
            say_moved(self.world.context, str(self.world.lanternbox), str(shelf))
        self.assertEqual(len(self.world.remove("Lanternbox", "shelf", "same")), 3)

    def test_a_folder_that_was_deleted_on_its_own_volume_is_no_drive(self) -> None:
        self.world.write({"Gels/moon.gel": "mine"})
        self.world.add_files("pack.zip", PACK)
        shutil.rmtree(self.world.lanternbox)
        self.assertEqual([one.is_away for one in list_holdings(self.world.context)], [False])
        self.world.remove("pack")
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "mine"})

    def test_record_and_files_may_move_to_another_disk_together(self) -> None:
        """What is on the volume of the record is known by that, whatever the volume is called."""
        names = iter(("first disk", "second disk"))
        self.world.platform = replace(self.world.platform, identity_of_drive=lambda _: name)
        name = next(names)
        self.world.add_files("pack.zip", PACK)
        name = next(names)
        self.assertFalse(self.world.remove("pack")[0].away)

    def test_a_folder_that_became_a_link_is_not_written_through_until_that_is_said(self) -> None:
        for has_descriptors in {self.world.platform.has_directory_descriptors, False}:
            self.world.platform = replace(self.world.platform, has_directory_descriptors=has_descriptors)
            with self.subTest(has_descriptors):
                self.world.write({"Gels/moon.gel": "mine"})
                self.world.add_files("pack.zip", PACK)
                elsewhere = self.world.folder / f"elsewhere-{has_descriptors}"
                (self.world.lanternbox / "Gels").rename(elsewhere)
                (self.world.lanternbox / "Gels").symlink_to(elsewhere)
                (elsewhere / "new.gel").unlink()
                context = self.world.context_with_definitions()
                with self.assertRaisesRegex(LeadsElsewhere, "is a link now"):
                    self.world.remove("pack")
                with self.assertRaisesRegex(LeadsElsewhere, "is a link now"):
                    repair(context, "pack", Access(), None, gives_back_changed=False)
                self.assertEqual((elsewhere / "moon.gel").read_text(), "theirs")
                self.assertEqual(self.world.strays(), [])
                say_moved(context, str(self.world.lanternbox / "Gels"), str(elsewhere))
                self.world.remove("pack")
                self.assertEqual((elsewhere / "moon.gel").read_text(), "mine")
                (self.world.lanternbox / "Gels").unlink()

    @unittest.skipUnless(this_platform().has_directory_descriptors, "there is a moment between looking and acting")
    def test_a_folder_that_becomes_a_link_in_this_very_moment_is_not_written_through(self) -> None:
        self.world.write({"Gels/moon.gel": "mine", "Gels/sun.gel": "mine too"})
        before = self.world.contents()
        elsewhere = self.world.folder / "elsewhere"

        def swap(name: str) -> None:
            if name == "backed-up" and not elsewhere.exists():
                shutil.copytree(self.world.lanternbox / "Gels", elsewhere)
                (self.world.lanternbox / "Gels").rename(self.world.lanternbox / "Gels moved")
                (self.world.lanternbox / "Gels").symlink_to(elsewhere)

        self.world.checkpoint = swap
        files = {"gels/moon.gel": "theirs", "gels/sun.gel": "theirs too", "gels/new.gel": "new"}
        added = self.world.add(self.world.archive("pack.zip", files))
        self.assertEqual(added.state, "failed")
        self.assertIn("recover", added.error.remedy)
        self.assertEqual(self.world.contents(elsewhere), {"moon.gel": "mine", "sun.gel": "mine too"})
        # Put back, it is recovered as if nothing had been.
        (self.world.lanternbox / "Gels").unlink()
        (self.world.lanternbox / "Gels moved").rename(self.world.lanternbox / "Gels")
        self.world.checkpoint = lambda _: None
        self.assertFalse(self.recovered(self.world).waiting)
        self.assertEqual(self.world.contents(), before)


class AwayProgramTest(WorldTest):
    """The same as a user sees it."""

    def test_list_check_and_remove_tell_in_plain_words(self) -> None:
        world, home = self.world, self.world.paths.data
        world.context_with_definitions()
        run_program("add", str(world.archive("pack.zip", PACK)), home=home)
        run_program("add", str(world.archive("second.zip", {"gels/second.gel": "2"})), home=home)
        with open_ledger(world.paths.ledger) as ledger:
            ledger.connection.execute("UPDATE place SET volume = 'ext4:another', is_beside = 0")
        # What to do about a drive was once said again for each of its holdings.
        said = run_program("check", home=home).stdout
        self.assertEqual((said.count("not compared"), said.count("Connect the drive")), (2, 1))
        self.assertEqual(self.json("list")["holdings"][0]["state"], "away")
        self.assertTrue(self.json("check")["holdings"][0]["away"])
        self.assertIn("away", run_program("list", home=home).stdout)
        removed = run_program("remove", "pack", home=home)
        self.assertEqual(removed.returncode, 5)
        self.assertIn("Connect the drive and try again", " ".join(removed.stderr.split()))
        moved = run_program("recover", "--moved", str(world.lanternbox), str(world.lanternbox), home=home)
        self.assertEqual((moved.returncode, "2 holdings recorded" in moved.stdout), (0, True), moved.stderr)
        self.assertEqual(run_program("remove", "pack", home=home).returncode, 0)

    def json(self, *words: str) -> dict[str, list[dict[str, object]]]:
        found: dict[str, list[dict[str, object]]] = json.loads(
            run_program(*words, "--json", home=self.world.paths.data).stdout
        )
        return found


if __name__ == "__main__":
    unittest.main()
