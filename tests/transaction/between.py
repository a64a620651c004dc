"""A walk with acts between: a change is killed anywhere, people and programs act, recovery is killed too, life goes on.

    python -m tests.transaction.between --count 1000            # as many as you like
    python -m tests.transaction.between --seed 4711             # one again, with its tale

Every content of the user's is a text of its own. At the end each must be somewhere: under a name in the application's
folders, among what was saved and told, or beneath a holding that is still on record. What the user overwrote or deleted
himself where it lay in plain sight is his own doing.
"""

import argparse
import os
import random
import shutil
import sys
import tempfile
import traceback
from collections.abc import Callable
from pathlib import Path
from unittest import mock

from blake3 import blake3
from msgspec.structs import replace

from tests.support import IN_MEMORY, World, no_trash
from tests.transaction.kills import killed_at
from usufruct.actions.listing import list_holdings
from usufruct.actions.recovering import say_moved
from usufruct.actions.removing import forget_holdings, remove_holdings
from usufruct.actions.repairing import repair
from usufruct.actions.undoing import redo, undo
from usufruct.archives.reading import Access
from usufruct.backups import Backups
from usufruct.errors import UsufructError
from usufruct.files.state_paths import StatePaths
from usufruct.ledger import read_ledger
from usufruct.ledger.changes import is_tidy
from usufruct.ledger.layers import needed_backups

NAMES = [f"Gels/{name}.gel" for name in "abcd"] + ["Puppets/Owl/rig.toml", "Puppets/Owl/a.svg", "Backdrops/Day/x.png"]
OWL = "Puppets/Owl/a.svg"
TWICE = "the same twice"
PACKS = ["Dusk", "Dawn", "Moth"]
DISK = tempfile.gettempdir()


class Lost(AssertionError):
    """Something of the user's is nowhere, or a command met a fault of its own."""


class Between:
    """One walk, by its seed."""

    def __init__(self, folder: Path, seed: int) -> None:
        self.chance = random.Random(seed)
        self.tale: list[str] = [f"seed {seed}"]
        self.archives: dict[str, Path] = {}
        self.counted = 0
        self.mine: set[str] = set()
        """Contents of the user's that must be somewhere."""
        self.given: set[str] = set()
        """Contents of the user's that were claimed for a holding, and may go with it."""
        self.world = World(folder)
        self.unplugged = False
        self.linked = self.claimed = ""
        """The name of which the user has a second one elsewhere, and the content that must come back there."""
        self._vary_the_machine(folder)
        for name in self.chance.sample(NAMES, 4):
            self._write(name)
        if self.chance.random() < 0.3:
            # Two files of the same content: their backup is one.
            self._write("Gels/a.gel", TWICE)
            self._write("Gels/b.gel", TWICE)
        if self.chance.random() < 0.3:
            self._hard_link()

    def _vary_the_machine(self, folder: Path) -> None:
        """Links or none, one volume or two, the system's calls or their fallbacks."""
        fields: dict[str, object] = {"identity_of_drive": self._identity}
        for name, lacking in (
            ("has_hard_links", False), ("has_directory_descriptors", False), ("rename_unless_taken", None),
            ("sync_file_system", None),
        ):  # fmt: skip
            if self.chance.random() < 0.25:
                fields[name] = lacking
                self.tale.append(f"the system has no {name}")
        # Waiting for the disk proves nothing here; what is made durable when is for another test.
        if self.world.platform.sync_file_system and "sync_file_system" not in fields:
            fields["sync_file_system"] = lambda _: True
        self.world.platform = replace(self.world.platform, sync_descriptor=lambda _: None, **fields)  # type: ignore[arg-type]
        if self.chance.random() < 0.4 and os.stat(DISK).st_dev != os.stat(folder).st_dev:
            self.other = tempfile.mkdtemp(prefix="usufruct-state-", dir=DISK)
            self.world.paths = StatePaths(Path(self.other), Path(self.other))
            self.tale.append("the record and the backups are on another volume")
        else:
            self.other = ""

    def _identity(self, path: str) -> str:
        """The stick is known by what is written on it; whatever else is there is another volume."""
        for step in (path, *map(str, Path(path).parents)):
            if os.path.exists(f"{step}/.stick"):
                return "stick"
        return "disk"

    def _mount_point(self, path: str) -> str:
        steps = [path, *map(str, Path(path).parents)]
        return next((step for step in steps if os.path.exists(f"{step}/.stick")), "/")

    def _hard_link(self) -> None:
        self.linked = self.chance.choice([name for name in NAMES if self._path(name).is_file()])
        self.claimed = self._content(self._path(self.linked)) or ""
        os.link(self._path(self.linked), self.world.folder / "elsewhere")
        self.tale.append(f"{self.linked} has a second name elsewhere")

    # --- what the user has --------------------------------------------------------------------------------

    def _path(self, name: str) -> Path:
        return self.world.lanternbox / name

    def _content(self, path: Path) -> str | None:
        try:
            return path.read_text(errors="replace")
        except OSError:
            return None

    def _overwritten(self, path: Path, *, in_place: bool = False) -> None:
        """What is in plain sight at a path goes by the user's own will; `in_place`: with all names of that file."""
        seen = self._content(path)
        if path == self._path(self.linked):
            self.claimed = ""
        others = [one for one in self._everywhere() if one.resolve() != path.resolve() and self._content(one) == seen]
        if in_place and path.is_file():
            others = [one for one in others if not one.samefile(path)]
        if seen in self.mine and (not others or seen == TWICE):
            # Of a content that packs have too nobody can tell whose copy is left.
            self.mine.discard(seen)

    def _everywhere(self) -> list[Path]:
        tops = [*(self.world.folder / name for name in ("apps", "elsewhere", "drawer")), self.world.paths.saved]
        found = (path for top in tops for path in ([top] if top.is_file() else top.rglob("*")) if path.is_file())
        return [path for path in found if "/.usufruct-" not in str(path)]

    def _write(self, name: str, content: str = "", *, in_place: bool = False) -> None:
        path = self._path(name)
        if not path.parent.is_dir():
            if path.parent.exists() or path.parent.is_symlink():
                return
            path.parent.mkdir(parents=True)
        if path.is_dir():
            return
        self.counted += 1
        content = content or f"mine {self.counted}"
        self._overwritten(path, in_place=in_place)
        self.mine.add(content)
        self.tale.append(f"write {name} = {content}{' in place' if in_place else ''}")
        if in_place and path.is_file():
            with path.open("r+") as file:
                file.truncate()
                file.write(content)
            return
        beside = path.with_name(path.name + "~new")
        beside.write_text(content)
        beside.replace(path)

    # --- commands -----------------------------------------------------------------------------------------

    def _pack(self) -> tuple[str, dict[str, str]]:
        self.counted += 1
        files = {
            name: self.chance.choice([f"theirs {self.counted} {name}", TWICE])
            for name in self.chance.sample(NAMES, self.chance.randint(1, 6))
        }
        if self.chance.random() < 0.4:
            files["readme.txt"] = f"read {self.counted}"
        if self.chance.random() < 0.15 and files.pop(OWL, ""):
            # What is a file in one version is a directory in another.
            files[f"{OWL}/deep.svg"] = f"deep {self.counted}"
        return self.chance.choice(PACKS), files

    def command(self) -> tuple[str, Callable[[], object]]:
        """Something that a user may type, and what it is called."""
        world = self.world
        names = [one.name for one in list_holdings(world.context)]
        kinds = ["add"] * 3 + ["add a part", "claim", "redo"]
        kinds += ["remove", "remove all", "remove a part", "give back", "forget"] * bool(names)
        kinds += ["undo", "undo a number", "repair", "update", "add again"] * bool(names)
        kind = self.chance.choice(kinds)
        if kind in ("add", "update", "add a part", "claim"):
            pack, files = self._claimed() if kind == "claim" else self._pack()
            archive = self.archives[pack] = world.archive(f"{pack} v{self.counted}.zip", files)
            update = self.chance.choice(names) if kind == "update" else None
            options = {"add a part": {"only": ("*.gel", "*.svg")}, "claim": {"claim": True}}.get(kind, {})
            return f"{kind} {archive.name} {files} {update}", lambda: self._add(archive, update, **options)
        if kind == "add again":
            archive = self.archives[self.chance.choice(sorted(self.archives))]
            return f"{kind} {archive.name}", lambda: self._add(archive, None, only=("*.gel", "*.png"))
        name = self.chance.choice(names) if names else ""
        here = world.context_with_definitions()
        number = self.chance.randint(1, 6)
        doings: dict[str, Callable[[], object]] = {
            "remove": lambda: world.remove(name),
            "remove all": lambda: world.remove(*names),
            "give back": lambda: remove_holdings(here, [name], lambda _: None, gives_back_changed=True),
            "remove a part": lambda: remove_holdings(here, [name], lambda _: None, only=["*.gel"]),
            "forget": lambda: forget_holdings(here, [name]),
            "undo": lambda: undo(here, Access()),
            "undo a number": lambda: undo(here, Access(), number),
            "redo": lambda: redo(here, Access()),
            "repair": lambda: repair(here, name, Access(), None, gives_back_changed=False),
        }
        return f"{kind} {name}", doings[kind]

    def _claimed(self) -> tuple[str, dict[str, str]]:
        """A pack with some files as they are there, which come and go with it from now on."""
        pack, files = self._pack()
        there = {name: self._content(self._path(name)) for name in NAMES}
        files |= {name: content for name, content in there.items() if content and self.chance.random() < 0.5}
        self.mine.difference_update(files.values())
        self.given.update(files.values())
        return pack, files

    def _add(self, archive: Path, update: str | None, **options: object) -> None:
        added = self.world.add(archive, update=update, **options)
        if added.error:
            raise added.error

    def run(self, doing: Callable[[], object], kill: int | None = None) -> None:
        """Run something, perhaps killed; only what is told in three sentences may come of it."""

        def told() -> None:
            try:
                doing()
            except UsufructError as error:
                self.tale.append(f"  told: {error}")

        before = self.tale
        if kill is None:
            told()
        else:
            point = killed_at(self.world, told, kill)
            before.append(f"  killed at {point}" if point else "  came to its end")

    def recover(self) -> None:
        with self.world.context.writing("recover"):
            pass

    # --- what happens between -----------------------------------------------------------------------------

    def act(self) -> None:
        """Something that a person, another program or the machine does meanwhile."""
        acts = [
            self._edits, self._edits, self._edits_in_place, self._deletes, self._renames, self._touches, self._restores,
            self._rounds, self._links_a_folder, self._drops_junk, self._damages_a_backup, self._makes_folder,
            self._unplugs, self._writes_the_second_name, self._moves,
        ]  # fmt: skip
        self.chance.choice(acts)()

    def _edits(self) -> None:
        self._write(self.chance.choice(NAMES))

    def _edits_in_place(self) -> None:
        self._write(self.chance.choice(NAMES), in_place=True)

    def _some_file(self) -> Path | None:
        found = sorted(path for path in self.world.lanternbox.rglob("*") if path.is_file() and path.name != ".stick")
        return self.chance.choice(found) if found else None

    def _deletes(self) -> None:
        if path := self._some_file():
            self._overwritten(path)
            self.tale.append(f"delete {path.name}")
            path.unlink()

    def _renames(self) -> None:
        if path := self._some_file():
            self.counted += 1
            self.tale.append(f"rename {path.name} to {self.counted}-{path.name}")
            path.rename(path.with_name(f"{self.counted}-{path.name}"))

    def _touches(self) -> None:
        if path := self._some_file():
            self.tale.append(f"touch {path.name}")
            os.utime(path)

    def _restores(self) -> None:
        """The folder comes back from a backup: the same content under new inodes."""
        if self.world.lanternbox.is_symlink() or not self.world.lanternbox.is_dir():
            return
        self.tale.append("the folder is restored from a copy")
        copy = self.world.lanternbox.with_name("copy")
        shutil.copytree(self.world.lanternbox, copy, symlinks=True)
        shutil.rmtree(self.world.lanternbox)
        copy.rename(self.world.lanternbox)

    def _rounds(self) -> None:
        """Another system's driver keeps times to two seconds."""
        self.tale.append("all times are rounded")
        for path in self._everywhere():
            seconds = path.stat().st_mtime_ns // 2_000_000_000 * 2
            os.utime(path, (seconds, seconds))

    def _links_a_folder(self) -> None:
        """A folder is moved elsewhere, and a link left in its place; later it comes back."""
        folder = self._path(self.chance.choice(["Gels", "Puppets", "Puppets/Owl"]))
        away = self.world.folder / "apps" / "moved"
        if folder.is_symlink():
            self.tale.append(f"the link {folder.name} becomes the folder again")
            folder.unlink()
            if away.exists():
                away.rename(folder)
        elif folder.is_dir() and not away.exists():
            self.tale.append(f"{folder.name} is moved away, and a link is in its place")
            folder.rename(away)
            folder.symlink_to(away)

    def _drops_junk(self) -> None:
        self.tale.append("junk in every directory of ours")
        paths = self.world.paths
        for top in (paths.backups, paths.notes, paths.data):
            for directory in (top, *top.rglob("*/")):
                if directory.is_dir():
                    (directory / ".DS_Store").write_text("junk")

    def _damages_a_backup(self) -> None:
        kept = sorted(path for path in self.world.paths.backups.rglob("*") if len(path.name) == 64 and path.is_file())
        if kept:
            path = self.chance.choice(kept)
            seen = self._content(path)
            if path.stat().st_nlink == 1:
                self.tale.append(f"the backup of {seen} is damaged")
                self.mine.discard(seen or "")
                path.chmod(0o644)
                path.write_text("rotten")

    def _moves(self) -> None:
        """The whole folder moves, which is said, and comes back, which is said too."""
        here, there = self.world.lanternbox, self.world.lanternbox.with_name("Relocated")
        if self.unplugged or here.is_symlink() or not here.is_dir():
            return
        self.tale.append("the folder is moved and comes back")
        for old, new in ((here, there), (there, here)):
            old.rename(new)
            try:
                say_moved(self.world.context_with_definitions(), str(old), str(new))
            except UsufructError as error:
                self.tale.append(f"  told: {error}")
                if new == there:
                    new.rename(old)
                    return

    def _makes_folder(self) -> None:
        name = self.chance.choice(["Gels/mine", "Puppets/Owl/mine", "Backdrops/Night"])
        path = self._path(name)
        if path.parent.is_dir() and not path.exists():
            self.tale.append(f"make {name} with a file")
            path.mkdir()
            self._write(f"{name}/note.txt")

    def _writes_the_second_name(self) -> None:
        """Through another name of the same file: where both are one, both change."""
        elsewhere = self.world.folder / "elsewhere"
        if not elsewhere.is_file():
            return
        seen = self._content(elsewhere)
        shared = [path for path in self._everywhere() if path != elsewhere and path.samefile(elsewhere)]
        others = [path for path in self._everywhere() if not path.samefile(elsewhere) and self._content(path) == seen]
        self.counted += 1
        # A backup or anything else of ours that changed with it would be a loss, unless the user's own name did.
        if seen in self.mine and (shared or seen != self.claimed) and not others:
            self.mine.discard(seen)
        if shared:
            self.claimed = f"mine {self.counted}"
        self.mine.add(f"mine {self.counted}")
        self.tale.append(f"write through the second name: mine {self.counted}")
        with elsewhere.open("r+") as file:
            file.truncate()
            file.write(f"mine {self.counted}")

    def _unplugs(self) -> None:
        """The drive is pulled out: an empty mount point stays."""
        root, drawer = self.world.lanternbox, self.world.folder / "drawer"
        if self.unplugged:
            self.plug_in()
        elif self.other and (root / ".stick").exists() and not root.is_symlink():
            self.tale.append("the drive is pulled out")
            root.rename(drawer)
            root.mkdir()
            self.unplugged = True

    def plug_in(self) -> None:
        """The drive is there again; whatever lies in the mount point was put there by the user."""
        root, drawer = self.world.lanternbox, self.world.folder / "drawer"
        if self.unplugged:
            self.tale.append("the drive is plugged in again")
            own = self.mine | self.given
            found = [path for path in root.rglob("*") if path.is_file() and self._content(path) not in own]
            if found:
                raise Lost(f"something was written to the place of the drive that is away: {found}")
            for path in [one for one in root.rglob("*") if one.is_file()]:
                self.mine.discard(self._content(path) or "")
            shutil.rmtree(root)
            drawer.rename(root)
            self.unplugged = False

    # --- the walk -----------------------------------------------------------------------------------------

    def walk(self) -> None:
        """The whole of it; raises Lost with what is missing."""
        if self.other:
            (self.world.lanternbox / ".stick").write_text("stick")
        mounted = mock.patch("usufruct.survey.drives.mount_point", self._mount_point)
        with mounted, no_trash():
            for _ in range(self.chance.randint(0, 2)):
                self._do()
            for _ in range(self.chance.randint(1, 3)):
                self._do(is_killed=True)
                for _ in range(self.chance.randint(0, 3)):
                    self.act()
                for _ in range(self.chance.randint(0, 2)):
                    self.tale.append("recover, killed")
                    self.run(self.recover, self.chance.randint(0, 12))
                    if self.chance.random() < 0.4:
                        self.act()
                if self.unplugged:
                    self._others_work()
            self._end()
        self.judge()

    def _do(self, *, is_killed: bool = False) -> None:
        if self.unplugged and (self.chance.random() < 0.5 or not list_holdings(self.world.context)):
            # Without a holding there nobody can know that the folder is a drive's.
            self.plug_in()
        words, doing = self.command()
        self.tale.append(words)
        self.run(doing, self.chance.randint(0, 45) if is_killed else None)

    def _others_work(self) -> None:
        """Another application is not kept from anything by a drive that is away."""
        loom = self.world.archive("loom.zip", {"drafts/a.weft": "w"})
        self.tale.append("another application's archive is added and removed")
        self._add(loom, None)
        self.world.remove("loom")

    def _end(self) -> None:
        """All drives are there, no link is left, and every holding is removed as far as that goes."""
        self.plug_in()
        for _ in range(3):
            link = next((one for one in self.world.lanternbox.rglob("*") if one.is_symlink() and one.is_dir()), None)
            if link:
                self.tale.append(f"at the end the link {link.name} becomes the folder again")
                target = link.resolve()
                link.unlink()
                target.rename(link)
        self.tale.append("recover, to the end")
        self.recover()
        self.recover()
        with read_ledger(self.world.paths.ledger) as ledger:
            if ledger and not is_tidy(ledger):
                raise Lost("something is still to be recovered or tidied")
        for name in sorted(one.name for one in list_holdings(self.world.context)):
            self.tale.append(f"at the end, remove {name}")
            self.run(lambda name=name: self.world.remove(name))  # type: ignore[misc]

    def judge(self) -> None:
        """Raise Lost for what is nowhere, and for what of ours was left lying about."""
        found = {self._content(path) for path in self._everywhere()}
        with read_ledger(self.world.paths.ledger) as ledger:
            backups = Backups(self.world.paths.backups, self.world.platform)
            kept = needed_backups(ledger) if ledger else set()
            beneath = {digest for digest in kept if backups.is_sound(digest)}
        aside = {path.read_text(errors="replace") for path in map(Path, backups.set_aside())}
        lost = {
            one for one in self.mine - found - aside if blake3(one.encode()).digest() not in beneath
        }  # fmt: skip
        if lost:
            raise Lost(f"nowhere any more: {sorted(lost)}")
        # A folder that was moved took along what stood beside it.
        if (strays := self.world.strays()) and not any("moved away" in line for line in self.tale):
            raise Lost(f"left lying about: {strays}")

    def close(self) -> None:
        """Remove what lies outside of the world's folder."""
        if self.other:
            shutil.rmtree(self.other, ignore_errors=True)


def walked(seed: int) -> str:
    """Walk once; gives the tale with what went wrong, or nothing."""
    with tempfile.TemporaryDirectory(prefix="usufruct-between-", dir=IN_MEMORY) as folder:
        one = Between(Path(folder).resolve(), seed)
        try:
            one.walk()
        except BaseException:  # noqa: BLE001 - whatever it is, the tale belongs to it
            return "\n".join([*one.tale, traceback.format_exc()])
        finally:
            one.close()
    return ""


def main() -> int:
    """Walk as often as is said; ends with 1 if anything was lost."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--count", type=int, default=200)
    parser.add_argument("--first", type=int, default=0, help="the first seed")
    parser.add_argument("--seed", type=int, help="only this one, with its tale")
    words = parser.parse_args()
    seeds = [words.seed] if words.seed is not None else range(words.first, words.first + words.count)
    failed = 0
    for seed in seeds:
        tale = walked(seed)
        if tale:
            failed += 1
            sys.stdout.write(f"{tale}\n\n")
    sys.stdout.write(f"{len(seeds)} walks, {failed} failed\n")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
