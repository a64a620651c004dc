"""Writing staged files over threads: complete, hashed, and nothing left running when something fails."""

import os
import threading
import unittest
from collections.abc import Iterator, Sequence
from itertools import chain
from pathlib import Path
from unittest import mock

from blake3 import blake3

from tests.archives.case import ArchiveCase
from tests.support import tar_bytes, zip_bytes
from usufruct.archives.reading import Archive
from usufruct.errors import DamagedArchive
from usufruct.model.entries import EntryKind
from usufruct.transaction.jobs import Job
from usufruct.transaction.stage import stage_files


class StageTest(ArchiveCase):
    FILES = {f"d{n % 3}/f{n:03}": os.urandom(n * 97) for n in range(120)}  # noqa: RUF012 - never changed

    def setUp(self) -> None:
        super().setUp()
        self.target = self.folder / "target"
        self.target.mkdir()
        patched = mock.patch("os.cpu_count", lambda: 4)
        patched.start()
        self.addCleanup(patched.stop)

    def jobs(self, archive: Archive) -> list[Job]:
        return [
            Job(row, str(self.target / str(row)), archive.listing.sizes[row], 10**18, 0o640)
            for row, kind in enumerate(archive.listing.kinds)
            if kind == EntryKind.FILE
        ]

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
                self.assertEqual((state.size, state.modified, state.mode), (len(expected), 10**18, 0o640))
                path.unlink()

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
        self.assertEqual(readers, {"unpack"})

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
        Path(jobs[50].path).write_text("mine")
        with self.assertRaises(FileExistsError):
            list(stage_files(archive, jobs))
        self.assertEqual(Path(jobs[50].path).read_text(), "mine")

    def test_who_stops_listening_stops_the_work(self) -> None:
        archive = self.opened(zip_bytes(self.FILES))
        before = threading.active_count()
        stream = stage_files(archive, self.jobs(archive))
        next(stream)
        stream.close()  # type: ignore[attr-defined]
        self.assertEqual(threading.active_count(), before)


if __name__ == "__main__":
    unittest.main()
