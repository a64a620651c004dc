"""Undo again and again, redo, undo by number, a batch as one: things are as they were, exactly."""

import random
import unittest
import zipfile
from pathlib import Path

from tests.often import first_seed, often
from tests.support import World, WorldTest
from tests.transaction.test_walks import HOLDINGS, Walk
from usufruct.actions.adding import add_archives
from usufruct.actions.demonstration import differences
from usufruct.actions.history import Step, history
from usufruct.actions.listing import list_holdings
from usufruct.actions.removing import forget_holdings, remove_holdings
from usufruct.actions.undoing import Reversed, redo, undo
from usufruct.archives.reading import Access
from usufruct.errors import DamagedArchive, MachineError, WrongUsage

WALKS, STEPS, SEED = 7, 8, first_seed(20261127)


class UndoTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.context = self.world.context_with_definitions()

    def undo(self, number: int | None = None) -> list[Reversed]:
        return undo(self.context, Access(), number)

    def redo(self) -> list[Reversed]:
        return redo(self.context, Access())

    def steps(self) -> list[Step]:
        return history(self.context)[0]

    def test_walks_back_and_forth_agree_with_every_state_there_was(self) -> None:
        for number in range(often(WALKS)):
            folder = self.world.folder / str(number)
            folder.mkdir()
            walk, chance = Walk(self, World(folder), SEED + number, user_acts=False), random.Random(number)
            context = walk.world.context_with_definitions()
            with self.subTest(seed=SEED + number):
                states = [walk.world.contents()]
                while len(states) <= STEPS:
                    there = len(walk.model.holdings())
                    acts = ["_add"] * 2 * (there < len(HOLDINGS)) + ["_remove", "_update"] * bool(there)
                    getattr(walk, chance.choice(acts))()
                    if len(history(context)[0]) == len(states):  # an update with the very same content is no change
                        states.append(walk.world.contents())
                at = STEPS
                for _ in range(20):
                    is_back = chance.random() < 0.6
                    if (at == 0 and is_back) or (at == STEPS and not is_back):
                        with self.assertRaises(WrongUsage):
                            (undo if is_back else redo)(context, Access())
                        continue
                    (undo if is_back else redo)(context, Access())
                    at += -1 if is_back else 1
                    self.assertEqual(walk.world.contents(), states[at], walk.tale())
                for _ in range(at):
                    undo(context, Access())
                self.assertEqual(differences(walk.before, walk.world.tree()), [], walk.tale())
                self.assertEqual(walk.world.strays(), [])

    def test_one_command_is_one_change_however_many_archives_it_took(self) -> None:
        before = self.world.tree()
        paths = [self.world.archive(f"{name}.zip", {f"gels/{name}.gel": name}) for name in ("a", "b", "c")]
        add_archives(self.context, paths, self.world.request(), lambda _: None)
        after = self.world.contents()
        (step,) = self.steps()
        self.assertEqual([change.about for change in step.changes], ["a", "b", "c"])
        self.assertEqual([one.holding for one in self.undo()], ["c", "b", "a"])
        self.assertEqual(differences(before, self.world.tree()), [])
        self.assertEqual([one.holding for one in self.redo()], ["a", "b", "c"])
        self.assertEqual(self.world.contents(), after)
        remove_holdings(self.context, ["a", "c"], lambda _: None)
        self.assertEqual(len(self.steps()), 2)
        self.undo()
        self.assertEqual(self.world.contents(), after)

    def test_a_batch_whose_undo_breaks_off_is_undone_in_part_and_the_rest_later(self) -> None:
        for name in ("a", "b"):
            self.world.add_files(f"{name}.zip", {f"gels/{name}.gel": name})
        remove_holdings(self.context, ["a", "b"], lambda _: None)
        archive = self.world.folder / "downloads/a.zip"
        away = archive.rename(archive.with_name("away"))
        with self.assertRaises(MachineError):
            self.undo()
        self.assertEqual(set(self.world.contents()), {"Gels/b.gel"})
        self.assertEqual([len(self.steps()[0].done), self.steps()[0].is_undone], [1, False])
        away.rename(archive)
        self.assertEqual([one.holding for one in self.undo()], ["a"])
        self.assertEqual(set(self.world.contents()), {"Gels/a.gel", "Gels/b.gel"})

    def test_the_history_is_read_as_far_as_it_is_shown_and_what_was_undone_since_is_known(self) -> None:
        for name in ("a", "b", "c", "d"):
            self.world.add_files(f"{name}.zip", {f"gels/{name}.gel": name})
        self.undo()
        self.undo()
        self.redo()
        everything = self.steps()
        for most in range(1, 6):
            with self.subTest(most=most):
                steps, earlier = history(self.context, most)
                self.assertEqual([(one.number, one.is_undone) for one in steps],
                                 [(one.number, one.is_undone) for one in everything[:most]])  # fmt: skip
                self.assertEqual(earlier, max(0, 4 - most))
        self.assertEqual([one.is_undone for one in everything], [True, False, False, False])

    def test_a_new_change_ends_what_can_be_redone(self) -> None:
        self.world.add_files("a.zip", {"gels/a.gel": "a"})
        self.undo()
        self.world.add_files("b.zip", {"gels/b.gel": "b"})
        with self.assertRaisesRegex(WrongUsage, "another change was made after"):
            self.redo()
        self.assertEqual([step.is_undone for step in self.steps()], [False, True])
        self.undo()
        self.assertEqual(self.world.contents(), {})
        with self.assertRaisesRegex(WrongUsage, "nothing to undo"):
            self.undo()

    def test_a_change_is_undone_by_its_number_unless_something_later_lies_on_it(self) -> None:
        self.world.write({"Gels/moon.gel": "mine"})
        self.world.add_files("a.zip", {"gels/moon.gel": "a", "gels/a.gel": "a"})
        self.world.add_files("b.zip", {"gels/b.gel": "b"})
        self.world.add_files("c.zip", {"gels/moon.gel": "c"})
        third, second, first = (step.number for step in self.steps())
        with self.assertRaisesRegex(WrongUsage, f"{third} .add of c"):
            self.undo(first)
        self.undo(second)
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "c", "Gels/a.gel": "a"})
        with self.assertRaisesRegex(WrongUsage, "undone already"):
            self.undo(second)
        self.undo(third)
        self.undo(first)
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "mine"})
        self.world.add_files("d.zip", {"gels/moon.gel": "d"})
        self.world.remove("d")
        removal = self.steps()[0].number
        self.world.add_files("e.zip", {"gels/moon.gel": "e"})
        with self.assertRaisesRegex(WrongUsage, "add of e"):
            self.undo(removal)
        with self.assertRaisesRegex(WrongUsage, "no change 999"):
            self.undo(999)

    def test_what_was_forgotten_stays_and_the_rest_of_its_command_is_undone(self) -> None:
        """The message named a change that could not be undone, and undoing it stopped half way."""
        paths = [self.world.archive(f"{name}.zip", {f"gels/{name}.gel": name}) for name in ("a", "b", "c")]
        add_archives(self.context, paths, self.world.request(), lambda _: None)
        forget_holdings(self.context, ["b"])
        with self.assertRaisesRegex(WrongUsage, "forget of b, cannot be undone") as refused:
            self.undo()
        self.assertIn("`usufruct undo 1` undoes the one before it", refused.exception.remedy)
        self.assertEqual([one.holding for one in self.undo(1)], ["c", "a"])
        self.assertEqual(self.world.contents(), {"Gels/b.gel": "b"})
        with self.assertRaisesRegex(WrongUsage, "cannot be undone, because what it added was forgotten"):
            self.undo(1)
        with self.assertRaises(WrongUsage) as refused:
            self.undo()
        self.assertNotIn("undo 1", refused.exception.remedy)
        self.redo()
        self.assertEqual(self.world.contents(), {"Gels/a.gel": "a", "Gels/b.gel": "b", "Gels/c.gel": "c"})

    def test_an_update_that_was_forgotten_is_undone_by_the_earlier_version_over_the_file(self) -> None:
        self.world.add_files("sky v1.zip", {"gels/moon.gel": "sky"})
        self.world.add(self.world.archive("sky v2.zip", {"gels/moon.gel": "later sky"}), update="sky")
        forget_holdings(self.context, ["sky"])
        self.undo(2)
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "sky"})
        self.undo(1)
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "later sky"})

    def test_an_empty_directory_that_comes_again_may_be_the_users_by_now(self) -> None:
        self.world.add_files("owl.zip", {"Owl/rig.toml": "1", "Owl/empty/": ""})
        self.world.add(self.world.archive("owl v2.zip", {"Owl/rig.toml": "2"}), update="owl")
        self.world.write({"Puppets/Owl/empty/mine.svg": "mine"})
        self.undo()
        self.assertEqual(self.world.contents(), {"Puppets/Owl/rig.toml": "1", "Puppets/Owl/empty/mine.svg": "mine"})

    def test_what_the_user_changed_stays_and_the_rest_comes_and_goes(self) -> None:
        self.world.add_files("a.zip", {"gels/moon.gel": "a", "gels/sun.gel": "s"})
        (self.world.lanternbox / "Gels/moon.gel").write_text("edited")
        (result,) = self.undo()
        self.assertEqual((result.files, [Path(path).name for path in result.left]), (1, ["moon.gel"]))
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "edited"})
        self.redo()
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "edited", "Gels/sun.gel": "s"})
        self.undo()
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "edited"})

    def test_a_removal_that_took_nothing_is_undone_by_doing_nothing(self) -> None:
        self.world.add_files("a.zip", {"gels/moon.gel": "a"})
        (self.world.lanternbox / "Gels/moon.gel").write_text("edited")
        self.world.remove("a")
        self.assertEqual([one.files for one in self.undo()], [0])
        self.assertEqual(self.steps()[0].is_undone, True)
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "edited"})

    def test_a_directory_that_came_with_a_holding_and_went_with_it_comes_again(self) -> None:
        """It was taken for a drive that is not connected: where a holding lay that is gone was not asked for."""
        shelf = self.world.folder / "own shelf"
        self.world.add_files("a.zip", {"one/a.txt": "a"}, to=str(shelf))
        placed = next(shelf.rglob("a.txt"))
        for goes, comes in ((self.undo, self.redo), (lambda: self.world.remove("a"), self.undo)):
            goes()
            self.assertFalse(shelf.exists())
            comes()
            self.assertEqual(placed.read_text(), "a")

    def test_a_directory_that_comes_again_counts_as_no_file(self) -> None:
        self.world.add_files("owl.zip", {"Owl/rig.toml": "owl", "Owl/spare/": ""})
        self.world.remove("owl")
        self.undo()
        self.assertTrue((self.world.lanternbox / "Puppets/Owl/spare").is_dir())
        (holding,) = list_holdings(self.world.context)
        self.assertEqual((holding.files, holding.size), (1, 3))

    def test_of_two_holdings_with_the_same_content_the_one_that_was_on_top_has_its_time_again(self) -> None:
        for name, content, year in (("first", "light", 2020), ("between", "dark", 2015), ("last", "light", 2021)):
            path = self.world.folder / f"{name}.zip"
            with zipfile.ZipFile(path, "w") as archive:
                archive.writestr(zipfile.ZipInfo("gels/dusk.gel", (year, 6, 1, 0, 0, 0)), content)
            add_archives(self.context, [path], self.world.request(on_clash="replace"), lambda _: None)
        file, states = self.world.lanternbox / "Gels" / "dusk.gel", []
        for name in ("between", "last", "first"):
            states.append((file.read_text(), file.stat().st_mtime_ns))
            self.world.remove(name)
        for state in reversed(states):
            self.undo()
            # Undoing the second removal once left the file of `first` there, for it has the same content.
            self.assertEqual((file.read_text(), file.stat().st_mtime_ns), state)

    def test_another_archive_whose_files_have_the_same_sizes_is_not_taken_for_the_one(self) -> None:
        self.world.add_files("a.zip", {"gels/moon.gel": "moon"})
        self.world.remove("a")
        other = self.world.archive("other.zip", {"gels/moon.gel": "noon"})
        with self.assertRaisesRegex(DamagedArchive, "another file than the one that was placed"):
            undo(self.context, Access(), None, other)
        self.assertEqual(self.world.contents(), {})

    def test_an_older_name_that_another_holding_has_by_now_is_not_taken(self) -> None:
        self.world.add_files("a.zip", {"gels/a.gel": "1"})
        self.world.remove("a")
        removal = self.steps()[0].number
        self.world.add_files("b.zip", {"gels/b.gel": "2"}, name="a")
        with self.assertRaisesRegex(WrongUsage, "called a by now"):
            self.undo(removal)


if __name__ == "__main__":
    unittest.main()
