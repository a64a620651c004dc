"""Damaged archives of every format: content that matches its checksum or a clear error, whatever the bytes."""

import random
import shutil
import unittest

from blake3 import blake3

from tests.archives.case import ArchiveCase, access, file_rows
from tests.fuzzing.mutants import FILES, OLD, PASSWORD, PLAIN, SEEDS, by_bytes, seed_of
from tests.often import first_seed, often
from usufruct.archives.allowance import Limits
from usufruct.archives.reading import digests_of
from usufruct.errors import ArchiveError, DecisionNeeded

ROUNDS = often(900)
SEED = first_seed(20260314)
CHECKED = [kind for kind in SEEDS if kind.startswith(("zip", "rar", "7z")) and kind != "zip, inner"]
"""Formats that state a checksum of each entry."""
RIGHT = {blake3(content).digest() for content in (*PLAIN.values(), FILES["link"].removeprefix(b"->"), b"", *OLD)}
_MAY_END_EARLY = ("rar 4, solid", "rar 2, locked")
"""Formats that need not say where they end: one that is cut right behind a member is whole."""


class MutationsTest(ArchiveCase):
    def outcome(self, content: bytes) -> dict[str, bytes] | None:
        """The digests of what was read, or None for a clear error; anything else raised is a fault."""
        path = self.write({"download": content})
        try:
            archive = self.open(path, access(PASSWORD, limits=Limits(free=1 << 24, header=1 << 20)))
            try:
                archive.unlock()
                digests = digests_of(archive, file_rows(archive))
            finally:
                archive.close()
        except (ArchiveError, DecisionNeeded) as error:
            self.assertTrue(error.message and error.remedy)
            return None
        finally:
            shutil.rmtree(path.parent)
        return {archive.listing.path(row): digest for row, digest in digests.items()}

    def test_mutations_end_in_matching_content_or_a_clear_error(self) -> None:
        chance = random.Random(SEED)
        read = dict.fromkeys(SEEDS, 0)
        failed = dict.fromkeys(SEEDS, 0)
        order = list(SEEDS)
        for number in range(ROUNDS):
            kind = order[number % len(order)]
            digests = self.outcome(by_bytes(seed_of(kind), chance))
            if digests is None:
                failed[kind] += 1
                continue
            read[kind] += 1
            if kind in CHECKED:
                wrong = [path for path, digest in digests.items() if digest not in RIGHT]
                self.assertEqual(wrong, [], f"{kind}, mutation {number}")
        for kind in SEEDS:
            with self.subTest(kind):
                self.assertGreater(failed[kind], 1)
                self.assertIsNotNone(self.outcome(seed_of(kind)), "the archive itself can be read")
        self.assertGreater(sum(read.values()), ROUNDS // 50)

    def test_every_truncation_of_a_small_archive_is_told(self) -> None:
        for kind in CHECKED:
            content = seed_of(kind)
            for end in range(8, len(content) - 30, max(1, len(content) // 40)):
                with self.subTest(kind, end=end):
                    found = self.outcome(content[:end])
                    if kind in _MAY_END_EARLY and found:
                        self.assertLessEqual(set(found.values()), RIGHT)
                    else:
                        self.assertIsNone(found)


if __name__ == "__main__":
    unittest.main()
