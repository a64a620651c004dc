"""How often a test by chance tries, and from which seed; the long runs: `python -m tests --times 50 --seed 7 WORDS`."""

import os

from tests import systems

TIMES, SEED = "USUFRUCT_TESTS_TIMES", "USUFRUCT_TESTS_SEED"
"""Environment variables: a factor of how often, and what is added to each seed."""


def often(count: int) -> int:
    """How often to try what the gate tries `count` times; less often where it does for a further system."""
    times = int(os.environ.get(TIMES, "1"))
    return max(1, count * times // (4 if systems.current() else 1))


def every(step: int) -> int:
    """Each how many points to try, of which the gate tries each `step`-th; the long runs try them all."""
    return 1 if TIMES in os.environ else step * (4 if systems.current() else 1)


def first_seed(first: int) -> int:
    """The seed to begin with."""
    return first + int(os.environ.get(SEED, "0"))
