"""What is made ahead by another thread is the same, fails the same, and ends when nobody wants more."""

import threading
import unittest
from collections.abc import Iterator
from contextlib import closing

from usufruct.files.ahead import ahead


class AheadTest(unittest.TestCase):
    def test_the_same_items_in_the_same_order(self) -> None:
        for count in (0, 1, 1000):
            self.assertEqual(list(ahead(range(count), 3)), list(range(count)))

    def test_no_more_is_made_than_may_be(self) -> None:
        made: list[int] = []

        def items() -> Iterator[int]:
            for number in range(100):
                made.append(number)
                yield number

        with closing(ahead(items(), 4)) as coming:
            self.assertEqual(next(coming), 0)
            for thread in threading.enumerate():
                if thread.name == "pump":
                    thread.join(0.2)
            # One is asked for, four wait, and one more waits to be taken.
            self.assertLessEqual(len(made), 6)
        self.assertNotIn("pump", [thread.name for thread in threading.enumerate()])

    def test_what_fails_is_raised_where_it_is_waited_for_and_then_it_is_over(self) -> None:
        def items() -> Iterator[int]:
            yield 1
            raise OSError("broken")

        coming = ahead(items(), 2)
        self.assertEqual(next(coming), 1)
        with self.assertRaisesRegex(OSError, "broken"):
            next(coming)
        self.assertEqual(next(coming, None), None)
        self.assertNotIn("pump", [thread.name for thread in threading.enumerate()])


if __name__ == "__main__":
    unittest.main()
