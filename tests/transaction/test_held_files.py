"""Files that may not be written, files that a program has open: systems differ in them, what comes of it does not."""

import stat
import unittest

from tests.support import WorldTest
from tests.systems import is_windows
from tests.transaction.kills import killed_at
from usufruct.actions.checking import check_holdings
from usufruct.actions.demonstration import differences
from usufruct.actions.undoing import undo
from usufruct.archives.reading import Access
from usufruct.errors import MachineError


class ReadOnlyTest(WorldTest):
    """Where a mode is one bit, a file that may not be written can be neither replaced nor removed as it is."""

    def setUp(self) -> None:
        super().setUp()
        self.world.write({"Gels/moon.gel": "mine", "Gels/sun.gel": "mine too"})
        self.moon = self.world.lanternbox / "Gels/moon.gel"
        self.moon.chmod(0o444)
        self.before = self.world.tree()

    def test_what_the_user_protected_is_replaced_only_as_said_and_comes_back_protected(self) -> None:
        context = self.world.context_with_definitions()
        for content in ("theirs", "theirs, newer"):
            self.world.add_files(f"{content}.zip", {"gels/moon.gel": content, "gels/new.gel": content}, name=content)
            self.assertEqual(self.moon.read_text(), content)
        self.world.remove("theirs, newer")
        undo(context, Access(), None)
        self.world.remove("theirs, newer", "theirs")
        self.assertEqual(differences(self.before, self.world.tree()), [])

    def test_what_became_protected_once_it_was_placed_is_updated_and_removed(self) -> None:
        self.world.add_files("sky v1.zip", {"gels/moon.gel": "one", "gels/gone.gel": "one"})
        for name in ("moon", "gone"):
            (self.world.lanternbox / f"Gels/{name}.gel").chmod(0o444)
        newer = self.world.archive("sky v2.zip", {"gels/moon.gel": "two", "gels/new.gel": "two"})
        self.assertEqual(self.world.add(newer, update="sky").state, "updated")
        (self.world.lanternbox / "Gels/new.gel").chmod(0o444)
        self.assertEqual([one.is_fine for one in check_holdings(self.world.context, (), deep=True)], [True])
        self.world.remove("sky")
        self.assertEqual(differences(self.before, self.world.tree()), [])

    def test_a_change_that_fails_is_reversed(self) -> None:
        def fail(name: str) -> None:
            if name == "switched-all":
                self.world.checkpoint = lambda _: None
                raise OSError("the drive makes a noise")

        self.world.checkpoint = fail
        added = self.world.add(self.world.archive("sky.zip", {"gels/moon.gel": "theirs", "gels/new.gel": "new"}))
        self.assertEqual(added.state, "failed")
        self.assertEqual(self.world.strays(), [])
        self.assertEqual(differences(self.before, self.world.tree()), [])

    @unittest.skipUnless(is_windows(), "a mode keeps nobody from replacing a file here")
    def test_protection_that_was_lifted_when_the_machine_went_down_comes_back(self) -> None:
        sky = self.world.archive("sky.zip", {"gels/moon.gel": "theirs", "gels/sun.gel": "theirs too"})
        self.assertTrue(killed_at(self.world, lambda: self.world.add(sky), 0, "backed-up"))
        self.moon.chmod(0o644)
        self.world.checkpoint = lambda _: None
        with self.world.context.writing("recover"):
            pass
        self.assertEqual(differences(self.before, self.world.tree()), [])

    def test_backups_that_are_copies_keep_the_protection(self) -> None:
        from msgspec.structs import replace

        self.world.platform = replace(self.world.platform, has_hard_links=False)
        self.world.add_files("sky.zip", {"gels/moon.gel": "theirs"})
        self.world.remove("sky")
        self.assertEqual(stat.S_IMODE(self.moon.stat().st_mode), 0o444)
        self.assertEqual(differences(self.before, self.world.tree()), [])


class HeldTest(WorldTest):
    """A program has a file open: there it can be neither renamed nor removed, here it can."""

    def test_a_file_in_use_is_told_and_all_is_as_before_or_it_goes(self) -> None:
        self.world.write({"Gels/moon.gel": "mine"})
        before = self.world.tree()
        moon = self.world.lanternbox / "Gels/moon.gel"
        sky = self.world.archive("sky.zip", {"gels/a.gel": "a", "gels/moon.gel": "theirs", "gels/z.gel": "z"})
        with moon.open("rb"):
            added = self.world.add(sky)
        if is_windows():
            self.assertEqual(added.state, "failed")
            self.assertIn("in use", added.error.message)
            self.assertEqual(differences(before, self.world.tree()), [])
            self.assertEqual(self.world.strays(), [])
            added = self.world.add(sky)
        self.assertEqual(added.state, "added")
        with moon.open("rb"):
            try:
                self.world.remove("sky")
            except MachineError as error:
                self.assertTrue(is_windows(), error)
                self.assertIn("in use", error.message)
        if moon.read_text() == "theirs":
            self.world.remove("sky")
        self.assertEqual(differences(before, self.world.tree()), [])


if __name__ == "__main__":
    unittest.main()
