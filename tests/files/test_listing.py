"""Directories are read again once they may have changed, and only then."""

import os
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from usufruct.files.listing import Listed, forget_large_listings, listed


class ListingTest(unittest.TestCase):
    def setUp(self) -> None:
        passing = tempfile.TemporaryDirectory()
        self.addCleanup(passing.cleanup)
        self.folder = Path(passing.name)
        (self.folder / "Moon.gel").touch()
        self.long_ago()

    def long_ago(self) -> None:
        os.utime(self.folder, ns=(10**18, 10**18))

    def times_read(self) -> int:
        with mock.patch("os.listdir", wraps=os.listdir) as reading:
            listed(str(self.folder))
            return reading.call_count

    def test_what_was_left_alone_is_read_once(self) -> None:
        self.assertEqual([self.times_read() for _ in range(3)], [1, 0, 0])

    def test_what_changed_is_read_again(self) -> None:
        listed(str(self.folder))
        (self.folder / "sun.gel").touch()
        self.assertEqual(listed(str(self.folder)).names, {"Moon.gel", "sun.gel"})

    def test_what_changed_a_moment_ago_may_change_again_unseen(self) -> None:
        """Some file systems keep times of two seconds: a second change within them leaves none."""
        (self.folder / "sun.gel").touch()
        self.assertEqual([self.times_read() for _ in range(3)], [1, 1, 1])

    def test_where_a_change_leaves_no_time_it_is_seen_two_seconds_later(self) -> None:
        listed(str(self.folder))
        (self.folder / "sun.gel").touch()
        self.long_ago()
        self.assertEqual(listed(str(self.folder)).names, {"Moon.gel"})
        with mock.patch("usufruct.files.listing.time.monotonic", lambda: 1e9):
            self.assertEqual(listed(str(self.folder)).names, {"Moon.gel", "sun.gel"})

    def test_no_more_names_are_kept_in_memory_than_fit_and_of_large_ones_none_while_something_is_unpacked(self) -> None:
        with mock.patch("usufruct.files.listing._MOST_NAMES", 0):
            self.assertEqual([self.times_read() for _ in range(2)], [1, 1])
        self.assertEqual([self.times_read() for _ in range(2)], [1, 0])
        forget_large_listings()
        self.assertEqual(self.times_read(), 0)
        with mock.patch("usufruct.files.listing._LARGE", 0):
            forget_large_listings()
        self.assertEqual(self.times_read(), 1)

    def test_few_are_remembered(self) -> None:
        listed(str(self.folder))
        for number in range(20):
            other = self.folder / str(number)
            other.mkdir()
            os.utime(other, ns=(10**18, 10**18))
            listed(str(other))
        self.long_ago()
        self.assertEqual(self.times_read(), 1)

    def test_spellings_are_found_alike_with_tables_and_without(self) -> None:
        names = ["Moon.gel", "\u00dcber.gel", "a", "A", *(f"{number}.gel" for number in range(30_000))]
        wanted = ["moon.gel", "MOON.GEL", "u\u0308ber.gel", "a", "7.gel", "none.gel"]
        few, many, again = Listed(names[:4]), Listed(names), Listed(names)
        again.is_asked_again = True
        for there, numbered in ((few, set()), (many, {"7.gel"}), (again, {"7.gel"})):
            self.assertEqual(there.among(wanted), {"a"} | numbered)
            spelled = {"moon.gel": "Moon.gel", "MOON.GEL": "Moon.gel", "u\u0308ber.gel": "\u00dcber.gel", "a": "a"}
            self.assertEqual(there.spelled(wanted), spelled | {name: name for name in numbered})
        # Of two that differ in nothing else it is always the same, whichever is read first.
        self.assertEqual(Listed(["A", "a"]).spelled(["a"]), Listed(["a", "A"]).spelled(["a"]))
        self.assertEqual((few.in_order[0], few.lowered[0]), ("A", "a"))


if __name__ == "__main__":
    unittest.main()
