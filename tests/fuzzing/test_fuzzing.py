"""A short fixed run of the fuzz room; `python -m tests.fuzzing` runs as long as you like."""

import os
import tempfile
import unittest
from collections.abc import Set
from pathlib import Path

from tests.archives.case import OLD
from tests.fuzzing.bombs import BOMBS
from tests.fuzzing.members import damaged
from tests.fuzzing.mutants import CHECKED, RIGHT, SEEDS, seed_of
from tests.fuzzing.running import bombs, mutants, read_all
from tests.often import first_seed, often

SEED = first_seed(20261127)
SLOW = {
    "entries.tar.gz", "old-map.tar.gz", "fields.tar.gz", "global-fields.tar.gz", "long-names.tar.gz",
    "devices.tar.gz", "unsaid-names.tar.gz", "volume-header.tar.bz2", "zeros.tar.bz2", "zeros.bz2", "zeros.zst",
    "inner-zips.zip", "inner-tars.zip", "many-inner-tars.zip", "link.7z", "entries.xar", "entries.rar", "gz.gz",
    "equal-loose.zip", "entries.cpio", "equal-names.zip", "entries-of-old.rar", "pax-maps.tar.gz", "links.tar.gz",
    "deep-paths.zip", "streams.lz", "streams.bz2", "copies.rar", "hard-links.tar.gz", "directories.zip", "links.zip",
    "entries.rpm", "entries.lzh", "entries.a", "listed-maps.tar.gz", "devices.zip", "streams.xz", "empty-entries.7z",
    "skipped.zst",
}  # fmt: skip
"""Those that take long to make or to look at: the room's own run has them."""

MAY_END_EARLY = "rar 4, solid"
"""A format that need not say where it ends: one that is cut right behind a member is whole."""


class FuzzingTest(unittest.TestCase):
    def test_mutants_end_in_content_or_a_clear_error_and_leave_the_folder_as_it_was(self) -> None:
        found = mutants(SEED, often(24) * len(SEEDS))
        self.assertEqual([(name, fault) for name, _, fault in found], [])

    def test_an_archive_that_is_cut_off_or_has_a_changed_bit_is_told_or_reads_as_it_was(self) -> None:
        with tempfile.TemporaryDirectory(prefix="usufruct-fuzzing-") as folder:
            path = Path(folder, "download")

            def is_read(content: bytes, right: Set[bytes] | None = None) -> bool:
                path.write_bytes(content)
                os.utime(path, (OLD, OLD))
                return read_all(path, right)

            for kind in SEEDS:
                content = seed_of(kind)
                self.assertTrue(is_read(content), f"{kind} itself can be read")
                for end in range(8, len(content) - 30, max(1, len(content) // 12)) if kind in CHECKED else ():
                    with self.subTest(kind, end=end):
                        self.assertFalse(is_read(content[:end], RIGHT) and kind != MAY_END_EARLY)
                        if not kind.endswith("hidden"):  # a key takes long to derive
                            is_read(content[:end] + bytes([content[end] ^ 16]) + content[end + 1 :], RIGHT)

    def test_damaged_members_of_rar_3_end_in_a_fault_of_theirs(self) -> None:
        self.assertEqual([(name, fault) for name, _, fault in damaged(SEED, often(300))], [])

    def test_bombs_take_neither_the_memory_nor_the_day(self) -> None:
        for name, ended in bombs(name for name in BOMBS if name not in SLOW):
            with self.subTest(name):
                self.assertEqual(ended.fault, "")
