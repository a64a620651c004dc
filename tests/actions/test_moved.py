"""What moved is recorded only where it is found, and whatever still names the old place is told."""

import shutil
from pathlib import Path

from msgspec.structs import replace

from tests.support import WorldTest, run_program
from tests.transaction.kills import killed_at
from usufruct.actions.afterwards import kept_archives
from usufruct.actions.demonstration import differences
from usufruct.actions.listing import list_holdings
from usufruct.actions.recovering import put_right, say_moved
from usufruct.actions.repairing import repair
from usufruct.actions.undoing import undo
from usufruct.archives.reading import Access
from usufruct.errors import DriveAway, MachineError

PACK = {"gels/moon.gel": "theirs", "gels/new.gel": "new"}


class MovedTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.write({"Gels/moon.gel": "mine"})
        self.before = self.world.tree()

    def move(self, old: Path, name: str) -> Path:
        new = self.world.folder / name
        shutil.move(old, new)
        return new

    def test_a_folder_with_nothing_of_it_is_not_taken(self) -> None:
        """One letter mistyped, and the next removal put files of the user's into a stranger's folder."""
        self.world.add_files("pack.zip", PACK)
        mistyped = self.world.folder / "mistyped"
        self.world.write({"Gels/moon.gel": "somebody else's"}, mistyped)
        for new in (mistyped, self.world.paths.data):
            with self.assertRaises(MachineError) as caught:
                say_moved(self.world.context, str(self.world.lanternbox), str(new))
            self.assertRegex(caught.exception.message, "Nothing of what is on record|keeps its own files")
        self.world.remove("pack")
        self.assertEqual(differences(self.before, self.world.tree()), [])
        self.assertEqual(self.world.contents(mistyped), {"Gels/moon.gel": "somebody else's"})

    def test_what_does_not_match_and_what_still_names_the_old_place_is_told(self) -> None:
        self.world.context_with_definitions()
        self.world.add_files("pack.zip", {**PACK, "gels/lost.gel": "lost"})
        new = self.move(self.world.lanternbox, "new place")
        (new / "Gels/new.gel").write_text("edited")
        (new / "Gels/lost.gel").unlink()
        moved = say_moved(self.world.context, str(self.world.lanternbox), str(new))
        self.assertEqual((moved.holdings, moved.applications), (1, ("lanternbox",)))
        self.assertEqual(moved.missing, (f"{new}/Gels/lost.gel",))
        self.assertEqual(moved.changed, (f"{new}/Gels/new.gel",))

    def test_a_copy_with_other_times_is_it_all_the_same(self) -> None:
        self.world.add_files("pack.zip", PACK)
        new = self.world.folder / "copy"
        shutil.copytree(self.world.lanternbox, new, copy_function=shutil.copyfile)
        moved = say_moved(self.world.context, str(self.world.lanternbox), str(new))
        self.assertEqual((moved.missing, moved.changed), ((), ()))
        self.world.remove("pack")
        self.assertEqual(self.world.contents(new), {"Gels/moon.gel": "mine"})

    def test_a_subfolder_that_moved_within_a_change_goes_back_first(self) -> None:
        """The advice that was printed led to a record that no command could recover from."""
        gels, points = self.world.lanternbox / "Gels", 0
        while name := killed_at(self.world, lambda: self.world.add(self.world.archive("pack.zip", PACK)), points):
            with self.subTest(name):
                new = self.move(gels, "elsewhere")
                gels.symlink_to(new)
                try:
                    say_moved(self.world.context, str(gels), str(new))
                    is_taken = True
                except MachineError as error:
                    self.assertRegex(error.message, "was interrupted while|No recorded file")
                    is_taken = False
                put_right(self.world.context)
                gels.unlink()
                new.rename(gels)
                if is_taken:
                    say_moved(self.world.context, str(new), str(gels))
                put_right(self.world.context)
                self.world.remove(*[one.name for one in list_holdings(self.world.context)])
                self.assertEqual((self.world.contents(), self.world.strays()), ({"Gels/moon.gel": "mine"}, []))
            points += 3
        self.assertGreater(points, 6)


class MovedArchivesTest(WorldTest):
    """The disk with the downloads has another place, or is away."""

    def setUp(self) -> None:
        super().setUp()
        self.downloads = self.world.folder / "downloads"
        self.world.context_with_definitions()

    def test_archives_that_moved_are_found_there_by_all_that_needs_them(self) -> None:
        self.world.add_files("pack.zip", PACK)
        self.world.add_files("other.zip", {"gels/sun.gel": "sun"})
        self.world.remove("other")
        new = self.world.folder / "bigger disk"
        self.downloads.rename(new)
        with self.assertRaisesRegex(MachineError, "Nothing of what is on record"):
            say_moved(self.world.context, str(self.downloads), str(self.world.lanternbox))
        moved = say_moved(self.world.context, str(self.downloads), str(new))
        self.assertEqual((moved.holdings, moved.archives), (0, 2))
        (self.world.lanternbox / "Gels/new.gel").unlink()
        repaired = repair(self.world.context, "pack", Access(), None, gives_back_changed=False)
        self.assertEqual(repaired.written, (f"{self.world.lanternbox}/Gels/new.gel",))
        undo(self.world.context, Access(), 3)
        self.assertIn("Gels/sun.gel", self.world.contents())
        self.assertEqual([one.state for one in kept_archives(self.world.context)], ["there", "there"])

    def test_archives_on_a_drive_that_is_away_are_away_not_missing(self) -> None:
        volumes = {str(self.downloads): "stick"}
        self.world.platform = replace(
            self.world.platform, identity_of_drive=lambda path: volumes.get(str(path), "disk")
        )
        self.world.paths.data.mkdir(exist_ok=True)
        self.world.add_files("pack.zip", PACK)
        (self.world.lanternbox / "Gels/new.gel").unlink()
        self.downloads.rename(self.world.folder / "drawer")
        # On one disk here, they are told apart as those of two would be.
        from usufruct.ledger import open_ledger

        with open_ledger(self.world.paths.ledger) as ledger:
            ledger.connection.execute("UPDATE archive_place SET is_beside = 0")
        self.assertEqual([one.state for one in kept_archives(self.world.context)], ["away"])
        with self.assertRaisesRegex(DriveAway, "drive that is not connected"):
            repair(self.world.context, "pack", Access(), None, gives_back_changed=False)
        (self.world.folder / "drawer").rename(self.downloads)
        repair(self.world.context, "pack", Access(), None, gives_back_changed=False)
        self.assertIn("Gels/new.gel", self.world.contents())

    def test_the_program_says_what_moved_and_what_to_change(self) -> None:
        home = self.world.paths.data
        run_program("settings", "set", "downloads", str(self.downloads), home=home)
        run_program("add", str(self.world.archive("pack.zip", PACK)), home=home)
        new = self.world.folder / "bigger disk"
        self.downloads.rename(new)
        moved = run_program("recover", "--moved", str(self.downloads), str(new), home=home)
        self.assertIn("1 archive recorded as being in", moved.stdout)
        self.assertIn("settings set downloads", moved.stdout)
        self.assertEqual(moved.returncode, 0)
