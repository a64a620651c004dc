"""Updates, repairs, undoing and forgetting, killed at every named point: exactly before, or exactly after."""

import os
import signal
import subprocess
import time
import unittest
from collections.abc import Callable

from tests.often import every
from tests.support import World, WorldTest, program
from tests.transaction.kills import killed_at
from usufruct.actions.checking import check_holdings, check_store
from usufruct.actions.demonstration import differences
from usufruct.actions.listing import list_holdings
from usufruct.actions.removing import forget_holdings, remove_holdings
from usufruct.actions.repairing import repair
from usufruct.actions.undoing import redo, undo
from usufruct.archives.reading import Access
from usufruct.files.platform import this_platform

FIRST = {"gels/moon.gel": "1", "gels/old.gel": "old", "gels/same.gel": "same", "Owl/rig.toml": "owl", "readme": "hi"}
SECOND = {
    "gels/moon.gel": "22",
    "gels/new.gel": "new",
    "gels/same.gel": "same",
    "Owl/rig.toml": "owl 2",
    "Bat/rig.toml": "b",
}


def begun(world: World) -> None:
    """A world with files of the user's, one holding, and another over a part of it."""
    world.write({"Gels/moon.gel": "mine", "Gels/same.gel": "same", "Gels/new.gel": "my new"})
    world.add_files("sky v1.zip", FIRST)
    world.add_files("moons.zip", {"moon.gel": "over it"})


def updated(world: World) -> None:
    begun(world)
    update(world)


def update(world: World) -> None:
    added = world.add(world.archive("sky v2.zip", SECOND), update="sky")
    if added.error:
        raise added.error


def removed(world: World) -> None:
    begun(world)
    world.remove("sky")


def broken(world: World) -> None:
    begun(world)
    (world.lanternbox / "Gels/old.gel").unlink()
    (world.lanternbox / "Puppets/Owl/rig.toml").unlink()


def with_own(world: World) -> None:
    """Files of the user's that an archive holds too."""
    world.write({"Gels/moon.gel": "mine", "Gels/same.gel": "same"})


def claim(world: World) -> None:
    added = world.add(world.archive("sky v1.zip", {**FIRST, "gels/same.gel": "same"}), claim=True, on_clash="keep")
    if added.error:
        raise added.error


def claimed(world: World) -> None:
    with_own(world)
    claim(world)


def several(world: World) -> None:
    begun(world)
    world.add_files("owls.zip", {"Snowy/rig.toml": "s", "gels/new.gel": "new of owls"})
    world.add_files("bats.zip", {"Fox/rig.toml": "f", "Fox/deep/one.svg": "1", "gels/bat.gel": "b"})


def in_part(world: World) -> None:
    world.add(world.archive("sky v1.zip", FIRST), only=("*.gel",))


STORIES: dict[str, tuple[Callable[[World], object], Callable[[World], object]]] = {
    "update": (begun, update),
    "undo of an update": (updated, lambda world: undo(world.context_with_definitions(), Access())),
    "undo of a removal": (removed, lambda world: undo(world.context_with_definitions(), Access())),
    "repair": (
        broken,
        lambda world: repair(world.context_with_definitions(), "sky", Access(), None, gives_back_changed=False),
    ),
    "forgetting": (begun, lambda world: forget_holdings(world.context, ["sky"])),
    "claiming": (with_own, claim),
    "undo of a claim": (claimed, lambda world: undo(world.context_with_definitions(), Access())),
    "adding the rest": (in_part, lambda world: world.add(world.folder / "downloads/sky v1.zip")),
    "removal of a part": (
        begun,
        lambda world: remove_holdings(world.context, ["sky"], lambda _: None, only=["*.gel"]),
    ),
    "redo": (
        lambda world: [claimed(world), undo(world.context_with_definitions(), Access())],
        lambda world: redo(world.context_with_definitions(), Access()),
    ),
    "removal from beneath": (begun, lambda world: world.remove("sky")),
    "removal of several": (several, lambda world: world.remove("owls", "moons", "bats")),
    "undo of several": (
        lambda world: [
            several(world),
            world.remove("owls", "bats"),
            undo(world.context_with_definitions(), Access()),
        ],
        lambda world: redo(world.context_with_definitions(), Access()),
    ),
}


def record(world: World) -> list[tuple[object, ...]]:
    return sorted((one.name, one.files, one.size, one.is_partial) for one in list_holdings(world.context))


class KilledStoriesTest(WorldTest):
    def world_of(self, *names: object) -> World:
        folder = self.world.folder / "-".join(map(str, names))
        folder.mkdir()
        return World(folder)

    def recovered(self, world: World) -> None:
        with world.context.writing("recover"):
            pass

    def settled(self, world: World) -> None:
        """Nothing stray, nothing wrong in the record."""
        self.assertEqual(world.strays(), [])
        store = check_store(world.context)
        self.assertEqual((store.missing, store.damaged, store.unneeded), ((), (), ()))

    def test_every_story_killed_at_its_points(self) -> None:
        points = 0
        for index, (story, (prepare, action)) in enumerate(STORIES.items()):
            finished = self.world_of(story, "finished")
            prepare(finished)
            action(finished)
            number = index % every(4)
            while True:
                world = self.world_of(story, number)
                prepare(world)
                before, recorded = world.tree(), record(world)
                name = killed_at(world, lambda act=action, world=world: act(world), number)
                self.recovered(world)
                with self.subTest(story=story, point=name, number=number):
                    self.settled(world)
                    is_before = not differences(before, world.tree()) and record(world) == recorded
                    is_after = world.contents() == finished.contents() and record(world) == record(finished)
                    self.assertTrue(is_after if name is None else is_before or is_after)
                if name is None:
                    break
                points, number = points + 1, number + every(4)
        self.assertGreater(points, 90 // every(4))

    def test_a_second_kill_in_the_recovery(self) -> None:
        for index, (story, (prepare, action)) in enumerate(STORIES.items()):
            for first in range(4 + index, 60, 7 * every(4)):
                second = index % 3
                while True:
                    world = self.world_of(story, "twice", first, second)
                    prepare(world)
                    before, recorded = world.tree(), record(world)
                    if killed_at(world, lambda act=action, world=world: act(world), first) is None:
                        break
                    name = killed_at(world, lambda world=world: self.recovered(world), second)
                    self.recovered(world)
                    with self.subTest(story=story, first=first, second=second, point=name):
                        self.settled(world)
                        if record(world) == recorded:
                            check = list(check_holdings(world.context, (), deep=True))
                            self.assertTrue(story == "repair" or all(one.is_fine for one in check))
                            if story not in ("repair", "removal from beneath", "forgetting"):
                                self.assertEqual(differences(before, world.tree()), [])
                    if name is None:
                        break
                    second += 3

    @unittest.skipUnless(this_platform().can_fork, "only there may a process go on as several")
    def test_its_helpers_hold_the_lock_until_they_write_no_more(self) -> None:
        """Killed with its helping processes at work, it is recovered once they too have stopped, and not earlier."""
        self.world.context_with_definitions()
        archive = self.world.archive("many.zip", {f"gels/{n}.gel": b"%d" % n * 300 for n in range(30_000)})
        before = self.world.tree()
        home = self.world.paths.data
        child = subprocess.Popen([*program(), "add", str(archive)], env={**os.environ, "USUFRUCT_HOME": str(home)})
        while child.poll() is None and not self.world.strays():
            time.sleep(0.01)
        time.sleep(0.2)
        child.kill()
        self.assertEqual(child.wait(), -signal.SIGKILL)
        self.recovered(self.world)
        self.assertEqual(differences(before, self.world.tree()), [])
        self.settled(self.world)


if __name__ == "__main__":
    unittest.main()
