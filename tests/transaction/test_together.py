"""Several holdings removed by one command: one change under way, and one each in the history."""

from collections import Counter
from unittest import mock

from tests.support import World, WorldTest
from tests.transaction.drive import MarkedDrive, with_drive
from usufruct.actions.demonstration import differences
from usufruct.actions.history import history
from usufruct.actions.listing import list_holdings
from usufruct.actions.removing import remove_holdings
from usufruct.actions.undoing import undo
from usufruct.archives.reading import Access
from usufruct.errors import MachineError
from usufruct.files.directories import Directory


class TogetherTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.points: Counter[str] = Counter()
        self.world.context_with_definitions()
        self.world.write({"Gels/moon.gel": "mine", "Gels/sun.gel": "my sun"})
        self.before = self.world.tree()
        self.world.add_files("a.zip", {"gels/moon.gel": "a", "Owl/rig.toml": "a"})
        self.world.add_files("b.zip", {"gels/sun.gel": "b", "Bat/rig.toml": "b", "Bat/b.svg": "b"})
        self.world.add_files("c.zip", {"gels/c.gel": "c"})

    def remove(self, *names: str) -> list[str]:
        """Remove these; gives the names of those of which all is out, as they are told."""
        self.world.checkpoint = lambda point: self.points.update([point])
        told: list[str] = []
        results = remove_holdings(self.world.context, names, lambda one: told.append(one.holding.name))
        self.assertEqual([one.holding.name for one in results], told)
        return [one.holding.name for one in results if not one.removed.left and not one.removed.unbacked]

    def there(self) -> list[str]:
        return sorted(one.name for one in list_holdings(self.world.context))

    def test_all_that_touch_no_file_of_one_another_go_as_one_and_come_back_one_by_one(self) -> None:
        placed = self.world.contents()
        self.assertEqual(self.remove("c", "a", "b"), ["c", "a", "b"])
        self.assertEqual(self.points["intent"], 1)
        self.assertEqual(differences(self.before, self.world.tree()), [])
        step = history(self.world.context)[0][0]
        self.assertEqual([change.about for change in step.changes], ["c", "a", "b"])
        undone = undo(self.world.context_with_definitions(), Access())
        self.assertEqual([(one.holding, one.files) for one in undone], [("b", 3), ("a", 2), ("c", 1)])
        self.assertEqual(self.world.contents(), placed)

    def test_what_lies_on_another_ends_a_change_and_begins_the_next(self) -> None:
        self.world.add_files("d.zip", {"gels/moon.gel": "d"})
        self.assertEqual(self.remove("c", "a", "d", "b"), ["c", "a", "d", "b"])
        self.assertEqual(self.points["intent"], 2)
        self.assertEqual(differences(self.before, self.world.tree()), [])
        self.assertEqual(self.world.strays(), [])

    def test_one_that_cannot_go_whole_keeps_no_other_from_going(self) -> None:
        """Of one a backup is damaged, of another a file was changed: each is told of itself, and the rest goes."""
        (self.world.lanternbox / "Gels/c.gel").write_text("edited")
        backups = self.world.paths.backups
        for path in backups.rglob("*"):
            if path.is_file() and path.read_text() == "mine":
                path.chmod(0o600)
                path.write_text("evil")
        self.assertEqual(self.remove("a", "b", "c"), ["b"])
        self.assertEqual(self.there(), ["a", "c"])
        self.assertEqual(
            self.world.contents(), {"Gels/moon.gel": "a", "Gels/sun.gel": "my sun", "Gels/c.gel": "edited"}
        )

    def test_where_one_fails_those_before_it_are_removed_and_it_is_told_alone(self) -> None:
        move_out = Directory.move_out

        def refusing(directory: Directory, name: str, outgoing: str) -> None:
            if "Bat" in (name, directory.path.rpartition("/")[2]):
                raise PermissionError(13, "Permission denied", name)
            move_out(directory, name, outgoing)

        with mock.patch.object(Directory, "move_out", refusing), self.assertRaises(MachineError) as raised:
            self.remove("a", "b", "c")
        self.assertIn("Everything is as before".lower(), raised.exception.kept.lower())
        self.assertEqual(self.there(), ["b", "c"])
        self.assertEqual([change.about for change in history(self.world.context)[0][0].changes], ["a"])
        self.assertEqual(self.remove("b", "c"), ["b", "c"])
        self.assertEqual(differences(self.before, self.world.tree()), [])

    def test_what_fails_when_all_are_out_is_told_and_nothing_is_done_twice(self) -> None:
        """Taken for a failure of the removal, it would have each go once more, and the history would tell of both."""

        def break_off(point: str) -> None:
            if point == "done":
                raise OSError(5, "broken")

        self.world.checkpoint = break_off
        with self.assertRaises(MachineError) as raised:
            remove_holdings(self.world.context, ["a", "b", "c"], lambda _: None)
        self.assertIn("was finished before", raised.exception.kept)
        self.world.checkpoint = lambda _: None
        self.assertEqual((self.there(), differences(self.before, self.world.tree())), ([], []))
        steps = history(self.world.context)[0]
        self.assertEqual([len(step.changes) for step in steps], [3, 1, 1, 1])
        undo(self.world.context_with_definitions(), Access())
        self.assertEqual(self.there(), ["a", "b", "c"])

    def test_the_drive_of_one_is_away_and_the_others_go(self) -> None:
        folder = self.world.folder / "with drive"
        folder.mkdir()
        self.world = World(folder)
        drive = with_drive(self.world, MarkedDrive, self.addCleanup)
        self.world.add_files("on drive.zip", {"gels/moon.gel": "d"})
        for name in ("e", "f", "g"):
            self.world.add(self.world.archive(f"{name}.zip", {"one.txt": name}), to=str(folder / f"shelf of {name}"))
        drive.pull_out()
        results = remove_holdings(self.world.context, ["e", "on drive", "f", "g"], lambda _: None)
        self.assertEqual([bool(one.away) for one in results], [False, True, False, False])
        self.assertEqual(self.there(), ["on drive"])
        self.assertEqual([len(step.changes) for step in history(self.world.context)[0]][:1], [3])
