"""The machine says no, for real: a full volume, no permission, a folder that vanishes, two commands at once."""

import io
import os
import random
import shutil
import subprocess
import sys
import tarfile
import tempfile
import threading
import unittest
from pathlib import Path
from unittest import mock

from tests.support import IN_MEMORY, WorldTest, run_program, zip_bytes
from usufruct.actions.demonstration import differences
from usufruct.errors import Busy, MachineError
from usufruct.files.file_systems import file_system_of

IS_ROOT = hasattr(os, "geteuid") and os.geteuid() == 0
NOBODY = 65534


class FailuresTest(WorldTest):
    where = None  # on a disk, and another volume than memory

    def test_a_missing_root_asks_for_its_drive(self) -> None:
        shutil.rmtree(self.world.lanternbox)
        added = self.world.add(self.world.archive("sky.zip", {"gels/moon.gel": "m"}))
        self.assertEqual(added.error.exit_code, 5)
        self.assertIn("Is its drive connected?", added.error.remedy)

    def test_a_folder_that_vanishes_in_the_middle(self) -> None:
        self.world.write({"Gels/moon.gel": "mine", "Backdrops/sky.png": "mine"})

        def vanish(name: str) -> None:
            if name == "intent":
                shutil.rmtree(self.world.lanternbox / "Backdrops")

        self.world.checkpoint = vanish
        with self.assertRaises(MachineError) as caught:
            raise self.world.add(
                self.world.archive("sky.zip", {"gels/moon.gel": "theirs", "Backdrops/sky.png": "theirs"})
            ).error
        self.assertIn("everse", caught.exception.kept)
        self.assertEqual(self.world.contents()["Gels/moon.gel"], "mine")
        self.assertEqual(self.world.strays(), [])

    def test_holes_stay_holes_and_count_for_no_room(self) -> None:
        """A tar of 20 kB took 6.4 GB on disk."""
        size = 1 << 30
        if not file_system_of(str(self.world.lanternbox), self.world.platform).has_holes:
            self.skipTest("this file system has no holes")
        archive = self.world.folder / "downloads" / "big.tar"
        info = tarfile.TarInfo("gels/big.gel")
        info.size = 512
        info.pax_headers = {"GNU.sparse.map": "0,512", "GNU.sparse.size": str(size), "GNU.sparse.name": info.name}
        with tarfile.open(archive, "w", format=tarfile.PAX_FORMAT) as made:
            made.addfile(info, io.BytesIO(b"x" * 512))
        with mock.patch("shutil.disk_usage", return_value=shutil._ntuple_diskusage(1 << 30, 0, 200 << 20)):
            with mock.patch("usufruct.files.file_systems._SPARSE", frozenset()):
                refused = self.world.add(archive)
            added = self.world.add(archive)
        self.assertIn("not enough room", refused.error.message)
        self.assertEqual((added.state, added.error), ("added", None))
        found = (self.world.lanternbox / "Gels/big.gel").stat()
        self.assertEqual((found.st_size, found.st_blocks * 512 < 1 << 20), (size, True))
        self.world.remove("big")
        self.assertEqual(self.world.contents(), {})

    def test_a_file_larger_than_the_volume_can_hold_is_refused_by_name(self) -> None:
        from usufruct.actions.examine import examined
        from usufruct.files.file_systems import FileSystem
        from usufruct.model.name_rules import NameRules
        from usufruct.survey.room import check_room

        path = self.world.archive("sky.zip", {"gels/moon.gel": "m" * 5000})
        with examined(self.world.context, [path], self.world.request(), None, for_adding=False) as found:
            small = FileSystem("vfat", NameRules(), 4096)
            with self.assertRaisesRegex(MachineError, r"gels/moon\.gel has 5,000 bytes, more than one file can have"):
                check_room(found.plan, lambda _: small, str(self.world.paths.data))

    @unittest.skipUnless(IS_ROOT and sys.platform.startswith("linux"), "needs the right to mount")
    def test_a_full_volume_is_told_before_and_reversed_when_it_fills_up_meanwhile(self) -> None:
        mount = self.world.folder / "apps" / "Lanternbox"
        if subprocess.run(["mount", "-t", "tmpfs", "-o", "size=8m", "tmpfs", mount], capture_output=True).returncode:
            self.skipTest("no file system can be mounted here")
        self.addCleanup(subprocess.run, ["umount", "-l", mount], capture_output=True)
        self.world.write({"Gels/moon.gel": "mine"})
        before = self.world.tree()
        big = {"gels/moon.gel": "theirs", "gels/big.gel": random.Random(7).randbytes(8_350_000)}
        refused = self.world.add(self.world.archive("big.zip", big))
        self.assertEqual(refused.state, "refused")
        self.assertIn("not enough room", refused.error.message)
        self.assertEqual(differences(before, self.world.tree()), [])
        small = {"gels/moon.gel": "theirs", "gels/big.gel": random.Random(7).randbytes(1_000_000)}

        def fill(name: str) -> None:
            if name == "staging-made":
                with (mount / "filler").open("wb") as file:
                    try:
                        while True:
                            file.write(bytes(1 << 16))
                    except OSError:
                        pass

        self.world.checkpoint = fill
        failed = self.world.add(self.world.archive("small.zip", small))
        self.assertEqual(failed.state, "failed")
        self.assertIn("No space left", failed.error.message)
        (mount / "filler").unlink()
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "mine"})
        self.assertEqual(self.world.strays(), [])

    @unittest.skipUnless(IS_ROOT and hasattr(os, "chown"), "needs the right to become another user")
    def test_a_folder_that_may_not_be_written_is_told_before_anything_is_begun(self) -> None:
        # What is imported when it is needed must be there before: the other user may not read it.
        self.world.add_files("first.zip", {"gels/sun.gel": "sun"})
        self.world.remove("first")
        self.world.write({"Gels/moon.gel": "mine"})
        for path in [self.world.folder, *self.world.folder.rglob("*")]:
            os.chown(path, NOBODY, NOBODY)
        (self.world.lanternbox / "Gels").chmod(0o555)
        archive = self.world.archive("sky.zip", {"gels/moon.gel": "theirs"})
        child = os.fork()
        if not child:
            code = 1
            try:
                os.setgid(NOBODY)
                os.setuid(NOBODY)
                added = self.world.add(archive)
                code = 0 if added.error and "may not be written" in added.error.message else 2
            finally:
                os._exit(code)
        self.assertEqual(os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]), 0)
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "mine"})

    def test_backups_on_another_volume_are_copied_checked_and_given_back(self) -> None:
        if not IN_MEMORY or os.stat(IN_MEMORY).st_dev == os.stat(self.world.folder).st_dev:
            self.skipTest("there is only one volume here")
        with tempfile.TemporaryDirectory(dir=IN_MEMORY) as other:
            from usufruct.files.state_paths import StatePaths

            self.world.paths = StatePaths(Path(other), Path(other))
            self.world.write({"Gels/moon.gel": "mine"})
            before = self.world.tree()
            self.world.add_files("a.zip", {"gels/moon.gel": "a"})
            self.world.add_files("b.zip", {"gels/moon.gel": "b"})
            self.world.remove("a", "b")
            self.assertEqual(differences(before, self.world.tree()), [])


class TwoAtOnceTest(WorldTest):
    where = None

    def test_the_second_waits_says_for_whom_and_ends_with_6(self) -> None:
        with self.world.context.writing("add a large pack"):
            done = run_program("remove", "x", home=self.world.paths.data, cwd=self.world.folder, USUFRUCT_PATIENCE="0")
        self.assertEqual(done.returncode, Busy.exit_code)
        self.assertIn("add a large pack", done.stderr)

    def test_many_at_once_take_turns_and_none_is_lost(self) -> None:
        names = [f"pack{number}" for number in range(6)]
        for name in names:
            (self.world.folder / f"{name}.zip").write_bytes(zip_bytes({"moon.txt": name, f"{name}.txt": name}))
        results: dict[str, int] = {}

        def add(name: str) -> None:
            words = ("add", f"{name}.zip", "--to", "out")
            home = self.world.paths.data
            results[name] = run_program(*words, home=home, cwd=self.world.folder, USUFRUCT_PATIENCE="60").returncode

        threads = [threading.Thread(target=add, args=(name,)) for name in names]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(set(results.values()), {0})
        checked = run_program("check", home=self.world.paths.data, cwd=self.world.folder)
        self.assertEqual(checked.returncode, 0, checked.stdout + checked.stderr)
        removed = run_program("remove", *names, home=self.world.paths.data, cwd=self.world.folder)
        self.assertEqual(removed.returncode, 0, removed.stderr)
        self.assertFalse((self.world.folder / "out").exists())


if __name__ == "__main__":
    unittest.main()
