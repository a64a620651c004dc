"""Run mutants and bombs for as long as you like: `python -m tests.fuzzing --minutes 10 --seed 3`."""

import argparse
import sys
import time
from pathlib import Path

from tests.fuzzing.running import bombs, mutants


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seed", type=int, default=0, help="of the first thousand mutants; the next has the next")
    parser.add_argument("--minutes", type=float, default=1.0)
    parser.add_argument("--bombs", action="store_true", help="the bombs as well, which takes ten minutes")
    parser.add_argument("--keep", type=Path, default=Path("fuzzing-found"), help="where what is found is written")
    words = parser.parse_args()
    failed = 0
    tell = sys.stdout.write
    end = time.monotonic() + 60 * words.minutes
    seed, count = words.seed, 0
    while time.monotonic() < end:
        found = mutants(seed, 1000)
        for name, content, fault in found:
            words.keep.mkdir(exist_ok=True)
            (words.keep / name).write_bytes(content)
            tell(f"{name}: {fault}\n")
        failed, seed, count = failed + len(found), seed + 1, count + 1000
    tell(f"{count:,} mutants, seeds {words.seed} to {seed - 1}: {failed} failed\n")
    if words.bombs:
        for name, ended in bombs():
            tell(f"{name:24} {ended.seconds:6.2f} s  {ended.memory >> 20:4} MB  {ended.fault or 'fine'}\n")
            failed += bool(ended.fault)
    raise SystemExit(bool(failed))


if __name__ == "__main__":
    main()
