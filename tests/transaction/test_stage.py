"""Writing staged files over threads: complete, hashed, and nothing left running when something fails."""

import os
import random
import signal
import threading
import time
import unittest
from array import array
from collections.abc import Iterator, Sequence
from itertools import chain
from pathlib import Path
from unittest import mock

from blake3 import blake3

from tests.archives.case import ArchiveCase
from tests.archives.rar4_writer import Packed, archive4
from tests.archives.rar_packer import packed3
from tests.support import tar_bytes, zip_bytes
from tests.systems import is_windows
from usufruct.archives.rar import unpacking
from usufruct.archives.reading import Archive
from usufruct.errors import DamagedArchive, MachineError
from usufruct.files.platform import this_platform
from usufruct.model.entries import EntryKind
from usufruct.transaction import stage
from usufruct.transaction.by_processes import Turns, by_processes
from usufruct.transaction.by_threads import by_threads
from usufruct.transaction.jobs import Job, Jobs
from usufruct.transaction.place import ProgramsFound
from usufruct.transaction.stage import stage_files

MODE = 0o644 if is_windows() else 0o640


def jobs_below(target: Path, archive: Archive) -> Jobs:
    """Every file of an archive, each called by its row."""
    sizes = archive.listing.sizes
    rows = [row for row, kind in enumerate(archive.listing.kinds) if kind == EntryKind.FILE]
    return Jobs(rows, sizes, lambda row: Job(row, str(target / str(row)), sizes[row], 10**18, MODE))


class StageTest(ArchiveCase):
    # By a seed: what begins by chance with an arrow would be packed as a link.
    FILES = {f"d{n % 3}/f{n:03}": random.Random(n).randbytes(n * 97) for n in range(120)}  # noqa: RUF012

    def setUp(self) -> None:
        super().setUp()
        self.target = self.folder / "target"
        self.target.mkdir()
        patched = mock.patch("os.cpu_count", lambda: 4)
        patched.start()
        self.addCleanup(patched.stop)

    def jobs(self, archive: Archive) -> Jobs:
        return jobs_below(self.target, archive)

    def test_divided_or_in_order_every_file_is_whole(self) -> None:
        for content in (zip_bytes(self.FILES), tar_bytes(self.FILES)):
            archive = self.opened(content)
            staged = dict(chain.from_iterable(stage_files(archive, self.jobs(archive))))
            self.assertEqual(len(staged), len(self.FILES))
            for row, state in staged.items():
                expected = self.FILES[archive.listing.path(row)]
                path = self.target / str(row)
                self.assertEqual(path.read_bytes(), expected)
                self.assertEqual(state.digest, blake3(expected).digest())
                self.assertEqual((state.size, state.modified, state.mode), (len(expected), 10**18, MODE))
                path.unlink()

    @unittest.skipUnless(this_platform().can_fork, "needs processes that are forked")
    def test_what_python_itself_unpacks_is_unpacked_side_by_side(self) -> None:
        files = {name: content[:3000] for name, content in list(self.FILES.items())[1:9]}
        members = [Packed(name, content, packed3([list(content)])) for name, content in files.items()]
        with mock.patch.object(unpacking, "library_version", lambda: None):
            archive = self.opened(archive4(members)[0])
            self.assertTrue(archive.facts.is_slow)
            with mock.patch("usufruct.transaction.stage.by_processes", wraps=by_processes) as divided:
                staged = dict(chain.from_iterable(stage_files(archive, self.jobs(archive), may_fork=True)))
            self.assertEqual(divided.call_count, 1)
        for row, state in staged.items():
            self.assertEqual(state.digest, blake3(files[archive.listing.path(row)]).digest())
        self.assertEqual(len(staged), len(files))

    def test_an_archive_that_must_be_read_in_order_is_read_by_one_thread(self) -> None:
        archive = self.opened(zip_bytes(self.FILES))
        readers: set[str] = set()
        real = archive.stream

        class InOrder:
            is_divisible = False
            listing = archive.listing

            def stream(self, rows: Sequence[int]) -> Iterator[tuple[int, Iterator[bytes]]]:
                for row, blocks in real(rows):
                    readers.add(threading.current_thread().name)
                    yield row, blocks

        staged = dict(chain.from_iterable(stage_files(InOrder(), self.jobs(archive))))  # type: ignore[arg-type]
        self.assertEqual(len(staged), len(self.FILES))
        self.assertEqual(readers, {"pump"})

    def test_a_few_small_files_are_written_before_a_thread_would_have_begun(self) -> None:
        for count, size, others in ((50, 9, 0), (51, 9, 1), (2, 256 << 10, 0), (2, (256 << 10) + 1, 1)):
            content = {f"{count}-{size}-{number}": bytes(size) for number in range(count)}
            archive = self.opened(zip_bytes(content))
            with self.subTest(count=count, size=size), mock.patch.object(stage, "by_threads", wraps=by_threads) as used:
                self.assertEqual(sum(map(len, stage_files(archive, self.jobs(archive)))), count)
                self.assertEqual(used.call_count, others)
            for path in self.target.iterdir():
                path.unlink()

    def test_a_large_file_is_told_of_before_it_is_done(self) -> None:
        archive = self.opened(tar_bytes({"large": bytes(5 << 20)}, "w:gz"))
        heard: list[int] = []
        for _ in stage_files(archive, self.jobs(archive), heard.append):
            self.assertTrue(heard, "the file was done before anything was told")
        self.assertEqual(heard, sorted(heard))
        self.assertLess(heard[-1], 5 << 20)

    def test_damage_in_one_file_ends_all_threads(self) -> None:
        content = bytearray(zip_bytes(self.FILES, compression=0))
        content[len(content) // 2] ^= 1
        archive = self.opened(bytes(content))
        before = threading.active_count()
        with self.assertRaises(DamagedArchive):
            list(stage_files(archive, self.jobs(archive)))
        self.assertEqual(threading.active_count(), before)

    def test_a_name_that_is_taken_is_an_error_and_not_overwritten(self) -> None:
        archive = self.opened(zip_bytes(self.FILES))
        jobs = self.jobs(archive)
        Path(jobs.make(jobs.rows[50]).path).write_text("mine")
        with self.assertRaises(FileExistsError):
            list(stage_files(archive, jobs))
        self.assertEqual(Path(jobs.make(jobs.rows[50]).path).read_text(), "mine")

    def test_who_stops_listening_stops_the_work(self) -> None:
        archive = self.opened(zip_bytes(self.FILES))
        before = threading.active_count()
        stream = stage_files(archive, self.jobs(archive))
        next(stream)
        stream.close()  # type: ignore[attr-defined]
        self.assertEqual(threading.active_count(), before)


@unittest.skipUnless(this_platform().can_fork, "only there may a process go on as several")
class ProcessesTest(ArchiveCase):
    """What several processes write is what one would have written, and none of them outlives the work."""

    FILES = {f"d{n % 7}/f{n:04}": b"%d " % n * (n % 90) for n in range(1200)}  # noqa: RUF012 - never changed

    def setUp(self) -> None:
        super().setUp()
        self.target = self.folder / "target"
        self.target.mkdir()

    def jobs(self, archive: Archive) -> Jobs:
        return jobs_below(self.target, archive)

    def assert_no_child(self) -> None:
        with self.assertRaises(ChildProcessError):
            os.waitpid(-1, os.WNOHANG)

    def test_every_file_is_whole_and_told_once(self) -> None:
        archive = self.opened(zip_bytes(self.FILES))
        with mock.patch("os.cpu_count", lambda: 3), mock.patch.object(os, "fork", wraps=os.fork) as fork:
            staged = list(chain.from_iterable(stage_files(archive, self.jobs(archive), may_fork=True)))
        self.assertEqual(fork.call_count, 2)
        self.assertEqual(sorted(row for row, _ in staged), list(self.jobs(archive).rows))
        for row, state in staged:
            expected = self.FILES[archive.listing.path(row)]
            path = self.target / str(row)
            self.assertEqual(path.read_bytes(), expected)
            found = path.stat()
            self.assertEqual(
                (state.size, state.modified, state.mode, state.inode, state.digest),
                (len(expected), found.st_mtime_ns, MODE, found.st_ino, blake3(expected).digest()),
            )
        self.assert_no_child()

    def test_no_portion_is_taken_twice_however_the_processes_race(self) -> None:
        """Two once took the same, for the system did not guard the place in the file that they shared."""
        turns = Turns(100_000)
        reading, writing = os.pipe()
        child = os.fork()
        if not child:
            with os.fdopen(writing, "wb") as told:
                told.write(array("I", turns).tobytes())
            os._exit(0)
        os.close(writing)
        own = list(turns)
        with os.fdopen(reading, "rb") as listened:
            theirs = array("I", listened.read())
        os.waitpid(child, 0)
        turns.close()
        self.assertEqual(sorted([*own, *theirs]), list(range(100_000)))

    def test_where_the_system_cannot_fork_threads_do_it(self) -> None:
        archive = self.opened(zip_bytes(self.FILES))
        with mock.patch("os.cpu_count", lambda: 3), mock.patch.object(os, "fork") as fork:
            staged = dict(chain.from_iterable(stage_files(archive, self.jobs(archive), may_fork=False)))
        self.assertEqual(len(staged), len(self.FILES))
        fork.assert_not_called()

    def test_damage_is_told_the_same_whoever_meets_it_and_ends_all(self) -> None:
        content = bytearray(zip_bytes(self.FILES, compression=0))
        content[len(content) // 2] ^= 1
        archive = self.opened(bytes(content))
        for own in (True, False):
            with self.assertRaisesRegex(DamagedArchive, "checksum") as caught:
                for _ in by_processes(archive, self.jobs(archive), 2, lambda _: None):
                    # Slow, this process leaves the damage to its child.
                    time.sleep(0 if own else 0.2)
            self.assertTrue(caught.exception.remedy)
            self.assert_no_child()
            for path in self.target.iterdir():
                path.unlink()

    def test_a_child_that_was_killed_is_an_error(self) -> None:
        archive = self.opened(zip_bytes(self.FILES))
        real = os.fork

        def killed_fork() -> int:
            process = real()
            if process:
                os.kill(process, signal.SIGKILL)
            return process

        with mock.patch.object(os, "fork", killed_fork), self.assertRaisesRegex(MachineError, "ended from outside"):
            list(by_processes(archive, self.jobs(archive), 2, lambda _: None))
        self.assert_no_child()

    def test_who_stops_listening_stops_the_processes(self) -> None:
        archive = self.opened(zip_bytes(self.FILES))
        stream = by_processes(archive, self.jobs(archive), 2, lambda _: None)
        next(stream)
        stream.close()  # type: ignore[attr-defined]
        self.assert_no_child()
        written = len(list(self.target.iterdir()))
        time.sleep(0.1)
        self.assertEqual(len(list(self.target.iterdir())), written)


class ProgramsTest(unittest.TestCase):
    def test_programs_that_only_the_content_tells_are_counted(self) -> None:
        for entries, said in ((["a"], "a can run,"), (["a", "b", "c"], "a and 2 more can run,")):
            self.assertTrue(ProgramsFound(entries).message.startswith(said))


if __name__ == "__main__":
    unittest.main()
