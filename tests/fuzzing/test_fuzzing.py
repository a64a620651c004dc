"""A short fixed run of the fuzz room; `python -m tests.fuzzing` runs as long as you like."""

import unittest

from tests.fuzzing.bombs import BOMBS
from tests.fuzzing.members import damaged
from tests.fuzzing.mutants import SEEDS
from tests.fuzzing.running import bombs, mutants
from tests.often import first_seed, often

SEED = first_seed(20261127)
SLOW = {
    "entries.tar.gz", "old-map.tar.gz", "fields.tar.gz", "global-fields.tar.gz", "long-names.tar.gz",
    "devices.tar.gz", "unsaid-names.tar.gz", "volume-header.tar.bz2", "zeros.tar.bz2", "zeros.bz2", "zeros.zst",
    "inner-zips.zip", "inner-tars.zip", "many-inner-tars.zip", "link.7z", "entries.xar", "entries.rar", "gz.gz",
    "equal-loose.zip", "entries.cpio", "equal-names.zip", "entries-of-old.rar", "pax-maps.tar.gz", "links.tar.gz",
    "directories.zip", "links.zip", "entries.rpm", "entries.lzh", "entries.a", "listed-maps.tar.gz", "devices.zip",
}  # fmt: skip
"""Those that take long to make or to look at: the room's own run has them."""


class FuzzingTest(unittest.TestCase):
    def test_mutants_end_in_content_or_a_clear_error_and_leave_the_folder_as_it_was(self) -> None:
        found = mutants(SEED, often(12) * len(SEEDS))
        self.assertEqual([(name, fault) for name, _, fault in found], [])

    def test_damaged_members_of_rar_3_end_in_a_fault_of_theirs(self) -> None:
        self.assertEqual([(name, fault) for name, _, fault in damaged(SEED, often(300))], [])

    def test_bombs_take_neither_the_memory_nor_the_day(self) -> None:
        for name, ended in bombs(name for name in BOMBS if name not in SLOW):
            with self.subTest(name):
                self.assertEqual(ended.fault, "")
