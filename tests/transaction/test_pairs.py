"""Each act after each other one, with an edit of the user's in between and without.

python -m tests --times 1 test_pairs            # the whole table; the gate takes a part of it
"""

import contextlib
import shutil
import unittest
from collections.abc import Callable
from pathlib import Path

from blake3 import blake3
from msgspec.structs import replace

from tests.often import every
from tests.support import World, WorldTest, no_trash
from tests.transaction.drive import MarkedDrive, same_time, with_drive
from usufruct.actions.adding import add_archives
from usufruct.actions.carrying_in import carry_in, plan_carry_in
from usufruct.actions.carrying_out import carry_out
from usufruct.actions.checking import check_store
from usufruct.actions.demonstration import differences
from usufruct.actions.listing import list_holdings
from usufruct.actions.recovering import say_moved
from usufruct.actions.removing import forget_holdings, remove_holdings
from usufruct.actions.repairing import repair
from usufruct.actions.undoing import redo, undo
from usufruct.archives.reading import Access
from usufruct.errors import UsufructError
from usufruct.ledger import read_ledger
from usufruct.ledger.layers import needed_backups

MINE = {"Gels/moon.gel": "mine", "Gels/same.gel": "same", "Gels/new.gel": "my new", "Backdrops/Day/x.png": "my day"}
FIRST = {
    "gels/moon.gel": "1", "gels/same.gel": "same", "gels/old.gel": "old", "Owl/rig.toml": "owl", "Owl/a.svg": "a",
}  # fmt: skip
SECOND = {"gels/moon.gel": "22", "gels/new.gel": "new", "Owl/rig.toml": "owl 2", "Bat/rig.toml": "bat"}
EDITED = "Gels/moon.gel", "edited by the user"


class Pair:
    """A world with two holdings, one over a part of the other, and what is done in it."""

    def __init__(self, folder: Path, cleanup: Callable[..., object]) -> None:
        self.world = World(folder)
        self.world.write(MINE)
        self.drive = with_drive(self.world, MarkedDrive, cleanup)
        self.context = self.world.context_with_definitions()
        self.texts = {*MINE.values()}
        self.first = self.world.tree()
        self.sky = self.world.archive("sky v1.zip", FIRST)
        self.add(self.sky)
        self.add(self.world.archive("moons.zip", {"gels/moon.gel": "over it"}))
        self.is_lost = False

    def add(self, *archives: Path, together: bool = False, **options: object) -> None:
        request = replace(self.world.request(**options), together=together)  # type: ignore[arg-type]
        for added in add_archives(self.context, archives, request, lambda _: None):
            if added.error:
                raise added.error

    # --- the acts -----------------------------------------------------------------------------------------

    def do_add(self) -> None:
        self.add(
            self.world.archive("owls.zip", {"Snowy/rig.toml": "snowy", "gels/new.gel": "n", "gels/old.gel": "old"})
        )

    def do_add_again(self) -> None:
        self.add(self.sky, only=("*.gel",))

    def do_claim(self) -> None:
        self.texts.discard(MINE["Gels/same.gel"])
        self.add(self.sky, claim=True)

    def do_unpacked(self) -> None:
        folder = self.world.folder / "downloads" / "drawn"
        self.world.write({"gels/drawn.gel": "drawn", "gels/same.gel": "same"}, folder)
        self.add(folder)

    def do_update(self) -> None:
        self.add(self.world.archive("sky v2.zip", SECOND), update="sky")

    def do_together(self) -> None:
        parts = [self.world.archive(f"set {name}.zip", {f"gels/{name}.gel": name}) for name in ("one", "two")]
        self.add(*parts, together=True, name="set")

    def do_remove(self) -> None:
        remove_holdings(self.context, ["sky"], lambda _: None)

    def do_remove_part(self) -> None:
        remove_holdings(self.context, ["sky"], lambda _: None, only=["old.gel", "*.svg"])

    def do_give_back(self) -> None:
        remove_holdings(self.context, ["moons"], lambda _: None, gives_back_changed=True)

    def do_forget(self) -> None:
        forget_holdings(self.context, ["sky"])

    def do_repair(self) -> None:
        repair(self.context, "sky", Access(), None, gives_back_changed=False)

    def do_undo(self) -> None:
        undo(self.context, Access())

    def do_redo(self) -> None:
        redo(self.context, Access())

    def do_undo_number(self) -> None:
        undo(self.context, Access(), number=1)

    def do_drive_away(self) -> None:
        """The drive is pulled out, something is tried, and it is plugged in again."""
        self.drive.pull_out()
        for act in (self.do_remove, self.do_repair, self.do_undo):
            with contextlib.suppress(UsufructError):
                act()
        self.drive.plug_in()

    def do_move(self) -> None:
        """The folder moves, and back again; each is said."""
        here, there = self.world.lanternbox, self.world.lanternbox.with_name("Moved")
        with same_time(here.parent):
            for old, new in ((here, there), (there, here)):
                old.rename(new)
                try:
                    say_moved(self.context, str(old), str(new))
                except UsufructError:
                    if new == there:
                        new.rename(old)
                    raise

    def do_carry(self) -> None:
        out = self.world.folder / f"carry {len(list(self.world.folder.glob('carry*')))}.zip"
        carry_out(self.context, out, with_archives=True)
        carry_in(self.context, plan_carry_in(self.context, out, []), Access(), lambda *_: None)

    def do_lose_record(self) -> None:
        for file in self.world.paths.ledger.parent.glob(f"{self.world.paths.ledger.name}*"):
            file.unlink()
        self.is_lost = True

    # --- what is there ------------------------------------------------------------------------------------

    def record(self) -> list[tuple[object, ...]]:
        return sorted(
            (one.name, one.archive, one.files, one.size, one.is_partial) for one in list_holdings(self.context)
        )

    def state(self) -> tuple[dict[str, str], list[tuple[object, ...]]]:
        return self.world.contents(self.world.folder / "apps"), self.record()

    def edit(self) -> None:
        name, text = EDITED
        (self.world.lanternbox / name).write_text(text)
        self.texts.add(text)

    def nowhere(self) -> set[str]:
        """Texts of the user's that are in no folder, not among what was saved, and beneath no holding."""
        tops = [self.world.folder / "apps", self.world.paths.saved]
        seen = {path.read_text() for top in tops for path in top.rglob("*") if path.is_file()}
        with read_ledger(self.world.paths.ledger) as ledger:
            kept = needed_backups(ledger) if ledger else set()
        if self.is_lost:
            kept = {bytes.fromhex(path.name) for path in self.world.paths.backups.rglob("*") if len(path.name) == 64}
        return {text for text in self.texts - seen if blake3(text.encode()).digest() not in kept}


ACTS: dict[str, Callable[[Pair], None]] = {
    name.removeprefix("do_").replace("_", " "): act for name, act in vars(Pair).items() if name.startswith("do_")
}
LOOSENS = {"forget", "lose record", "claim"}
"""Acts after which removing all does not give the beginning again: what was placed or claimed is the user's to say."""


class PairsTest(WorldTest):
    def test_each_after_each(self) -> None:
        cells = [(first, then, edits) for first in ACTS for then in ACTS for edits in (False, True)]
        for number, (first, then, edits) in enumerate(cells):
            if number % every(17):
                continue
            folder = self.world.folder / str(number)
            folder.mkdir()
            with self.subTest(first=first, then=then, edits=edits), no_trash(), contextlib.ExitStack() as stack:
                self.tell(Pair(folder, stack.callback), first, then, edits=edits)
            shutil.rmtree(folder)

    def tell(self, pair: Pair, first: str, then: str, *, edits: bool) -> None:
        begun = pair.state()
        self.act(pair, first)
        between = pair.state()
        if edits:
            pair.edit()
        is_done = self.act(pair, then)
        is_back = (then == "undo" and first != "undo" and between != begun) or (first, then) == ("undo", "redo")
        if is_done and is_back and not edits:
            self.assertEqual(pair.state(), begun)
        replaces = first in ("remove", "forget", "lose record") and then in ("add again", "claim")
        if edits and not replaces and then not in ("give back", "undo", "undo number", "redo"):
            self.assertEqual((pair.world.lanternbox / EDITED[0]).read_text(), EDITED[1])
        self.end(pair, first, then)

    def act(self, pair: Pair, name: str) -> bool:
        """Do it; whether it was done: what is refused changes nothing."""
        before, tree = pair.state(), pair.world.tree()
        is_done = True
        try:
            ACTS[name](pair)
        except UsufructError as error:
            is_done = False
            self.assertTrue(error.remedy, f"{name}: {error.message}")
            if name != "move":
                self.assertEqual(pair.state(), before, error)
                self.assertEqual(pair.world.tree(), tree, error)
        self.assertEqual(pair.nowhere(), set())
        self.assertEqual(pair.world.strays(), [])
        if not pair.is_lost:
            store = check_store(pair.context)
            self.assertEqual((store.missing, store.damaged, store.unneeded), ((), (), ()))
        return is_done

    def end(self, pair: Pair, *acts: str) -> None:
        """Whatever came before, all can be taken out, and then it is as it was."""
        for _ in range(3):
            names = [one.name for one in list_holdings(pair.context)]
            remove_holdings(pair.context, names, lambda _: None, gives_back_changed=True)
        self.assertEqual(pair.record(), [])
        self.assertEqual(pair.nowhere(), set())
        if not LOOSENS.intersection(acts):
            self.assertEqual(differences(pair.first, pair.world.tree()), [])


if __name__ == "__main__":
    unittest.main()
