"""Random walks: whatever is added, updated, edited, removed in whatever order, nothing is lost and all comes back."""

import os
import random
import unittest
from pathlib import Path

from tests.often import first_seed, often
from tests.support import World, WorldTest
from tests.transaction.model import Model
from usufruct.actions.checking import check_holdings, check_store
from usufruct.actions.demonstration import differences
from usufruct.actions.repairing import repair
from usufruct.actions.undoing import undo
from usufruct.archives.reading import Access
from usufruct.errors import MachineError

WALKS = 25
STEPS = 12
SEED = first_seed(20260314)
NAMES = [f"Gels/{name}.gel" for name in "abcdef"] + [
    "Backdrops/Day/sky.png",
    "Backdrops/Night/sky.png",
    "Backdrops/x.png",
]
HOLDINGS = ["Dusk", "Dawn", "Noon", "Moth"]


class Walk:
    """One walk: a world, its model, and chance."""

    def __init__(self, test: unittest.TestCase, world: World, seed: int, *, user_acts: bool) -> None:
        self.test, self.world, self.user_acts = test, world, user_acts
        self.chance = random.Random(seed)
        self.counted = 0
        world.write({name: f"mine {name}" for name in self.chance.sample(NAMES, 4)})
        if self.chance.random() < 0.5:
            os.utime(world.lanternbox / "Gels", ns=(10**18, 10**18 + 5)) if (
                world.lanternbox / "Gels"
            ).exists() else None
        self.before = world.tree()
        self.model = Model(dict(world.contents()))
        self.archives: dict[str, Path] = {}
        self.story: list[str] = []
        self.acted = ""
        """The holding that the last step was about."""

    def files(self, holding: str) -> dict[str, str]:
        """Content for a version of a holding; some of it equal to what others have."""
        self.counted += 1
        names = self.chance.sample(NAMES, self.chance.randint(1, 5))
        return {
            name: self.chance.choice(["same for all", f"mine {name}", f"{holding} {self.counted} {name}"])
            for name in names
        }

    def step(self) -> None:
        there = sorted(self.model.holdings())
        absent = [name for name in HOLDINGS if name not in there]
        acts = ["add"] * bool(absent) * 3 + ["remove", "update", "repair", "undo after"] * bool(there)
        acts += ["edit", "delete", "foreign"] * self.user_acts
        getattr(self, f"_{self.chance.choice(acts).replace(' ', '_')}")()
        self.test.assertEqual(self.world.contents(), self.model.disk, self.tale())
        self.test.assertEqual(self.world.strays(), [], self.tale())

    def tale(self) -> str:
        return "\n".join(self.story)

    def _archive(self, holding: str, files: dict[str, str]) -> Path:
        # Two archives of the very same bytes would be one that was added already, whatever they are called.
        own = {"readme.txt": f"{holding} {self.counted}"}
        path = self.world.archive(f"{holding} v{self.counted}.zip", files | own)
        self.archives[holding] = path
        return path

    def _add(self) -> None:
        holding = self.chance.choice([name for name in HOLDINGS if name not in self.model.holdings()])
        files = self.files(holding)
        self.story.append(f"add {holding} {files}")
        added = self.world.add(self._archive(holding, files))
        self.test.assertEqual(added.state, "added", f"{self.tale()}\n{added.error}")
        self.acted = [holding]
        self.model.add(holding, files)

    def _update(self) -> None:
        holding = self.chance.choice(sorted(self.model.holdings()))
        files = self.files(holding)
        self.story.append(f"update {holding} {files}")
        added = self.world.add(self._archive(holding, files), update=holding)
        self.acted = [holding]
        self.test.assertIn(added.state, ("updated", "already added"), f"{self.tale()}\n{added.error}")
        self.model.update(holding, files)

    def _remove(self) -> None:
        there = sorted(self.model.holdings())
        holdings = self.chance.sample(there, self.chance.randint(1, min(3, len(there))))
        self.story.append(f"remove {' '.join(holdings)}")
        self.acted = holdings
        for holding, removal in zip(holdings, self.world.remove(*holdings), strict=True):
            self.test.assertEqual(not removal.removed.left, self.model.remove(holding), self.tale())

    def _undo_after(self) -> None:
        """Something, and it undone at once: as if it had never been."""
        before, archives = self.model.copy(), dict(self.archives)
        acts = [self._remove, self._update]
        if len(self.model.holdings()) < len(HOLDINGS):
            acts.append(self._add)
        self.chance.choice(acts)()
        self.story.append("undo")
        try:
            undo(self.world.context_with_definitions(), Access())
        except MachineError as error:
            # A file of an earlier version, changed and kept since, is in no archive that is at hand: nothing is done.
            self.test.assertIn("has no entry", error.message, self.tale())
            return
        after = self.model
        self.model, self.archives = before, archives
        for holding in self.acted:
            # What the user had deleted of it is put back as well.
            for path in set(before.paths_of(holding)) - set(after.paths_of(holding)):
                self.model.lay_back(holding, path)
            self.model.repair(holding)

    def _repair(self) -> None:
        holding = self.chance.choice(sorted(self.model.holdings()))
        self.story.append(f"repair {holding}")
        repair(self.world.context_with_definitions(), holding, Access(), None, gives_back_changed=False)
        self.model.repair(holding)

    def _edit(self) -> None:
        if self.model.disk:
            path = self.chance.choice(sorted(self.model.disk))
            self.counted += 1
            self._write(path, f"edited {self.counted}")

    def _foreign(self) -> None:
        self.counted += 1
        self._write(self.chance.choice(NAMES), f"foreign {self.counted}")

    def _write(self, path: str, content: str) -> None:
        self.story.append(f"write {path} {content}")
        target = self.world.lanternbox / path
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_text(content)
        self.model.edit(path, content)

    def _delete(self) -> None:
        if self.model.disk:
            path = self.chance.choice(sorted(self.model.disk))
            self.story.append(f"delete {path}")
            (self.world.lanternbox / path).unlink()
            self.model.edit(path, None)

    def end(self) -> None:
        """All is removed; what the user changed is deleted first, so that nothing has to stay."""
        for path, stack in self.model.stacks.items():
            if path in self.model.disk and self.model.disk[path] != stack[-1].content:
                (self.world.lanternbox / path).unlink()
                self.model.edit(path, None)
        for _ in range(3):  # a file changed and then covered is settled once what covers it is gone
            for holding in sorted(self.model.holdings()):
                self.story.append(f"at the end, remove {holding}")
                self.world.remove(holding)
                self.model.remove(holding)
                self.test.assertEqual(self.world.contents(), self.model.disk, self.tale())
                for path in self.model.paths_of(holding):
                    stack = self.model.stacks[path]
                    if stack[-1].owner == holding and self.model.disk.get(path) not in (None, stack[-1].content):
                        (self.world.lanternbox / path).unlink()
                        self.model.edit(path, None)
        self.test.assertEqual(self.model.holdings(), set(), self.tale())
        self.test.assertEqual(self.world.contents(), self.model.disk, self.tale())
        self.test.assertEqual(list(check_holdings(self.world.context, (), deep=True)), [])
        store = check_store(self.world.context)
        self.test.assertEqual((store.kept, store.missing), (0, ()), self.tale())
        if not self.user_acts:
            self.test.assertEqual(differences(self.before, self.world.tree()), [], self.tale())


class WalksTest(WorldTest):
    def test_walks_end_as_they_began_and_agree_with_the_model_at_every_step(self) -> None:
        for number in range(often(WALKS)):
            folder = self.world.folder / str(number)
            folder.mkdir()
            walk = Walk(self, World(folder), SEED + number, user_acts=number % 2 == 1)
            with self.subTest(seed=SEED + number):
                for _ in range(STEPS):
                    walk.step()
                    store = check_store(walk.world.context)
                    self.assertEqual((store.missing, store.damaged), ((), ()), walk.tale())
                walk.end()


if __name__ == "__main__":
    unittest.main()
