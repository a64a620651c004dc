"""All tests, several modules at once: `python -m tests [--at-once N] [--on SYSTEM] [--times N] [--seed N] [WORDS...]`.

Words choose modules by name. `--on` runs them as on another system, which is simulated.
"""

import argparse
import os
import re
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor, as_completed
from pathlib import Path

from tests.often import SEED, TIMES
from tests.systems import SYSTEMS, VARIABLE

HERE = Path(__file__).parent
_LONG = (
    "test_fuzzing", "test_packs", "test_power_cuts", "test_killed_stories", "test_pairs", "test_output", "test_walks",
    "test_interruptions", "test_guide", "test_program", "test_drives",
)  # fmt: skip
"""Begun first, each by itself, so that none of them is left for the end."""
_TOGETHER = 5
"""Other modules that share a process: each process has to start and to import all that it tests."""


def modules(words: list[str]) -> list[str]:
    """Names of the modules to run, the long ones first."""
    found = [".".join(file.relative_to(HERE.parent).with_suffix("").parts) for file in HERE.rglob("test_*.py")]
    chosen = [name for name in found if not words or any(word in name for word in words)]
    return sorted(chosen, key=lambda name: (_rank(name), name))


def _rank(name: str) -> int:
    last = name.rpartition(".")[2]
    return _LONG.index(last) if last in _LONG else len(_LONG)


def batches(names: list[str]) -> list[list[str]]:
    """The modules by the process that they are run in."""
    alone = [[name] for name in names if _rank(name) < len(_LONG)]
    others = names[len(alone) :]
    return alone + [others[first : first + _TOGETHER] for first in range(0, len(others), _TOGETHER)]


def run(names: list[str], system: str) -> tuple[str, int, str, float]:
    """Run modules in a process of their own; gives their names, exit code, what it said, and its seconds."""
    begun = time.monotonic()
    words, world = [sys.executable, "-m", "unittest", *names], {**os.environ, VARIABLE: system}
    # The program is run as users have it: what was compiled once is kept.
    world.pop("PYTHONDONTWRITEBYTECODE", None)
    done = subprocess.run(
        words, cwd=HERE.parent, env=world, capture_output=True, text=True, errors="replace", check=False
    )
    code = done.returncode
    if code == 5 and re.search(r"^NO TESTS RAN \(skipped=", done.stderr, re.MULTILINE):
        # From Python 3.12 on a module of which all is skipped fails otherwise.
        code = 0
    name = f"{', '.join(names)}{f' as on {system}' if system else ''}"
    return name, code, done.stdout + done.stderr, time.monotonic() - begun


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--at-once", type=int, default=os.cpu_count() or 1)
    parser.add_argument("--on", choices=sorted(SYSTEMS), default="")
    parser.add_argument("--times", type=int, help="tests by chance try so many times as often, and at every point")
    parser.add_argument("--seed", type=int, help="what they begin with")
    parser.add_argument("words", nargs="*")
    words = parser.parse_args()
    for variable, number in ((TIMES, words.times), (SEED, words.seed)):
        if number is not None:
            os.environ[variable] = str(number)
    tests = failed = 0
    begun = time.monotonic()
    chosen = modules(words.words)
    with ThreadPoolExecutor(words.at_once) as pool:
        for job in as_completed([pool.submit(run, names, words.on) for names in batches(chosen)]):
            name, code, said, seconds = job.result()
            count = re.search(r"^Ran (\d+) test", said, re.MULTILINE)
            tests += int(count[1]) if count else 0
            sys.stdout.write(f"{'fine  ' if code == 0 else 'FAILED'}  {seconds:6.1f} s  {name}\n")
            if code:
                failed += 1
                sys.stdout.write(said)
            sys.stdout.flush()
    sys.stdout.write(f"\nRan {tests} tests in {time.monotonic() - begun:.1f}s\n\n")
    sys.stdout.write(f"FAILED (modules={failed})\n" if failed else "OK\n")
    raise SystemExit(bool(failed) or not tests)


if __name__ == "__main__":
    main()
