"""What a user may be doing when the power is cut, each in two parts: what was there before, and what is done."""

from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

from tests.support import World
from tests.transaction.kills import killed_at
from usufruct.actions.adding import add_archives
from usufruct.actions.carrying_in import carry_in, plan_carry_in
from usufruct.actions.carrying_out import carry_out
from usufruct.actions.defining import write_definition
from usufruct.actions.recovering import say_moved
from usufruct.actions.removing import forget_holdings, remove_holdings
from usufruct.actions.repairing import repair
from usufruct.actions.undoing import redo, undo
from usufruct.archives.reading import Access
from usufruct.definitions.settings import write_setting
from usufruct.files.state_paths import StatePaths

PACK = {"gels/moon.gel": "theirs", "gels/new.gel": "new", "Owl/rig.toml": "owl", "Owl/deep/a.svg": "a", "readme": "hi"}
NEWER = {"gels/moon.gel": "newer", "gels/newest.gel": "newest", "Owl/rig.toml": "owl", "Bat/rig.toml": "bat"}


class PowerStory(NamedTuple):
    """One story."""

    before: Callable[[World], object]
    act: Callable[[World], object]
    mine: tuple[str, ...] = ("mine",)
    """Contents of the user's that must be somewhere, whatever happens."""
    may_differ: bool = False
    """What it is about is not the applications' folders, or the user's file is there beside what comes back."""
    texts: tuple[str, ...] = ()
    """Files, relative to the state, that are the old one or the new one and nothing between."""


def _mine(world: World) -> None:
    world.write({"Gels/moon.gel": "mine", "Backdrops/sky.png": "sky"})


def _packed(world: World) -> None:
    _mine(world)
    world.add_files("pack.zip", PACK)


def _twice(world: World) -> None:
    world.write({"Gels/moon.gel": "mine", "Gels/sun.gel": "mine"})


def _add(world: World, name: str, files: dict[str, str], **options: object) -> None:
    error = world.add(world.archive(name, files), **options).error
    if error:
        raise error


def _covered(world: World) -> None:
    _packed(world)
    world.add_files("over.zip", {"gels/moon.gel": "over"})


def _several(world: World) -> None:
    _covered(world)
    world.add_files("owls.zip", {"Owl/rig.toml": "o", "Owl/b/c.svg": "c"})


def _edited(world: World) -> None:
    _packed(world)
    (world.lanternbox / "Gels/moon.gel").write_text("edited by the user")


def _removed(world: World) -> None:
    _packed(world)
    world.remove("pack")


def _updated(world: World) -> None:
    _packed(world)
    _add(world, "pack v2.zip", NEWER, update="pack")


def _broken(world: World) -> None:
    _packed(world)
    (world.lanternbox / "Gels/new.gel").unlink()


def _killed(world: World) -> None:
    """Everything is switched in, and nothing says that it is done."""
    _mine(world)
    assert killed_at(world, lambda: _add(world, "pack.zip", PACK), 0, "switched-all")


def _killed_twice(world: World) -> None:
    """Two replaced files have one backup, so that one of them is copied back; and that was cut off once already."""
    _twice(world)
    pack = {"gels/moon.gel": "m", "gels/sun.gel": "s"}
    assert killed_at(world, lambda: _add(world, "pack.zip", pack), 0, "switched-all")
    assert killed_at(world, lambda: _recover(world), 0, "original-back")


def _recover(world: World) -> None:
    with world.context.writing("recover"):
        pass


def _undo(world: World) -> None:
    undo(world.context_with_definitions(), Access())


def _redo(world: World) -> None:
    redo(world.context_with_definitions(), Access())


def _claim(world: World) -> None:
    _add(world, "claim.zip", {"gels/moon.gel": "mine", "gels/new.gel": "new"}, claim=True)


def _claimed(world: World) -> None:
    _mine(world)
    _claim(world)


def _claimed_and_undone(world: World) -> None:
    _claimed(world)
    _undo(world)


def _undone_in_part(world: World) -> None:
    _packed(world)
    _remove_a_part(world)
    _undo(world)


def _remove_a_part(world: World) -> None:
    remove_holdings(world.context, ["pack"], lambda _: None, only=["*.gel"])


def _in_part(world: World) -> None:
    _mine(world)
    _add(world, "pack.zip", PACK, only=("moon.gel",))


def _unlike(world: World) -> None:
    """A file and a directory, each of which is the other in the next version."""
    _mine(world)
    world.add_files("owl.zip", {"Owl/rig.toml": "o", "Owl/a.svg": "a", "Owl/b.svg/c.svg": "c"})


def _move(world: World) -> None:
    moved = world.lanternbox.with_name("Moved")
    world.lanternbox.rename(moved)
    say_moved(world.context_with_definitions(), str(world.lanternbox), str(moved))


def _afterwards(world: World, how: str) -> None:
    archive = world.folder / "downloads" / "pack.zip"
    add_archives(world.context, [archive], world.request(), lambda _: None, how)


def _with_archive(world: World) -> None:
    _mine(world)
    world.archive("pack.zip", PACK)


def _carried(world: World) -> None:
    world.context_with_definitions()
    _packed(world)
    carry_out(world.context, world.folder / "downloads" / "carried.zip", with_archives=True)
    world.remove("pack")
    (world.folder / "downloads" / "pack.zip").unlink()


def _carry_in(world: World) -> None:
    context = world.context_with_definitions()
    plan = plan_carry_in(context, world.folder / "downloads" / "carried.zip", [])
    carry_in(context, plan, Access(), lambda *_: None)


def _defined(world: World) -> None:
    _mine(world)
    world.context_with_definitions()
    write_setting(world.paths.settings, "patience", 7, world.platform)


def _define(world: World) -> None:
    file = world.paths.apps / "lanternbox.toml"
    write_definition(world.context, file.read_text() + "\n# changed\n", file, replaces="lanternbox")
    write_setting(world.paths.settings, "patience", 9, world.platform)


STORIES: dict[str, PowerStory] = {
    "adding new folders": PowerStory(_mine, lambda w: _add(w, "owl.zip", {"Owl/rig.toml": "o", "Owl/b/c.svg": "c"})),
    "adding over a file": PowerStory(_mine, lambda w: _add(w, "pack.zip", PACK)),
    "adding over two files of one content": PowerStory(
        _twice, lambda w: _add(w, "pack.zip", {"gels/moon.gel": "m", "gels/sun.gel": "s"})
    ),
    "adding what is there already": PowerStory(
        _mine, lambda w: _add(w, "p.zip", {"gels/moon.gel": "mine", "gels/x.gel": "x"})
    ),
    "adding beside": PowerStory(_mine, lambda w: _add(w, "p.zip", {"gels/moon.gel": "theirs"}, on_clash="both")),
    "adding a link": PowerStory(
        _mine, lambda w: _add(w, "p.zip", {"Owl/rig.toml": "owl", "Owl/same": "->rig.toml", "readme": "hi"})
    ),
    "adding over a holding": PowerStory(_packed, lambda w: _add(w, "over.zip", {"gels/moon.gel": "over"})),
    "removing": PowerStory(_packed, lambda w: w.remove("pack")),
    "removing what lies on top": PowerStory(_covered, lambda w: w.remove("over")),
    "removing several": PowerStory(_several, lambda w: w.remove("over", "owls")),
    "removing from beneath": PowerStory(_covered, lambda w: w.remove("pack")),
    "giving back what was edited": PowerStory(
        _edited,
        lambda w: remove_holdings(w.context, ["pack"], lambda _: None, gives_back_changed=True),
        ("mine", "edited by the user"),
    ),
    "removing beside an edited file": PowerStory(_edited, lambda w: w.remove("pack"), ("mine", "edited by the user")),
    "forgetting": PowerStory(_packed, lambda w: forget_holdings(w.context, ["pack"])),
    "updating": PowerStory(_packed, lambda w: _add(w, "pack v2.zip", NEWER, update="pack")),
    "undoing an addition": PowerStory(_packed, _undo),
    "undoing a removal": PowerStory(_removed, _undo),
    "undoing an update": PowerStory(_updated, _undo),
    "claiming": PowerStory(_mine, _claim),
    "undoing a claim": PowerStory(_claimed, _undo),
    "claiming again by redo": PowerStory(_claimed_and_undone, _redo),
    "undoing by its number": PowerStory(_several, lambda w: undo(w.context_with_definitions(), Access(), number=3)),
    "adding the rest": PowerStory(_in_part, lambda w: _add(w, "pack.zip", PACK)),
    "removing a part": PowerStory(_packed, _remove_a_part),
    "removing a part by redo": PowerStory(_undone_in_part, _redo),
    "updating a file to a directory and the reverse": PowerStory(
        _unlike,
        lambda w: _add(w, "owl v2.zip", {"Owl/rig.toml": "o", "Owl/a.svg/c.svg": "2", "Owl/b.svg": "b"}, update="owl"),
    ),
    "saying that the folder has moved": PowerStory(_packed, _move, may_differ=True),
    "repairing": PowerStory(
        _broken, lambda w: repair(w.context_with_definitions(), "pack", Access(), None, gives_back_changed=False)
    ),
    "recovering": PowerStory(_killed, _recover),
    "recovering two files of one content": PowerStory(_killed_twice, _recover),
    "storing the archive": PowerStory(_with_archive, lambda w: _afterwards(w, "store"), may_differ=True),
    "trashing the archive": PowerStory(_with_archive, lambda w: _afterwards(w, "trash"), may_differ=True),
    "carrying in": PowerStory(_carried, _carry_in, may_differ=True),
    "settings and definitions": PowerStory(_defined, _define, texts=("settings.toml", "apps/lanternbox.toml")),
}


def world_at(folder: str, state: str) -> World:
    """The world of a story, made or found."""
    world = World(Path(folder))
    world.paths = StatePaths(Path(state), Path(state))
    return world
