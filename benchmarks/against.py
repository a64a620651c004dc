"""Two versions of the program, whole processes in turn (A B A B): what a change cost, and what it won.

    python -m benchmarks.against [--runs N] [--only WORDS] [--json FILE] EARLIER DIRECTORY

EARLIER is the `usufruct` command of the other version, installed elsewhere. As in `benchmarks.placing` nothing is
deleted between timed runs; a ratio above 1 says that this program takes longer.
"""

import argparse
import statistics
import sys
import zipfile
from collections.abc import Callable
from pathlib import Path

from benchmarks.inputs import files, make_by_library, make_tar, make_zip
from benchmarks.measuring import PROGRAM, Pair, machine, table
from benchmarks.placing import Bench, unpacked, usufruct, write

Prepared = Callable[[str], Path]
"""Makes a home for a program, ready for what is measured; gives its path."""


def half_of(archive: Path) -> Callable[[Path], None]:
    """Fills a root with every other file of the archive, of other content."""

    def fill(root: Path) -> None:
        with zipfile.ZipFile(archive) as source:
            for number, name in enumerate(source.namelist()):
                if number % 2:
                    path = root / name
                    path.parent.mkdir(parents=True, exist_ok=True)
                    path.write_bytes(b"mine " + name.encode())

    return fill


class Against:
    """The rows, each measured for two programs."""

    def __init__(self, bench: Bench, earlier: str) -> None:
        self.bench, self.earlier = bench, earlier
        self.small = bench.input("small.zip", lambda path: make_zip(path, 20_000, 60_000_000))
        self.large = bench.input("large.zip", lambda path: make_zip(path, 100, 800_000_000))
        self.tars = {
            packing: bench.input(
                f"t.tar.{packing}", lambda path, packing=packing: make_tar(path, 5000, 300_000_000, packing)
            )
            for packing in ("gz", "xz", "zst")
        }
        self.seven = bench.input(
            "t.7z", lambda path: make_by_library(path, 5000, 300_000_000, "7zip", "compression-level=1")
        )
        self.many = bench.input("many.zip", lambda path: make_zip(path, 200_000, 20_000_000))
        self.tiny = bench.input("tiny.zip", lambda path: make_zip(path, 5, 5_000))

    def rows(self) -> dict[str, Callable[[], Pair]]:
        """Name → measurement."""
        small, replacing = self._placed(self.small), unpacked(self.small)
        return {
            "add a zip of 20,000 small files": lambda: self._pair(self._empty, "add", self.small),
            "the same, all 20,000 replace files that are backed up": lambda: self._pair(
                self._filled(replacing), "add", self.small
            ),
            "add a zip of 100 files of 8 MB": lambda: self._pair(self._empty, "add", self.large),
            **{
                f"add a tar.{packing} of 300 MB": lambda archive=archive: self._pair(self._empty, "add", archive)
                for packing, archive in self.tars.items()
            },
            "add a solid 7z of the same": lambda: self._pair(self._empty, "add", self.seven),
            "remove 20,000 files": lambda: self._pair(small, "remove", "small"),
            "remove 20,000 files, half of them given back": lambda: self._pair(
                self._placed(self.small, half_of(self.small)), "remove", "small"
            ),
            "check 20,000 unchanged files": lambda: self._pair(small, "check", again=True),
            "look at 200,000 entries against a full destination": lambda: self._pair(
                self._filled(unpacked(self.many)), "look", self.many, again=True
            ),
            "list 200 holdings": lambda: self._pair(self._listed, "list", again=True),
            "add 5 files": lambda: self._pair(self._empty, "add", self.tiny),
            "remove 5 files": lambda: self._pair(self._placed(self.tiny), "remove", "tiny"),
        }

    def _empty(self, _: str) -> Path:
        return self.bench.world()[0]

    def _filled(self, fill: Callable[[Path], None]) -> Prepared:
        return lambda _: self.bench.world(fill)[0]

    def _placed(self, archive: Path, fill: Callable[[Path], None] | None = None) -> Prepared:
        def prepare(program: str) -> Path:
            home, _ = self.bench.world(fill)
            usufruct(home, "add", archive, program=program)
            return home

        return prepare

    def _listed(self, program: str) -> Path:
        home, _ = self.bench.world()
        for number in range(200):
            archive = self.bench.directory / f"part-{number}.zip"
            if not archive.exists():
                with zipfile.ZipFile(archive, "w") as out:
                    for name, body in files(10, 1_000, directories=5, seed=number):
                        out.writestr(f"pack/{number}/{name[5:]}", body)
        usufruct(home, "add", *(self.bench.directory / f"part-{number}.zip" for number in range(200)), program=program)
        return home

    def _pair(self, prepare: Prepared, *words: object, again: bool = False) -> Pair:
        """Both programs in turn, each time in a home of its own, or `again` in the same one."""
        numbers = range(-1, self.bench.runs)
        homes: dict[tuple[str, int], Path] = {}
        for program in (PROGRAM, self.earlier):
            for number in numbers:
                homes[program, number] = homes[program, -1] if again and number >= 0 else prepare(program)
        return self.bench.measure(
            str(words[0]),
            lambda number: usufruct(homes[PROGRAM, number], *words),
            lambda number: usufruct(homes[self.earlier, number], *words, program=self.earlier),
        )


def main() -> int:
    """Measure all rows and print the table."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("earlier")
    parser.add_argument("directory", type=Path)
    parser.add_argument("--runs", type=int, default=7)
    parser.add_argument("--only", default="")
    parser.add_argument("--json", type=Path)
    options = parser.parse_args()
    against = Against(Bench(options.directory.absolute(), options.runs), options.earlier)
    cells = [["work", "before", "now", "ratio", "least", "most"]]
    document: dict[str, object] = {"machine": machine(), "rows": []}
    for name, measure in against.rows().items():
        if options.only not in name:
            continue
        found = measure()
        row = found.as_row() | {"work": name}
        document["rows"].append(row)  # type: ignore[attr-defined]
        before, now = (statistics.median(one.seconds for one in runs) for runs in (found.plain, found.ours))
        cells.append(
            [
                name,
                f"{before:.2f} s",
                f"{now:.2f} s",
                f"{row['ratio']:.2f}",
                f"{row['least']:.2f}",
                f"{row['most']:.2f}",
            ]
        )
        write(document, options.json)
    print(table(cells))
    return 0


if __name__ == "__main__":
    sys.exit(main())
