"""How every command grows with years of use: holdings, files on record, definitions and downloads.

    python -m benchmarks.years [--runs N] [--sizes N...] [--files N] [--json FILE] [--plot FILE] DIRECTORY

Homes of several sizes are built in DIRECTORY by the program's own ways, their files really there, and left. In each the
same small work is done, which should take the same, and what looks at everything, which may take in step with it.
Seconds are of the processor, the fewest of the runs. The exponent is the slope of a line through the logarithms; of
what grows in step without its start. The end is 1 where something grows faster than it may.
"""

import argparse
import io
import json
import math
import random
import statistics
import sys
import zipfile
from collections.abc import Sequence
from pathlib import Path

from benchmarks.growth import exponent
from benchmarks.measuring import PROGRAM, Run, machine, run, table
from usufruct.actions.adding import add_archives
from usufruct.actions.applications import known_applications
from usufruct.actions.context import Context
from usufruct.actions.request import Request
from usufruct.files.platform import this_platform
from usufruct.files.state_paths import StatePaths

SIZES = (100, 200, 400, 800)
"""Holdings of the homes."""
FILES = 60
"""Files of a holding: half in a directory of its own, half in one that all share."""
_SOME = 40
"""Holdings that are removed by one command."""
_DEFINITION_FOR, _DOWNLOAD_FOR = 25, 5
"""Holdings for each definition, and for each archive that is kept among the downloads."""
_STEP, _MOST_STEP = 1.1, 0.15
"""Exponents: of work in step with what there is, and of work that should not depend on it."""
_NOISE = 0.02
"""Seconds by which start-up varies."""
_DEFINITION = """usufruct = 1

[application]
name = "{name}"
title = "{name}"
root = "{root}"

[[folder]]
name = "pieces"
path = "{pieces}"
arrange = "pieces"
mark = ["{mark}"]

[[folder]]
name = "loose"
path = "{loose}"
arrange = "loose"
takes = ["*.{suffix}"]
"""


def called(number: int) -> str:
    """What a holding is called: a name of its own, no version of another's."""
    return "pack " + "".join("abcdefghij"[int(digit)] for digit in f"{number:04}")


def packed(number: int, files: int) -> bytes:
    """The zip of one holding: a piece and gels, of seeded bytes."""
    chance, name = random.Random(number), called(number)
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr(f"{name}/rig.toml", f"name = '{name}'")
        for file in range(files // 2 - 1):
            archive.writestr(f"{name}/part {file}.svg", b"<svg>" + chance.randbytes(chance.randrange(200, 600)))
        for file in range(files // 2):
            archive.writestr(f"gels/{name} {file}.gel", b"gel " + chance.randbytes(chance.randrange(100, 300)))
    return buffer.getvalue()


class Home:
    """A home after some years: `holdings` of so many files each, definitions and downloads in step."""

    def __init__(self, directory: Path, holdings: int, files: int) -> None:
        self.directory, self.holdings, self.files_each = directory, holdings, files
        self.home, self.downloads = directory / "usufruct", directory / "downloads"
        self.tiny = directory / "tiny.zip"
        self.files = directory / "Lanternbox" / "Gels"
        self.carried = directory / "carried.zip"
        self.some = [called(number) for number in range(_SOME)]

    def build(self) -> None:
        """Make it, unless an earlier run has."""
        if (self.directory / "built").exists():
            return
        apps = self.home / "apps"
        apps.mkdir(parents=True)
        self.downloads.mkdir()
        lanternbox = self.directory / "Lanternbox"
        lanternbox.mkdir()
        folders = {"pieces": "Puppets", "mark": "rig.toml", "loose": "Gels", "suffix": "gel"}
        (apps / "lanternbox.toml").write_text(_DEFINITION.format(name="lanternbox", root=lanternbox, **folders))
        for number in range(self.holdings // _DEFINITION_FOR):
            root = self.directory / f"Loom{number}"
            root.mkdir()
            names = {"pieces": f"Patterns {number}", "mark": f"loom{number}.toml", "loose": "Threads"}
            text = _DEFINITION.format(name=f"loom{number}", root=root, suffix=f"th{number}", **names)
            (apps / f"loom{number}.toml").write_text(text)
        with zipfile.ZipFile(self.tiny, "w") as archive:
            archive.writestr("gels/tiny.gel", "tiny")
            archive.writestr("gels/small.gel", "small")
        (self.home / "settings.toml").write_text(f'downloads = "{self.downloads}"\n')
        context = Context(paths=StatePaths(self.home, self.home), platform=this_platform())
        request = Request(applications=tuple(one for one in known_applications(context) if one.name == "lanternbox"))
        for first in range(0, self.holdings, 50):
            paths = []
            for number in range(first, min(first + 50, self.holdings)):
                kept = self.directory if number % _DOWNLOAD_FOR else self.downloads
                paths.append(kept / f"{called(number)}.zip")
                paths[-1].write_bytes(packed(number, self.files_each))
            for added in add_archives(context, paths, request, lambda _: None):
                if added.state != "added":
                    raise SystemExit(f"{added.examined.path}: {added.error}")
        (self.directory / "built").touch()

    def run(self, words: Sequence[str]) -> Run:
        """One command; words in braces stand for what this home has."""
        filled: list[str] = []
        for word in words:
            filled.extend(
                self.some
                if word == "{some}"
                else [word.format(tiny=self.tiny, files=self.files, downloads=self.downloads, carried=self.carried)]
            )
        return run([PROGRAM, *filled], USUFRUCT_HOME=str(self.home), PAGER="cat")


SMALL = {
    "look at a tiny archive": ("look", "{tiny}"),
    "add it": ("add", "{tiny}"),
    "whose file": ("whose", "{files}/tiny.gel"),
    "show it": ("show", "tiny"),
    "check it": ("check", "tiny"),
    "remove it": ("remove", "tiny"),
    "undo that": ("undo",),
    "remove it again": ("remove", "tiny"),
    "history": ("history",),
    "remove forty": ("remove", "{some}"),
    "undo these": ("undo",),
}
"""Work that should take the same after years, in the order in which it is done."""
WHOLE = {
    "list": ("list",),
    "check": ("check",),
    "downloads": ("downloads", "--all"),
    "downloads again": ("downloads", "--all"),
    "look at the downloads": ("look", "{downloads}"),
    "archives": ("archives",),
    "whose folder": ("whose", "{files}"),
    "carry out": ("carry", "out", "--without-archives", "{carried}"),
}
"""Work that looks at everything."""


def measured(homes: Sequence[Home], runs: int) -> tuple[dict[str, dict[int, float]], dict[str, int]]:
    """Work → number of holdings → processor seconds, the fewest of the runs in turn; peaks in bytes."""
    found: dict[str, dict[int, float]] = {name: {} for name in (*SMALL, *WHOLE)}
    peaks: dict[str, int] = {}
    for _ in range(runs):
        for home in homes:
            (home.home / "downloads.json").unlink(missing_ok=True)
            home.carried.unlink(missing_ok=True)
            for name, words in {**SMALL, **WHOLE}.items():
                done = home.run(words)
                found[name][home.holdings] = min(done.processor, found[name].get(home.holdings, math.inf))
                peaks[name] = max(done.peak, peaks.get(name, 0))
    return found, peaks


def fits(points: dict[int, float], start: float) -> float:
    """The exponent of what work takes beside its start, which a straight line through all sizes tells.

    It is not below `start`: where work grows faster than in step, the line begins below nothing.
    """
    _, told = statistics.linear_regression(list(points), list(points.values()))
    start = min(max(told, start), min(points.values()) - _NOISE)
    return exponent({size: seconds - start for size, seconds in points.items()})


def plot(found: dict[str, dict[int, float]], file: Path) -> None:
    """Draw seconds over holdings: what should be constant, and what may grow in step."""
    import matplotlib as drawing

    drawing.use("Agg")
    from matplotlib import pyplot

    figure, sides = pyplot.subplots(1, 2, figsize=(12, 4.8), constrained_layout=True)
    for axes, names, title in zip(sides, (SMALL, WHOLE), ("the same small work", "all there is"), strict=True):
        for name in names:
            axes.loglog(list(found[name]), list(found[name].values()), "o-", label=name)
        axes.set(
            title=f"Processor time by years of use: {title}", xlabel="holdings", ylabel="seconds", ylim=(0.03, None)
        )
        axes.grid(visible=True, which="major", alpha=0.3)
        axes.legend(fontsize=8)
    figure.savefig(file, dpi=80)


def main(words: Sequence[str] | None = None) -> int:
    """Build, measure, print, and write JSON and the plot where asked; 1 where something grows faster than it may."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("directory", type=Path)
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument("--sizes", type=int, nargs="+", default=SIZES, help="holdings of each home")
    parser.add_argument("--files", type=int, default=FILES, help="files of each holding")
    parser.add_argument("--json", type=Path)
    parser.add_argument("--plot", type=Path, help="needs matplotlib: pip install usufruct[benchmark]")
    options = parser.parse_args(words)
    homes = [Home(options.directory.absolute() / str(one), one, options.files) for one in options.sizes]
    for home in homes:
        home.build()
        print(f"built {home.holdings} holdings", file=sys.stderr, flush=True)
    found, peaks = measured(homes, options.runs)
    start = min(min(points.values()) for points in found.values())
    exponents = {
        name: round(exponent(points) if name in SMALL else fits(points, start), 2) for name, points in found.items()
    }
    rows = [["work", *(f"{home.holdings:,}" for home in homes), "exponent", "MB"]]
    for name, points in found.items():
        rows.append(
            [
                name,
                *(f"{seconds:.2f}" for seconds in points.values()),
                f"{exponents[name]:.2f}",
                f"{peaks[name] / 1e6:.0f}",
            ]
        )
    print(table(rows))
    if options.json:
        document = {"machine": machine(), "exponents": exponents, "points": found, "peaks": peaks}
        options.json.write_text(json.dumps(document, indent=2) + "\n", encoding="utf-8")
    if options.plot:
        plot(found, options.plot)
    too_much = [name for name, value in exponents.items() if value > (_MOST_STEP if name in SMALL else _STEP)]
    for name in too_much:
        print(f"{name} grows to the power of {exponents[name]}", file=sys.stderr)
    return 1 if too_much else 0


if __name__ == "__main__":
    sys.exit(main())
