"""Killed at every named point: the next command reverses the change, or it was done. Never anything between."""

import errno
import os
import unittest
from collections.abc import Callable
from pathlib import Path
from unittest import mock

from tests.often import every
from tests.support import WorldTest
from tests.transaction.kills import killed_at
from usufruct.actions.context import Context
from usufruct.actions.demonstration import Tree, differences
from usufruct.actions.listing import list_holdings
from usufruct.errors import Interrupted, MachineError, PlanIsStale
from usufruct.files.platform import this_platform
from usufruct.transaction import recover
from usufruct.transaction.recover import Recovered

TIDYING = ("tidying", "staging-dropped", "backup-dropped", "tidied")
"""The points behind the commit point."""


class InterruptionsTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.write({"Gels/moon.gel": "mine", "Gels/sun.gel": "my sun", "Puppets/Fox/rig.toml": "fox"})
        self.archive = self.world.archive(
            "pack.zip",
            {
                "Gels/moon.gel": "theirs",
                "Gels/new.gel": "new",
                "Owl/rig.toml": "owl",
                "Owl/deep/er/a.svg": "a",
                "Fox/rig.toml": "their fox",
                "readme.txt": "hello",
            },
        )

    def add(self) -> None:
        error = self.world.add(self.archive).error
        if error:
            raise error

    def remove(self) -> None:
        self.world.remove("pack")

    def killed_at(self, action: Callable[[], None], number: int) -> str | None:
        return killed_at(self.world, action, number)

    def recover(self) -> None:
        with self.world.context.writing("recover"):
            pass

    def walk(self, action: Callable[[], None], back: Callable[[], None]) -> set[str]:
        """Kill an action at each of its points in turn, recover, and demand exactly before or after."""
        names: set[str] = set()
        number = 0
        while True:
            before = self.world.tree()
            name = self.killed_at(action, number)
            with self.subTest(point=name, number=number):
                self.recover()
                if self.is_recorded() != self.was_recorded(before):
                    self.assertIn(name, ("done", None, *TIDYING))
                    back()
                else:
                    self.assertEqual(differences(before, self.world.tree()), [])
                self.assertEqual(self.world.strays(), [])
                self.backed()
            if name is None:
                return names
            names.add(name)
            number += 1

    def backed(self) -> set[bytes]:
        """Digests of what is backed up: as much as the record says, and no more."""
        with self.world.context.writing("look") as resources:
            layers = resources.ledger.connection.execute("SELECT blake3 FROM layer WHERE is_backed")
            backed = {digest for (digest,) in layers}
            self.assertEqual(set(resources.backups.digests()), backed)
        return backed

    def is_recorded(self) -> bool:
        return bool(list_holdings(self.world.context))

    def was_recorded(self, tree: Tree) -> bool:
        return "Lanternbox/Puppets/Owl" in tree

    def test_adding_killed_at_every_point(self) -> None:
        names = self.walk(self.add, self.remove)
        self.assertLessEqual({"staging-made", "staged", "intent", "backed-up", "switched", "done"}, names)
        self.assertEqual(list(self.world.paths.backups.rglob("*")), [])

    def test_removing_killed_at_every_point(self) -> None:
        self.add()
        names = self.walk(self.remove, self.add)
        self.assertLessEqual({"staged-back", "set-out", "switched", "directory-dropped", "done"}, names)

    def test_an_update_beneath_another_holding_killed_at_every_point(self) -> None:
        """The new version goes straight into the backups, before anything of it is on record."""
        self.world.add_files("sky.zip", {"gels/new.gel": "sky"})
        self.world.add_files("moons.zip", {"gels/new.gel": "moons"})
        newer = self.world.archive("sky v2.zip", {"gels/new.gel": "later sky"})
        first, number = self.backed(), 0
        while (name := self.killed_at(lambda: self.world.add(newer, update="sky"), number)) != "done":
            with self.subTest(point=name, number=number):
                self.recover()
                self.assertEqual(self.backed(), first)
            number += 1
        self.assertGreater(number, 3)
        self.recover()
        self.assertNotEqual(self.backed(), first)
        self.world.remove("moons")
        self.assertEqual(self.world.contents()["Gels/new.gel"], "later sky")

    def test_recovery_killed_at_every_point(self) -> None:
        """A second kill, in the recovery from the first, is recovered from as well."""
        before = self.world.tree()
        count = 0
        while self.killed_at(self.add, count) is not None:
            self.recover()
            if self.is_recorded():
                self.remove()
            count += 1
        self.remove()
        for number in range(0, count, every(3)):
            second = 0
            while True:
                self.assertIsNotNone(self.killed_at(self.add, number))
                if self.killed_at(self.recover, second) is None:
                    break
                with self.subTest(first=number, second=second):
                    self.recover()
                    if self.is_recorded():
                        self.remove()
                    self.assertEqual(differences(before, self.world.tree()), [])
                    self.assertEqual(self.world.strays(), [])
                second += 1
            self.recover()
            if self.is_recorded():
                self.remove()

    def test_recovery_tells_what_it_reversed(self) -> None:
        number = 0
        while self.killed_at(self.add, number) != "switched":
            self.recover()
            number += 1
        (recovered,) = self.recovered()
        told = [(change.kind.value, change.about, left) for change, left in recovered.reversed]
        self.assertEqual(told, [("add", "pack", ())])

    def test_a_change_that_the_system_refuses_to_reverse_waits_and_is_told(self) -> None:
        before = self.world.tree()
        number = 0
        while self.killed_at(self.add, number) != "switched":
            self.recover()
            number += 1
        with mock.patch.object(recover, "switch_back", side_effect=PermissionError(errno.EACCES, "refused")):
            (recovered,) = self.recovered()
        ((change, why),) = recovered.waiting
        self.assertEqual((change.about, recovered.reversed), ("pack", ()))
        self.assertIn("refused", str(why))
        (recovered,) = self.recovered()
        self.assertEqual((recovered.waiting, len(recovered.reversed)), ((), 1))
        self.assertEqual(differences(before, self.world.tree()), [])

    def recovered(self) -> list[Recovered]:
        """What recovering tells, if it has anything to do."""
        told: list[Recovered] = []
        with Context(paths=self.world.paths, on_recovery=told.append).writing("recover"):
            pass
        return told

    def test_a_file_somebody_else_wrote_meanwhile_is_left_and_told(self) -> None:
        number = 0
        while self.killed_at(self.add, number) != "switched-all":
            self.recover()
            number += 1
        self.world.write({"Gels/moon.gel": "written by another program"})
        ((_, (stranger,)),) = self.recovered()[0].reversed
        self.assertEqual(stranger.path, str(self.world.lanternbox / "Gels/moon.gel"))
        self.assertEqual(Path(stranger.saved).read_text(), "mine")
        self.assertEqual(self.world.contents()["Gels/moon.gel"], "written by another program")
        self.assertEqual(self.world.contents()["Puppets/Fox/rig.toml"], "fox")

    def test_an_error_or_an_interruption_at_any_point_reverses_at_once(self) -> None:
        self.world.add_files("under.zip", {"gels/new.gel": "another's"})
        before = self.world.tree()
        for raised, told in (
            (OSError(28, "No space left on device"), MachineError),
            (KeyboardInterrupt(), Interrupted),
        ):
            for point in (
                "staging-made",
                "staged-one",
                "staged",
                "intent",
                "backed-up",
                "switched",
                "switched-durable",
            ):
                with self.subTest(point=point, raised=raised):

                    def checkpoint(name: str, point: str = point, raised: BaseException = raised) -> None:
                        if name == point:
                            self.world.checkpoint = lambda _: None
                            raise raised

                    self.world.checkpoint = lambda name, act=checkpoint: act(name)
                    with self.assertRaises(told) as caught:
                        self.add()
                    self.assertIn("reversed", caught.exception.kept)
                    self.assertTrue(caught.exception.remedy)
                    self.assertEqual(differences(before, self.world.tree()), [])
                    self.assertEqual(self.world.strays(), [])
                    self.assertEqual([one.name for one in list_holdings(self.world.context)], ["under"])
                    self.assertEqual(self.backed(), set())

    def test_a_file_that_changes_between_plan_and_switch_stops_the_change(self) -> None:
        def checkpoint(name: str) -> None:
            if name == "intent":
                self.world.write({"Gels/moon.gel": "changed in this moment"})

        self.world.checkpoint = checkpoint
        with self.assertRaises(PlanIsStale):
            self.add()
        self.assertEqual(self.world.contents()["Gels/moon.gel"], "changed in this moment")
        self.assertNotIn("Puppets/Owl/rig.toml", self.world.contents())

    def removed_while(self, files: dict[str, str]) -> None:
        """Remove the holding while another program writes these files between the intent and the switch."""
        self.add()

        def checkpoint(name: str) -> None:
            if name == "intent":
                self.world.write(files)

        self.world.checkpoint = checkpoint
        self.remove()

    def test_a_made_folder_in_which_somebody_writes_meanwhile_is_put_back_whole(self) -> None:
        with self.assertRaises(PlanIsStale) as caught:
            self.removed_while({"Puppets/Owl/deep/er/a.svg": "drawn in this moment"})
        self.assertIn("Puppets/Owl/deep/er/a.svg", caught.exception.path)
        self.assertEqual(self.world.contents()["Puppets/Owl/deep/er/a.svg"], "drawn in this moment")
        self.assertEqual(self.world.contents()["Puppets/Owl/rig.toml"], "owl")
        self.assertEqual(self.world.strays(), [])

    def test_a_made_folder_with_something_of_the_users_stays_with_that(self) -> None:
        self.removed_while({"Puppets/Owl/deep/er/mine.svg": "mine"})
        self.assertEqual(self.world.contents()["Puppets/Owl/deep/er/mine.svg"], "mine")
        self.assertNotIn("Puppets/Owl/deep/er/a.svg", self.world.contents())
        self.assertEqual(self.world.strays(), [])

    @unittest.skipUnless(this_platform().sync_file_system, "each file is made durable by itself there")
    def test_the_order_of_events_is_what_safety_needs(self) -> None:
        """Staged bytes are durable before the intent; the intent before any rename; the renames before `done`."""
        events: list[str] = []
        self.world.checkpoint = events.append
        platform = self.world.platform
        real_replace, real_new = os.replace, platform.rename_unless_taken

        def replace(source: str, destination: str, **at: int) -> None:
            events.append("rename" if source.startswith((platform.descriptors, "/")) and "/in/" in source else "other")
            real_replace(source, destination, **at)

        def rename_new(source: str, destination: str, at: int | None) -> bool:
            events.append("rename")
            return bool(real_new and real_new(source, destination, at))

        def sync(descriptor: int) -> bool:
            events.append("sync")
            return True

        from msgspec.structs import replace as with_fields

        self.world.platform = with_fields(platform, sync_file_system=sync, rename_unless_taken=rename_new)
        with mock.patch("os.replace", replace):
            self.add()
        self.assertEqual(events.count("rename"), 4)
        first_rename, last_rename = events.index("rename"), len(events) - 1 - events[::-1].index("rename")
        self.assertLess(events.index("sync"), events.index("staged"))
        self.assertLess(events.index("intent"), first_rename)
        self.assertIn("backed-up", events[:last_rename])
        self.assertIn("sync", events[last_rename : events.index("done")])


if __name__ == "__main__":
    unittest.main()
