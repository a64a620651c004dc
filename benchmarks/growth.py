"""How time and memory grow: adding, checking and removing 1,000 to 200,000 files, and adding 10 MB to 4 GB.

    python -m benchmarks.growth [--runs N] [--scale F] [--json FILE] [--plot FILE] DIRECTORY

About 15 GB are written to DIRECTORY and left. Each point is the fastest of its runs: what slows a run down is never
Usufruct getting less to do. The exponent is the slope of a straight line fitted by least squares to the logarithms of
what each point takes more than the smallest, which is nearly all start-up; 1 is growth in step with the work.
"""

import argparse
import json
import math
import os
import sys
from collections.abc import Mapping, Sequence
from pathlib import Path

from benchmarks.inputs import make_zip
from benchmarks.measuring import Run, machine, table
from benchmarks.placing import Bench, usufruct

COUNTS = (1_000, 5_000, 20_000, 60_000, 200_000)
SIZES = (10_000_000, 100_000_000, 1_000_000_000, 4_000_000_000)
_EACH = 1_000
"""Bytes of a file where their number grows."""
_LARGE = 50
"""Files where their size grows."""
_VARIES = 0.02
"""Seconds by which start-up varies."""

Points = dict[int, Run]


def exponent(points: Mapping[int, float]) -> float:
    """The slope of the line fitted to the logarithms; nan where fewer than two points count."""
    counted = [(math.log(size), math.log(value)) for size, value in points.items() if value > 0]
    if len(counted) < 2:
        return math.nan
    middle_x = sum(x for x, _ in counted) / len(counted)
    middle_y = sum(y for _, y in counted) / len(counted)
    spread = sum((x - middle_x) ** 2 for x, _ in counted)
    return sum((x - middle_x) * (y - middle_y) for x, y in counted) / spread


def by_count(bench: Bench, scale: float) -> dict[str, Points]:
    """Adding, checking and removing archives of ever more small files."""
    found: dict[str, Points] = {"add": {}, "check": {}, "remove": {}}
    for count in (max(10, int(one * scale)) for one in COUNTS):
        archive = bench.input(f"count-{count}.zip", lambda path, count=count: make_zip(path, count, count * _EACH))
        runs: dict[str, list[Run]] = {name: [] for name in found}
        for _ in range(bench.runs):
            home, _ = bench.world()
            runs["add"].append(usufruct(home, "add", archive))
            runs["check"].append(usufruct(home, "check"))
            runs["remove"].append(usufruct(home, "remove", archive.stem))
        for name, of_name in runs.items():
            found[name][count] = min(of_name, key=lambda run: run.seconds)
            print(f"{name} {count:,}: {found[name][count].seconds:.2f} s", file=sys.stderr, flush=True)
    return found


def by_size(bench: Bench, scale: float) -> Points:
    """Adding the same number of ever larger files."""
    points: Points = {}
    for size in (int(one * scale) for one in SIZES):
        archive = bench.input(f"size-{size}.zip", lambda path, size=size: make_zip(path, _LARGE, size))
        runs = [usufruct(bench.world()[0], "add", archive) for _ in range(bench.runs)]
        points[size] = min(runs, key=lambda run: run.seconds)
        print(f"add {size:,} bytes: {points[size].seconds:.2f} s", file=sys.stderr, flush=True)
    return points


def plot(lines: Mapping[str, Points], sizes: Points, file: Path) -> None:
    """Draw time over files, time over bytes and memory over files, all in logarithms."""
    import matplotlib as drawing

    drawing.use("Agg")
    from matplotlib import pyplot

    figure, (left, middle, right) = pyplot.subplots(1, 3, figsize=(14, 4.6), constrained_layout=True)
    marks = {"add": "o-", "check": "s-", "remove": "^-"}
    for name, points in lines.items():
        left.loglog(list(points), [run.seconds for run in points.values()], marks[name], label=name)
        right.semilogx(list(points), [run.peak / 1e6 for run in points.values()], marks[name], label=name)
    left.set(title="Time by number of files (1 kB each)", xlabel="files", ylabel="seconds")
    middle.loglog([size / 1e6 for size in sizes], [run.seconds for run in sizes.values()], "o-", label="add")
    middle.set(title=f"Time by size ({_LARGE} files)", xlabel="MB unpacked", ylabel="seconds")
    right.set(title="Peak memory by number of files", xlabel="files", ylabel="MB", ylim=(0, None))
    for axes in (left, middle, right):
        axes.grid(visible=True, which="major", alpha=0.3)
        axes.legend()
    figure.savefig(file, dpi=80)


def fits(points: Points) -> float:
    """The exponent of what the points take more than the smallest, where that is more than start-up itself varies."""
    start = points[min(points)].seconds + _VARIES
    return exponent({size: run.seconds - start + _VARIES for size, run in points.items() if run.seconds > start})


def main(words: Sequence[str] | None = None) -> int:
    """Measure, print, and write JSON and the plot where asked."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("directory", type=Path)
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument("--scale", type=float, default=1.0, help="a fraction of every size, for trying it")
    parser.add_argument("--json", type=Path)
    parser.add_argument("--plot", type=Path, help="needs matplotlib: pip install usufruct[benchmark]")
    options = parser.parse_args(words)
    bench = Bench(options.directory.absolute(), options.runs)
    lines, sizes = by_count(bench, options.scale), by_size(bench, options.scale)
    cells = [["work", "size", "seconds", "peak"]]
    for name, points in (*lines.items(), ("add, bytes", sizes)):
        cells += [[name, f"{size:,}", f"{run.seconds:.2f}", f"{run.peak / 1e6:.0f} MB"] for size, run in points.items()]
    print(table(cells))
    exponents = {name: round(fits(points), 2) for name, points in (*lines.items(), ("add, bytes", sizes))}
    print("\n" + "\n".join(f"{name} grows to the power of {value:.2f}" for name, value in exponents.items()))
    if options.json:
        document = {
            "machine": machine(),
            "exponents": exponents,
            "points": {
                name: {str(size): {"seconds": run.seconds, "peak": run.peak} for size, run in points.items()}
                for name, points in (*lines.items(), ("add, bytes", sizes))
            },
        }
        options.json.write_text(json.dumps(document, indent=2) + "\n", encoding="utf-8")
    if options.plot:
        plot(lines, sizes, options.plot)
    return 0


if __name__ == "__main__":
    os.environ.pop("USUFRUCT_HOME", None)
    sys.exit(main())
