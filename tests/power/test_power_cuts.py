"""The power is cut in every story: what is found is before or after, and nothing of the user's is nowhere."""

import unittest

from tests.often import often
from tests.power.cutting import Cutter
from tests.power.stories import STORIES
from tests.power.tracing import TRACER

CUTS = 4
"""In each story; `python -m tests.power.cutting` cuts as often as you like."""


@unittest.skipUnless(TRACER, "the tracer strace is not here")
class PowerCutsTest(unittest.TestCase):
    def test_a_sample_of_every_story(self) -> None:
        for number, name in enumerate(STORIES):
            # Every other story has the record on another volume; the whole run has each on both.
            cutter = Cutter(name, has_two=bool(number % 2))
            try:
                cutter.verify()
                for seed in range(often(CUTS)):
                    with self.subTest(story=name, seed=seed):
                        found = cutter.cut(seed)
                        self.assertFalse(found, found)
            finally:
                cutter.close()


if __name__ == "__main__":
    unittest.main()
