"""Killed anywhere, whatever happens meanwhile, recovered again and again: nothing of the user's is nowhere."""

import os
import unittest

from tests.often import first_seed, often
from tests.transaction.between import walked

FIRST = first_seed(20261127)
SEEDS = range(FIRST, FIRST + often(25))


@unittest.skipUnless(hasattr(os, "fork"), "a process that is killed goes on as two before")
class BetweenTest(unittest.TestCase):
    def test_walks_with_acts_between(self) -> None:
        """`python -m tests.transaction.between --seed N` tells one again; `--count N` walks as often as you like."""
        for seed in SEEDS:
            with self.subTest(seed=seed):
                tale = walked(seed)
                self.assertFalse(tale, tale)


if __name__ == "__main__":
    unittest.main()
