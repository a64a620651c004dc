"""The disk with Usufruct's own data is full or may not be written: reading goes on, and so does making room."""

import os
import stat
import subprocess
import unittest
from pathlib import Path

from tests.support import World, WorldTest, run_program
from tests.transaction.drive import CAN_MOUNT
from tests.transaction.kills import killed_at
from usufruct.actions.demonstration import differences
from usufruct.actions.listing import list_holdings
from usufruct.errors import MachineError
from usufruct.files.reserve import spare_on

PACK = {f"gels/{number}.gel": f"{number}" * 400 for number in range(300)}
READING = (
    "whose apps/Lanternbox/Gels/moon.gel",
    "check --store",
    "look downloads/other.zip",
    "add downloads/other.zip --dry-run",
    "downloads",
    "archives",
)


@unittest.skipUnless(CAN_MOUNT, "no file system can be mounted here")
class FullDiskTest(WorldTest):
    """All of a world on one disk, as on most machines."""

    def setUp(self) -> None:
        super().setUp()
        image, mount = self.world.folder / "disk.img", self.world.folder / "disk"
        mount.mkdir()
        with image.open("wb") as file:
            file.truncate(200 << 20)
        subprocess.run(["mkfs.ext4", "-q", "-F", "-m", "0", image], check=True)
        subprocess.run(["mount", "-o", "loop", image, mount], check=True)
        self.addCleanup(subprocess.run, ["umount", "-l", mount], check=True)
        self.mount = mount
        self.world = World(mount)
        self.world.context_with_definitions()
        self.world.write({"Gels/moon.gel": "mine"})
        self.before = self.world.tree()
        self.world.add_files("pack.zip", {**PACK, "gels/moon.gel": "theirs"})
        self.world.archive("other.zip", {"gels/sun.gel": "sun"})

    def fill(self) -> Path:
        filler = self.mount / "filler"
        with filler.open("wb", buffering=0) as file:
            for size in (1 << 20, 1 << 12, 1):
                try:
                    while True:
                        file.write(bytes(size))
                except OSError:
                    pass
        return filler

    def read_all(self) -> list[tuple[str, int, str]]:
        """What every command that only reads says."""
        told = []
        for words in READING:
            around = {"home": self.world.paths.data, "USUFRUCT_DOWNLOADS": str(self.mount / "downloads")}
            done = run_program(*words.split(), cwd=self.mount, **around)
            # How old a download is changes by itself.
            told.append((words, done.returncode, "" if words == "downloads" else done.stdout))
            self.assertIn(done.returncode, (0, 1, 3), (words, done.stderr))
        return told

    def test_reading_goes_on_and_a_removal_makes_room(self) -> None:
        told = self.read_all()
        filler = self.fill()
        self.assertEqual(self.read_all(), told)
        killed_at(self.world, lambda: self.world.remove("pack"), 0, "switched-all")
        self.assertEqual(len(list_holdings(self.world.context)), 1)
        self.world.remove("pack")
        self.assertEqual(differences(self.before, self.world.tree()), [])
        filler.unlink()
        self.world.add_files("again.zip", PACK)
        self.assertTrue(self.world.paths.reserve.exists())

    def test_reading_goes_on_where_nothing_may_be_written(self) -> None:
        killed_at(self.world, lambda: self.world.add(self.mount / "downloads" / "other.zip"), 0, "switched-all")
        # What is on record and not yet in the ledger itself is told as well.
        self.assertGreater((self.world.paths.data / "ledger.sqlite3-wal").stat().st_size, 0)
        wanted = [holding.name for holding in list_holdings(self.world.context)]
        killed_at(self.world, lambda: self.world.add(self.mount / "downloads" / "other.zip"), 0, "switched-all")
        subprocess.run(["mount", "-o", "remount,ro", self.mount], check=True)
        self.assertEqual([holding.name for holding in list_holdings(self.world.context)], wanted)
        self.read_all()
        with self.assertRaisesRegex(OSError, "Read-only"):
            self.world.remove("pack")

    def test_what_is_kept_free_is_a_share_of_the_drive_and_told(self) -> None:
        spare = spare_on(str(self.mount))
        self.assertLess(spare, 2 << 20)
        free = os.statvfs(self.mount).f_bavail * os.statvfs(self.mount).f_frsize
        filler = self.mount / "filler"
        with filler.open("wb") as file:
            file.write(bytes(free - spare - (1 << 20)))
        added = self.world.add(self.world.archive("big.zip", {"gels/big.gel": "b" * (2 << 20)}))
        self.assertIsInstance(added.error, MachineError)
        self.assertIn(f"2,097,152 are needed. Another {spare:,} must stay free", str(added.error))
        self.assertEqual(self.world.add(self.mount / "downloads" / "other.zip").state, "added")


class PrivateTest(WorldTest):
    def test_what_is_ours_is_the_users_alone_from_the_first(self) -> None:
        """The log made the directory first, and the ledger had the mode that a file usually has."""
        home = self.world.folder / "nowhere" / "yet"
        old = os.umask(0)
        self.addCleanup(os.umask, old)
        pack = self.world.archive("pack.zip", {"a.txt": "a", "b.txt": "b"})
        run_program("add", str(pack), "--to", str(self.world.lanternbox), home=home)
        run_program("settings", "set", "patience", "7", home=home)
        run_program("look", "-", home=home)
        modes = {path: stat.S_IMODE(path.stat().st_mode) for path in [home, *home.rglob("*")] if path.exists()}
        self.assertTrue({"ledger.sqlite3", "log", "lock", "reserve"} <= {path.name for path in modes})
        # Those in a directory that nobody else enters are as the user's mask has them.
        self.assertEqual(
            {path.name for path in (home, home.parent) if stat.S_IMODE(path.stat().st_mode) != 0o700}, set()
        )
        self.assertEqual(
            {path.name for path, mode in modes.items() if path.suffix == ".sqlite3" and mode != 0o600}, set()
        )
        self.assertEqual(modes[home / "log"], 0o600)


if __name__ == "__main__":
    unittest.main()


@unittest.skipUnless(CAN_MOUNT, "no file system can be mounted here")
class ReadOnlyDriveTest(WorldTest):
    def test_a_drive_that_can_only_be_read_is_named_as_that_and_once_for_all_archives(self) -> None:
        self.world.context_with_definitions()
        content = self.world.lanternbox
        subprocess.run(["mount", "-t", "tmpfs", "none", content], check=True)
        self.addCleanup(subprocess.run, ["umount", "-l", content], check=True)
        self.world.add_files("moon.zip", {"gels/moon.gel": "moon"})
        for name in ("sun", "star"):
            self.world.archive(f"{name}.zip", {f"gels/{name}.gel": name})
        subprocess.run(["mount", "-o", "remount,ro", content], check=True)
        where = {"cwd": self.world.folder / "downloads", "home": self.world.paths.data, "COLUMNS": "400"}
        for words in ("add sun.zip star.zip", "remove moon"):
            done = run_program(*words.split(), **where)
            self.assertEqual(done.returncode, 5, done.stderr)
            self.assertEqual(done.stderr.count(f"The drive at {content} can only be read."), 1, done.stderr)
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "moon"})
