"""Staging directories stand where others may write: what they put there stays, and nothing is done through it."""

import os
import subprocess
import unittest
from collections.abc import Callable
from pathlib import Path

from msgspec.structs import replace

from tests.support import WorldTest
from tests.transaction.kills import killed_at
from usufruct.actions.context import Context
from usufruct.actions.demonstration import differences
from usufruct.actions.listing import list_holdings
from usufruct.actions.undoing import undo
from usufruct.archives.reading import Access
from usufruct.errors import StoreError
from usufruct.files.platform import this_platform
from usufruct.files.staging import Staging, drop_staging, expecting, make_staging, staging_for
from usufruct.transaction.recover import Recovered
from usufruct.transaction.work import Work

PACK = {"gels/moon.gel": "theirs", "gels/new.gel": "new", "Owl/rig.toml": "owl", "Owl/deep/a.svg": "a"}
NEWER = {"gels/moon.gel": "newer", "Owl/rig.toml": "owl 2"}
FORKS = this_platform().can_fork


class StagingTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.write({"Gels/moon.gel": "mine"})
        self.treasure = self.world.folder / "treasure"
        self.treasure.mkdir()
        (self.treasure / "moon.gel").write_text("not yours")

    def test_a_path_is_shown_without_the_descriptor_that_it_goes_through(self) -> None:
        staging = Staging("/apps/Box", "/apps/.usufruct-1", 0)
        for held, shown in (("/proc/self/fd/9", "/apps/.usufruct-1/in/a"), ("", "/proc/self/fd/9/in/a")):
            work = Work(resources=None, change=1, stagings=[replace(staging, held=held)])  # type: ignore[arg-type]
            self.assertEqual(work.shown("/proc/self/fd/9/in/a"), shown)

    def recovered(self) -> Recovered:
        told: list[Recovered] = []
        context = Context(paths=self.world.paths, platform=self.world.platform, on_recovery=told.append)
        with context.writing("recover"):
            pass
        return told[0] if told else Recovered()

    def strangers_in(self, staging: Path) -> list[Path]:
        """Put a letter, an empty folder, a full one and a link into every directory of a staging directory."""
        made = []
        for directory in [staging, *(path for path in staging.rglob("*") if path.is_dir() and not path.is_symlink())]:
            letter, hollow, link = directory / "letter.txt", directory / "hollow", directory / "link"
            letter.write_text("dear")
            hollow.mkdir()
            (directory / "full").mkdir()
            (directory / "full" / "moon.gel").write_text("dear")
            link.symlink_to(self.treasure)
            made += [letter, hollow, directory / "full" / "moon.gel", link]
        return made

    def after_each_kill(self, action: Callable[[], object]) -> set[str]:
        """Kill an action at each of its points, let somebody write into what is left, recover, and look."""
        seen: set[str] = set()
        for number in range(200):
            before, was = self.world.tree(), len(list_holdings(self.world.context))
            name = killed_at(self.world, action, number)
            strays = [Path(path) for path in self.world.strays()]
            if name is None:
                return seen
            seen.add(name)
            strangers = [one for stray in strays for one in self.strangers_in(stray)]
            with self.subTest(point=name, number=number):
                untidied = self.recovered().untidied
                # One in a directory that was taken out as a whole came back into the application's folder with it.
                back = [one for one in strangers if not os.path.lexists(one)]
                names = ("letter.txt", "hollow", "full", "link")
                places = [place for name in names for place in self.world.lanternbox.rglob(name)]
                self.assertEqual(len(places), len(back))
                subprocess.run(["rm", "-rf", *places], check=True)
                strangers = [one for one in strangers if one not in back]
                self.assertEqual((self.treasure / "moon.gel").read_text(), "not yours")
                self.assertEqual(len([one for one in untidied if "letter.txt" in one]), len(strangers) // 4)
                for stray in strays:
                    subprocess.run(["rm", "-rf", *[one for one in strangers if stray in one.parents]], check=True)
                    for full in stray.rglob("full"):
                        full.rmdir()
                self.recovered()
                self.assertEqual(self.world.strays(), [])
                if len(list_holdings(self.world.context)) == was:
                    differing = differences(before, self.world.tree())
                    self.assertEqual([one for one in differing if not back or "in mode or time" not in one], [])
                else:
                    self.world.context_with_definitions()
                    undo(self.world.context, Access())
        raise AssertionError("it never ends")

    @unittest.skipUnless(FORKS, "needs processes that are forked")
    def test_what_somebody_put_there_while_a_change_was_cut_off_stays(self) -> None:
        """A letter was removed with the rest."""
        pack = self.world.archive("pack.zip", PACK)
        self.assertLess({"staged-one", "switched", "done"}, self.after_each_kill(lambda: self.world.add(pack)))

    @unittest.skipUnless(FORKS, "needs processes that are forked")
    def test_the_same_while_a_holding_is_taken_out(self) -> None:
        self.world.add_files("pack.zip", PACK)
        self.assertLess({"set-out", "done"}, self.after_each_kill(lambda: self.world.remove("pack")))

    @unittest.skipUnless(this_platform().descriptors, "held by a path where there are no descriptors")
    def test_a_staging_directory_that_is_swapped_for_a_link_is_not_written_through(self) -> None:
        """Whoever may write beside it put a link there, and the content was written where that led."""
        moved = self.world.folder / "moved"
        seen: set[str] = set()

        def swap(name: str) -> None:
            if name == "staging-made":
                (staging,) = map(Path, self.world.strays())
                staging.rename(moved)
                for inside in ("in/Lanternbox/Gels", "in/Lanternbox/Puppets/Owl/deep", "out"):
                    (self.treasure / inside).mkdir(parents=True, exist_ok=True)
                staging.symlink_to(self.treasure)
            seen.update(path.name for path in self.treasure.rglob("*") if path.is_file())

        self.world.checkpoint = swap
        self.world.add(self.world.archive("pack.zip", PACK))
        self.world.checkpoint = lambda _: None
        self.assertEqual(seen, {"moon.gel"})  # not even on the way
        (untidied,) = self.recovered().untidied
        self.assertIn("none of Usufruct's", untidied)
        self.assertEqual([path.name for path in self.treasure.rglob("*") if path.is_file()], ["moon.gel"])
        (link,) = map(Path, self.world.strays())
        link.unlink()
        self.world.remove("pack")
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "mine"})

    def test_what_belongs_to_another_user_is_none_of_ours(self) -> None:
        base = self.world.lanternbox
        staging = staging_for(str(base))
        Path(staging.path).mkdir()
        if not hasattr(os, "chown") or os.geteuid():
            self.skipTest("only the superuser can give a directory away")
        os.chown(staging.path, 12345, 12345)
        with self.assertRaisesRegex(StoreError, "none of Usufruct's"):
            drop_staging(staging, self.world.platform)
        self.assertTrue(Path(staging.path).is_dir())

    def test_a_drive_that_is_mounted_in_it_is_not_emptied(self) -> None:
        base, platform = str(self.world.lanternbox), self.world.platform
        made = make_staging(expecting(staging_for(base), [(f"{base}/Gels", ["moon.gel"])]), platform)
        place = Path(made.path, "in", "Gels")
        place.mkdir()
        if subprocess.run(["mount", "-t", "tmpfs", "none", place], capture_output=True, check=False).returncode:
            self.skipTest("nothing can be mounted here")
        try:
            (place / "moon.gel").write_text("on another drive")
            self.assertEqual(drop_staging(made, platform), [str(place)])
            self.assertEqual((place / "moon.gel").read_text(), "on another drive")
        finally:
            subprocess.run(["umount", place], check=True)
        self.assertEqual(drop_staging(made, platform), [])
        self.assertFalse(os.path.lexists(made.path))

    def test_only_names_that_were_to_be_staged_go(self) -> None:
        base, platform = str(self.world.lanternbox), self.world.platform
        names = [(base, ["top.gel"]), (f"{base}/Gels/a/b", ["deep.gel", "odd\nname"]), ("/elsewhere", ["moon.gel"])]
        made = make_staging(expecting(staging_for(base), names), platform)
        for path in ("in/top.gel", "in/Gels/a/b/deep.gel", "in/Gels/a/b/odd\nname", "out/12/deep.gel", "out/7.growing"):
            Path(made.path, path).parent.mkdir(parents=True, exist_ok=True)
            Path(made.path, path).write_text("staged")
        for path in ("in/Gels/top.gel", "in/Gels/a/moon.gel", "out/12/letter"):
            Path(made.path, path).write_text("dear")
        left = [os.path.relpath(path, made.path) for path in drop_staging(made, platform)]
        self.assertEqual(sorted(left), ["in/Gels/a/moon.gel", "in/Gels/top.gel", "out/12/letter"])
        self.assertEqual(len([one for one in Path(made.path).rglob("*") if one.is_file()]), 3)


if __name__ == "__main__":
    unittest.main()
