"""Cutting the power in a story, many times over, and recovering from each: see the package."""

import argparse
import contextlib
import os
import random
import shutil
import sys
import tempfile
import traceback
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any
from unittest import mock

from tests.power.disk import Story, lay_out
from tests.power.stories import STORIES, world_at
from tests.power.tracing import TRACER, Record, let_be_traced, traced
from tests.support import IN_MEMORY, World
from usufruct.actions.checking import check_store
from usufruct.actions.demonstration import Tree, differences, tree_of
from usufruct.actions.listing import list_holdings
from usufruct.actions.showing import show_holding


class Wrong(AssertionError):
    """What was found after a recovery is neither before nor after, or something is missing."""


class Cutter:
    """One story on one or two volumes: told once, recorded, and cut off as often as you like."""

    def __init__(self, name: str, *, has_two: bool) -> None:
        self.name, self.story = name, STORIES[name]
        self.folder = tempfile.mkdtemp(prefix="usufruct-power-", dir=IN_MEMORY)
        self.state = tempfile.mkdtemp(prefix="usufruct-power-") if has_two else f"{self.folder}/state"
        self.volumes = [self.folder, *([self.state] if has_two else [])]
        self.world = world_at(self.folder, self.state)
        self._run(self.story.before)
        self.before, self.was = self._found()
        self.texts = self._texts()
        self.record = Story(self.volumes)
        with tempfile.TemporaryDirectory() as passing:
            log = Path(passing, "log")
            self._run(self.story.act, log)
            Record(self.record).understand(log)
        if not self.record.steps:
            raise Wrong("nothing of the story was recorded")
        self.after, self.then = self._found()
        self.texts = [(old, new) for (old, _), (new, _) in zip(self.texts, self._texts(), strict=True)]
        self._look_at_all()

    def _run(self, part: Callable[[World], object], log: Path | None = None) -> None:
        """Do a part of the story in a process of its own; `log`: what the tracer sees of it."""

        def do() -> None:
            # The trash is on the volume that saved files are on.
            os.environ.update(XDG_DATA_HOME=f"{self.state}/home", HOME=self.state, USUFRUCT_HOME=self.state)
            os.umask(0o022)
            part(self.world)

        if wrong := _in_child(do, log):
            raise Wrong(wrong)

    def _found(self) -> tuple[Tree, list[Any]]:
        found = ((one.name, one.files, one.size, one.is_partial) for one in list_holdings(self.world.context))
        return tree_of(Path(self.folder, "apps")), sorted(found)

    def _texts(self) -> list[tuple[str, str]]:
        return [(Path(self.state, one).read_text(), one) for one in self.story.texts]

    def _look_at_all(self) -> None:
        """Tell the record the numbers and times that things have in the end, where the story itself did not look."""
        for top in self.volumes:
            for directory, directories, names in os.walk(top):
                for path in (directory, *(os.path.join(directory, name) for name in (*directories, *names))):
                    found = os.lstat(path)
                    self.record.seen(path, found.st_ino, found.st_mtime_ns)

    def close(self) -> None:
        """Remove the volumes."""
        for top in self.volumes:
            shutil.rmtree(top, ignore_errors=True)

    def verify(self) -> None:
        """Raise Wrong if doing the whole record again does not give what the story gave."""
        lay_out(self.record, self.record.left(len(self.record.steps), None))
        tree, found = self._found()
        if wrong := differences(self.after, tree):
            raise Wrong(f"the record is not understood: {wrong}")
        if found != self.then:
            raise Wrong(f"the record is not understood: {found} is not {self.then}")

    def cut(self, seed: int) -> str:
        """Cut the power once; gives what was wrong after the recovery, or nothing."""
        chance = random.Random(f"{self.name} {seed}")
        count = len(self.record.steps)
        # Just behind the end is where a user has been told that all is well. Right before a sync the most can be lost.
        syncs = [number for number, step in enumerate(self.record.steps) if step.what.startswith("sync")]
        end = chance.choice([count, chance.randint(0, count), *[chance.choice(syncs)] * 4])
        numbers = lay_out(self.record, self.record.left(end, chance, is_worst=chance.random() < 0.5))
        return _in_child(lambda: self._judge(numbers, is_told=end == count))

    def _judge(self, numbers: dict[tuple[int, int], int], *, is_told: bool) -> None:
        with _with_numbers(numbers):
            for _ in range(2):
                with self.world.context.writing("recover"):
                    pass
            self._compare(is_told=is_told)

    def _compare(self, *, is_told: bool) -> None:
        tree, found = self._found()
        from_before, from_after = differences(self.before, tree), differences(self.after, tree)
        is_before = not from_before and found == self.was
        is_after = not from_after and found == self.then
        if self.story.may_differ:
            is_before = is_after = is_before or is_after or found in (self.was, self.then)
        if is_told and not is_after:
            raise Wrong(f"it was told to be done, and is not: {from_after} {found}")
        if not is_before and not is_after:
            raise Wrong(f"neither before ({from_before}) nor after ({from_after}): {found}")
        store = check_store(self.world.context)
        if store.unneeded:
            raise Wrong(f"backups that no record names: {store.unneeded}")
        if store.missing or store.damaged:
            raise Wrong(f"backups missing {store.missing} or damaged {store.damaged}")
        for holding in list_holdings(self.world.context):
            for note in show_holding(self.world.context, holding.name).notes:
                kept = self.world.paths.notes / str(holding.number) / note.file
                if not kept.is_file() or kept.stat().st_size != note.size or b"\0" in kept.read_bytes():
                    raise Wrong(f"the note {note.entry} of {holding.name} is not whole")
        # A copy that was not finished is cleared away by the next one.
        strays = [
            str(path) for top in self.volumes for path in Path(top).rglob(".usufruct-*") if path.suffix != ".partial"
        ]
        if strays:
            raise Wrong(f"left lying about: {strays}")
        for (old, new), path in zip(self.texts, self.story.texts, strict=True):
            if Path(self.state, path).read_text(errors="replace") not in (old, new):
                raise Wrong(f"{path} is neither the old nor the new one")
        there = {path.read_bytes() for top in self.volumes for path in Path(top).rglob("*") if _is_shown(path)}
        for content in self.story.mine:
            if content.encode() not in there:
                raise Wrong(f"{content!r} is nowhere any more")
        archives = ("storing the archive", "trashing the archive")
        if self.name in archives and self._archive() not in there:
            raise Wrong("the archive is nowhere any more")

    def _archive(self) -> bytes:
        (number,) = (n for n, thing in enumerate(self.record.things) if self.record.is_first(n, "downloads/pack.zip"))
        return bytes(self.record.things[number].data)


def _is_shown(path: Path) -> bool:
    return path.is_file() and not path.is_symlink() and "partial" not in path.name


def _in_child(do: Callable[[], None], log: Path | None = None) -> str:
    """What goes wrong with something in a process of its own that nothing is left of; `log`: the tracer's of it."""
    reading, writing = os.pipe()
    waiting, going = os.pipe()
    child = os.fork()
    if not child:
        os.close(going)
        with os.fdopen(writing, "w") as told:
            try:
                let_be_traced()
                os.read(waiting, 1)
                do()
            except BaseException:  # noqa: BLE001 - a child must end here, whatever happened
                told.write(traceback.format_exc())
        os._exit(0)
    os.close(writing)
    os.close(waiting)
    with traced(child, log) if log else contextlib.nullcontext():
        os.close(going)
        with os.fdopen(reading) as told:
            found = told.read()
        os.waitpid(child, 0)
    return found


@contextlib.contextmanager
def _with_numbers(numbers: dict[tuple[int, int], int]) -> Iterator[None]:
    """Let files be seen with the numbers that they had when the power was cut."""

    def seen(real: Callable[..., os.stat_result]) -> Callable[..., os.stat_result]:
        def look(*words: Any, **named: Any) -> os.stat_result:
            found = real(*words, **named)
            number = numbers.get((found.st_dev, found.st_ino))
            if number is None:
                return found
            fields = {name: getattr(found, name) for name in dir(found) if name.startswith("st_")}
            values = list(found)
            values[1] = number
            return os.stat_result(values, {**fields, "st_ino": number})

        return look

    with contextlib.ExitStack() as patches:
        for name in ("stat", "lstat", "fstat"):
            patches.enter_context(mock.patch.object(os, name, seen(getattr(os, name))))
        yield


def main() -> int:
    """Cut as often as is said; ends with 1 if anything was wrong."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--story", choices=list(STORIES), help="only this one")
    parser.add_argument("--states", type=int, default=150, help="how often the power is cut in each")
    parser.add_argument("--seed", type=int, default=0, help="the first one")
    words = parser.parse_args()
    if not TRACER:
        sys.stdout.write("strace is needed for this, and is not here\n")
        return 2
    failed = cuts = 0
    for name in [words.story] if words.story else STORIES:
        for has_two in (False, True):
            cutter = Cutter(name, has_two=has_two)
            try:
                cutter.verify()
                wrong = {seed: cutter.cut(seed) for seed in range(words.seed, words.seed + words.states)}
            finally:
                cutter.close()
            cuts += len(wrong)
            found = {seed: said for seed, said in wrong.items() if said}
            failed += len(found)
            said = f"{name}, {'two volumes' if has_two else 'one volume'}: {len(cutter.record.steps)} steps"
            sys.stdout.write(f"{said}, {len(found)} of {len(wrong)} wrong\n")
            for seed, said in list(found.items())[:3]:
                sys.stdout.write(f"--seed {seed}\n{said}\n")
    sys.stdout.write(f"{cuts} power cuts, {failed} wrong\n")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
