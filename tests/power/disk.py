"""A model of volumes: what was done to them in order, and what may be left of it when the power is cut.

Names and attributes become durable in the order in which they were made, as a prefix of it, each volume for itself.
Bytes become durable by being synced; of others anything may be there: all, nothing, zeros, a part.
"""

import os
import random
import shutil
import stat
from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import NamedTuple

_SOME_TIME = 1_800_000_000_000_000_000
"""Nanoseconds; times that the story never asked for are made up from here on."""


@dataclass(eq=False)
class Thing:
    """A file, link or directory, whatever its names."""

    kind: str
    mode: int = 0
    modified: int = 0
    inode: int = 0
    """The number that the story saw; 0 if it never looked."""
    target: str = ""
    data: bytearray = field(default_factory=bytearray)
    names: dict[str, "Thing"] = field(default_factory=dict)


class Step(NamedTuple):
    """One thing done, by the number of its thing in order of appearance."""

    volume: int
    what: str
    """`make`, `link`, `unlink`, `rename`, `mode`, `time`, `write`, `cut`, `sync`, `sync-volume`."""
    thing: int
    parent: int = -1
    name: str = ""
    other: int = -1
    """For `rename`: the directory it comes from."""
    other_name: str = ""
    offset: int = 0
    data: bytes = b""
    value: int = 0
    """A mode, a time, or a size."""
    made: tuple[str, int, str] = ("", 0, "")
    """For `make`: kind, mode, target."""


_DATA = frozenset({"write", "cut"})


class Story:
    """What was there before, and all that was done, as it was understood from a record."""

    def __init__(self, volumes: Iterable[str]) -> None:
        self.volumes = list(volumes)
        """Absolute paths of the topmost directory on each."""
        self.things: list[Thing] = []
        """As they are once everything was done."""
        self.tops: list[int] = []
        self.steps: list[Step] = []
        self.exact: dict[tuple[int, int], int] = {}
        """Step and thing → the time that the thing got by it, where the story looked."""
        self._before: list[tuple[Thing, dict[str, int]]] = []
        self._numbers: dict[int, int] = {}
        """Identity of a thing → its number."""
        self._touched: dict[int, int] = {}
        """Thing → the last step that gave it a time by itself."""
        for top in self.volumes:
            self.tops.append(self._read(top, {}))
        for thing in self.things:
            names = {name: self._numbers[id(one)] for name, one in thing.names.items()}
            copy = Thing(thing.kind, thing.mode, thing.modified, thing.inode, thing.target, bytearray(thing.data))
            self._before.append((copy, names))

    def _number(self, thing: Thing) -> int:
        if id(thing) not in self._numbers:
            self._numbers[id(thing)] = len(self.things)
            self.things.append(thing)
        return self._numbers[id(thing)]

    def _read(self, path: str, linked: dict[int, Thing]) -> int:
        found = os.lstat(path)
        thing = linked.get(found.st_ino)
        if thing:
            return self._number(thing)
        thing = Thing("file", stat.S_IMODE(found.st_mode), found.st_mtime_ns, found.st_ino)
        linked[found.st_ino] = thing
        number = self._number(thing)
        if stat.S_ISDIR(found.st_mode):
            thing.kind = "directory"
            for name in sorted(os.listdir(path)):
                if not name.endswith("-shm"):
                    # The memory that processes share beside the record means nothing after a power cut.
                    thing.names[name] = self.things[self._read(f"{path}/{name}", linked)]
        elif stat.S_ISLNK(found.st_mode):
            thing.kind, thing.target = "link", os.readlink(path)
        else:
            with open(path, "rb") as file:
                thing.data = bytearray(file.read())
        return number

    # --- understanding a record -------------------------------------------------------------------------

    def volume_of(self, path: str) -> int | None:
        """The volume that an absolute path is on; None for what is of no interest."""
        fitting = [n for n, top in enumerate(self.volumes) if path == top or path.startswith(top + "/")]
        return max(fitting, key=lambda n: len(self.volumes[n]), default=None)

    def find(self, path: str) -> Thing | None:
        """What is at a path now."""
        volume = self.volume_of(path)
        if volume is None:
            return None
        here: Thing | None = self.things[self.tops[volume]]
        for name in path[len(self.volumes[volume]) :].split("/"):
            if name and here:
                here = here.names.get(name)
        return here

    def do(self, what: str, path: str, other: str = "", **values: object) -> None:
        """Enter that something was done at a path; what lies outside of the volumes is passed over."""
        volume = self.volume_of(path)
        if volume is None or path.endswith("-shm"):
            return
        parent, name = self.find(os.path.dirname(path)), os.path.basename(path)
        if what == "make":
            assert parent, path
            kind, mode, target = values["made"]  # type: ignore[misc]
            thing = Thing(kind, mode, 0, 0, target)
            self._enter(Step(volume, what, self._number(thing), self._number(parent), name, made=(kind, mode, target)))
            return
        if what == "sync-volume":
            self._enter(Step(volume, what, -1))
            return
        source = self.find(other or path)
        if source is None:
            return
        number = self._number(source)
        if what == "rename":
            above = self.find(os.path.dirname(other))
            assert above and parent, (path, other)
            step = Step(volume, what, number, self._number(parent), name, self._number(above), os.path.basename(other))
        elif what in ("link", "unlink"):
            assert parent, path
            step = Step(volume, what, number, self._number(parent), name)
        else:
            step = Step(volume, what, number, **values)  # type: ignore[arg-type]
        self._enter(step)

    def _enter(self, step: Step) -> None:
        index = len(self.steps)
        self.steps.append(step)
        _carry_out(self.things, step, _SOME_TIME + index)
        for touched in (step.parent, step.other, step.thing if step.what in (*_DATA, "make") else -1):
            if touched >= 0:
                self._touched[touched] = index

    def seen(self, path: str, inode: int, modified: int) -> None:
        """The story looked at something: its number and the time it has are those."""
        thing = self.find(path)
        if thing is None:
            return
        thing.inode = inode
        number = self._number(thing)
        if thing.modified != modified and number in self._touched:
            self.exact[self._touched[number], number] = modified
            thing.modified = modified

    def is_first(self, number: int, path: str) -> bool:
        """Whether a thing had this path, relative to the first volume, before the story."""
        here: int | None = 0
        for name in path.split("/"):
            here = self._before[here][1].get(name) if here is not None else None
        return here == number

    # --- what a power cut may leave -----------------------------------------------------------------------

    def left(self, end: int, chance: random.Random | None, *, is_worst: bool = False) -> "list[Thing]":
        """What may be left when the power is cut after so many steps; the topmost directories of the volumes.

        Without `chance` everything that was done is there; `is_worst`: every name, and no byte that was not synced.
        """
        until = [
            end if chance is None or is_worst else self._names_until(volume, end, chance)
            for volume, _ in enumerate(self.tops)
        ]
        things = [self._fresh(thing) for thing, _ in self._before]
        for thing, (_, names) in zip(things, self._before, strict=True):
            thing.names = {name: things[number] for name, number in names.items()}
        things += [Thing("none") for _ in range(len(self.things) - len(things))]
        synced = self._synced(end)
        for index, step in enumerate(self.steps[:end]):
            if step.what in _DATA:
                is_safe = chance is None or index < synced.get(step.thing, -1)
                left = step if is_safe else None if is_worst else _perhaps(step, chance or random.Random())
                if left is None or things[step.thing].kind == "none":
                    continue
                step = left
            elif index >= until[step.volume]:
                continue
            _carry_out(things, step, _SOME_TIME + index)
            for touched in (step.parent, step.other, step.thing):
                if (index, touched) in self.exact:
                    things[touched].modified = self.exact[index, touched]
        for thing, last in zip(things, self.things, strict=True):
            thing.inode = last.inode
        return [things[top] for top in self.tops]

    @staticmethod
    def _fresh(thing: Thing) -> Thing:
        return Thing(thing.kind, thing.mode, thing.modified, thing.inode, thing.target, bytearray(thing.data))

    def _names_until(self, volume: int, end: int, chance: random.Random) -> int:
        """Up to which step names and attributes of a volume are durable: at least those that a sync covers."""
        least = 0
        for index, step in enumerate(self.steps[:end]):
            if step.volume != volume:
                continue
            if step.what == "sync-volume":
                least = index
            elif step.what == "sync":
                concerned = (
                    n
                    for n, one in enumerate(self.steps[:index])
                    if one.what not in _DATA and step.thing in (one.thing, one.parent, one.other)
                )
                least = max(least, max(concerned, default=-1) + 1)
        return chance.choice([least, end, chance.randint(least, end)])

    def _synced(self, end: int) -> dict[int, int]:
        """Thing → the step before which its bytes are durable."""
        found: dict[int, int] = {}
        for index, step in enumerate(self.steps[:end]):
            if step.what == "sync":
                found[step.thing] = index
            elif step.what == "sync-volume":
                for one in self.steps[:index]:
                    if one.what in _DATA and one.volume == step.volume:
                        found[one.thing] = index
        return found


def _perhaps(step: Step, chance: random.Random) -> Step | None:
    """What may be there of bytes that were not synced."""
    if step.what == "cut":
        return step if chance.random() < 0.5 else None
    match chance.choice(["there", "missing", "zeros", "partial"]):
        case "there":
            return step
        case "zeros":
            return step._replace(data=bytes(len(step.data)))
        case "partial":
            return step._replace(data=step.data[: chance.randint(0, len(step.data))])
    return None


def _carry_out(things: list[Thing], step: Step, now: int) -> None:
    thing = things[step.thing] if step.thing >= 0 else None
    parent = things[step.parent] if step.parent >= 0 else None
    match step.what:
        case "make":
            assert thing and parent
            thing.kind, thing.mode, thing.target = step.made
            thing.modified = parent.modified = now
            parent.names[step.name] = thing
        case "link":
            assert thing and parent
            parent.names[step.name] = thing
            parent.modified = now
        case "unlink":
            assert parent
            parent.names.pop(step.name, None)
            parent.modified = now
        case "rename":
            assert thing and parent
            above = things[step.other]
            above.names.pop(step.other_name, None)
            parent.names[step.name] = thing
            above.modified = parent.modified = now
        case "mode":
            assert thing
            thing.mode = step.value
        case "time":
            assert thing
            thing.modified = step.value
        case "write":
            assert thing
            if len(thing.data) < step.offset + len(step.data):
                thing.data.extend(bytes(step.offset + len(step.data) - len(thing.data)))
            thing.data[step.offset : step.offset + len(step.data)] = step.data
            thing.modified = now
        case "cut":
            assert thing
            del thing.data[step.value :]
            thing.data.extend(bytes(step.value - len(thing.data)))
            thing.modified = now


def lay_out(story: Story, tops: list[Thing]) -> dict[tuple[int, int], int]:
    """Put volumes on the real disk, at their paths; gives device and number of each file → the number it had."""
    numbers: dict[tuple[int, int], int] = {}
    for path, top in zip(story.volumes, tops, strict=True):
        for name in os.listdir(path):
            here = f"{path}/{name}"
            shutil.rmtree(here) if os.path.isdir(here) and not os.path.islink(here) else os.unlink(here)
        written: dict[int, str] = {}
        _write(path, top, written)
        for thing, where in _below(top, path):
            found = os.lstat(where)
            # Of directories nobody keeps the number, and what removes them compares it.
            if thing.inode and thing.kind != "directory":
                numbers[found.st_dev, found.st_ino] = thing.inode
    return numbers


def _write(path: str, thing: Thing, written: dict[int, str]) -> None:
    for name, one in thing.names.items():
        here = f"{path}/{name}"
        if id(one) in written:
            os.link(written[id(one)], here, follow_symlinks=False)
            continue
        written[id(one)] = here
        if one.kind == "directory":
            os.mkdir(here)
            _write(here, one, written)
        elif one.kind == "link":
            os.symlink(one.target, here)
        else:
            with open(here, "wb") as file:
                file.write(one.data)
            os.chmod(here, one.mode)
        if one.kind != "directory":
            os.utime(here, ns=(one.modified, one.modified), follow_symlinks=False)
    os.chmod(path, thing.mode)
    os.utime(path, ns=(thing.modified, thing.modified))


def _below(thing: Thing, path: str) -> Iterable[tuple[Thing, str]]:
    yield thing, path
    for name, one in thing.names.items():
        yield from _below(one, f"{path}/{name}")
