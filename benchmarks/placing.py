"""Every row of the aims: Usufruct as a whole process against the plain call that does none of its work.

    python -m benchmarks.placing [--runs N] [--only WORDS] [--json FILE] DIRECTORY [DIRECTORY…]

Each DIRECTORY is on a file system to be measured, on a disk or in memory, row by row in turn; some 8 GB for each run
are written there and left. Nothing is deleted between timed runs: creating files soon after deleting many is several
times slower on some file systems, and would push every ratio towards 1.
"""

import argparse
import fcntl
import json
import os
import shutil
import sys
import tempfile
import time
import zipfile
from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import replace
from pathlib import Path

from benchmarks.inputs import files, make_by_library, make_tar, make_zip
from benchmarks.measuring import PROGRAM, Pair, Run, machine, pair, run, table
from usufruct.files.mounts import mounted_kind

_UNZIP = "import sys, zipfile\nzipfile.ZipFile(sys.argv[1]).extractall(sys.argv[2])"
_UNTAR = "import sys, tarfile\ntarfile.open(sys.argv[1]).extractall(sys.argv[2])"
_UNTAR_ZST = (
    "import sys, tarfile\n"
    "from usufruct.archives.streams.zstd import zstd\n"
    "plain = zstd.open(sys.argv[1])\n"
    "tarfile.open(fileobj=plain, mode='r|').extractall(sys.argv[2])"
)
_UN7Z = "import sys, py7zr\npy7zr.SevenZipFile(sys.argv[1]).extractall(sys.argv[2])"
_RMTREE = "import sys, shutil\nshutil.rmtree(sys.argv[1])"
_WALK = """
import os, sys
def walk(path):
    for entry in os.scandir(path):
        if entry.is_dir(follow_symlinks=False):
            walk(entry.path)
        else:
            entry.stat(follow_symlinks=False)
walk(sys.argv[1])
"""
_UNZIP_ALL = """
import os, sys, zipfile
for name in os.listdir(sys.argv[1]):
    zipfile.ZipFile(os.path.join(sys.argv[1], name)).extractall(os.path.join(sys.argv[2], name[:-4]))
"""
_LISTED = """
import os, sys, zipfile
for info in zipfile.ZipFile(sys.argv[1]).infolist():
    try:
        os.lstat(os.path.join(sys.argv[2], info.filename))
    except OSError:
        pass
"""
_UNSYNCED = """
import sys
from usufruct.files import platform
platform._linux_sync_file_system = lambda descriptor: True
platform.Platform.make_durable = lambda self, top: None
platform.Platform.sync_names = lambda self, directories: None
import usufruct.ledger.ledger as ledger
from usufruct.cli.main import run
sys.exit(run(sys.argv[1:]))
"""
_EACH_RUN = 8e9
"""Bytes that each run of all rows leaves behind."""
_DEFINITION = """usufruct = 1
[application]
name = "bench"
root = "{root}"
programs = "refuse"
[[folder]]
name = "pack"
path = "pack"
arrange = "tree"
"""


class Bench:
    """A directory with inputs, and fresh worlds in it."""

    def __init__(self, directory: Path, runs: int) -> None:
        self.directory, self.runs = directory, runs
        directory.mkdir(parents=True, exist_ok=True)

    def fresh(self, name: str) -> Path:
        return Path(tempfile.mkdtemp(prefix=f"{name}-", dir=self.directory))

    def input(self, name: str, make: Callable[[Path], object]) -> Path:
        path = self.directory / name
        if not path.exists():
            beside = self.directory / f"new-{name}"
            make(beside)
            beside.rename(path)
        return path

    def world(self, fill: Callable[[Path], object] | None = None) -> tuple[Path, Path]:
        """Home and application root of a world of its own; `fill` puts files into the root."""
        top = self.fresh("world")
        root, home = top / "root", top / "home"
        root.mkdir()
        (home / "apps").mkdir(parents=True)
        (home / "apps" / "bench.toml").write_text(_DEFINITION.format(root=root), encoding="utf-8")
        if fill:
            fill(root)
        return home, root

    def measure(self, name: str, ours: Callable[[int], Run], plain: Callable[[int], Run]) -> Pair:
        result = pair(name, ours, plain, runs=self.runs)
        print(f"{name}: {result.ratio:.2f}", file=sys.stderr, flush=True)
        return result


def usufruct(home: Path, *words: object, program: str = PROGRAM, waits: bool = False) -> Run:
    """The installed program, or an earlier one, until the prompt is back, and what goes on behind it where it `waits`.

    Nothing does any more when this returns.
    """
    done = run([program, *map(str, words)], USUFRUCT_HOME=str(home), NO_COLOR="1")
    start = time.perf_counter()
    with suppress(FileNotFoundError), (home / "lock-behind").open() as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
    return replace(done, seconds=done.seconds + time.perf_counter() - start) if waits else done


def python(code: str, *words: object, **environment: str) -> Run:
    """A line of Python in a process of its own."""
    return run([sys.executable, "-c", code, *map(str, words)], **environment)


def unpacked(archive: Path) -> Callable[[Path], None]:
    """Fills a root with what the archive holds, of other content."""

    def fill(root: Path) -> None:
        with zipfile.ZipFile(archive) as source:
            for name in source.namelist():
                path = root / name
                path.parent.mkdir(parents=True, exist_ok=True)
                path.write_bytes(b"mine " + name.encode())

    return fill


def _many_files(folder: Path, count: int, suffix: str) -> None:
    """Very many small files; with the suffix of a zip, zips that hold nothing."""
    folder.mkdir(parents=True)
    for number in range(count):
        (folder / f"file {number:06} v1.{number % 7}{suffix}").write_bytes(b"PK\5\6" + bytes(18))


def _archives(folder: Path, count: int) -> None:
    folder.mkdir()
    for number in range(count):
        with zipfile.ZipFile(folder / f"set-{number:03}.zip", "w", zipfile.ZIP_DEFLATED) as out:
            for name, body in files(10, 30_000, directories=2, seed=number):
                out.writestr(f"pack/set {number:03}/{name[5:]}", body)


def rows(bench: Bench, scale: float) -> Iterator[tuple[str, float, Callable[[], Pair]]]:
    """Name, aim and measurement of each row."""
    count = int(20_000 * scale)
    small = bench.input("small.zip", lambda path: make_zip(path, count, int(60e6 * scale)))
    large = bench.input("large.zip", lambda path: make_zip(path, int(100 * scale), int(800e6 * scale)))

    def add(name: str, archive: Path, code: str, fill: Callable[[Path], None] | None = None) -> Pair:
        worlds = {number: bench.world(fill) for number in range(-1, bench.runs)}
        targets = {number: bench.fresh("plain") for number in range(-1, bench.runs)}
        for target in targets.values():
            if fill:
                fill(target)
        return bench.measure(
            name,
            lambda number: usufruct(worlds[number][0], "add", archive),
            lambda number: python(code, archive, targets[number]),
        )

    yield "add a zip of 20,000 small files", 0.55, lambda: add("zip, small", small, _UNZIP)
    yield (
        "the same, all 20,000 replace files that are backed up",
        0.80,
        lambda: add("zip, small, replacing", small, _UNZIP, unpacked(small)),
    )
    yield "add a zip of 100 files of 8 MB", 0.40, lambda: add("zip, large", large, _UNZIP)
    tars = {"gz": (_UNTAR, 0.65), "xz": (_UNTAR, 1.05), "zst": (_UNTAR_ZST, 0.95)}
    for packing, (code, aim) in tars.items():
        archive = bench.input(
            f"t.tar.{packing}",
            lambda path, packing=packing: make_tar(path, int(5000 * scale), int(300e6 * scale), packing),
        )
        yield (
            f"add a tar.{packing} of 300 MB",
            aim,
            lambda archive=archive, code=code, packing=packing: add(f"tar.{packing}", archive, code),
        )
    seven = bench.input(
        "t.7z", lambda path: make_by_library(path, int(5000 * scale), int(300e6 * scale), "7zip", "compression-level=1")
    )
    yield "add a solid 7z of the same", 0.85, lambda: add("7z", seven, _UN7Z)

    def remove(name: str, fill: Callable[[Path], None] | None = None, *, waits: bool = False) -> Pair:
        worlds, trees = {}, {}
        for number in range(-1, bench.runs):
            worlds[number] = bench.world(fill)
            usufruct(worlds[number][0], "add", small)
            trees[number] = bench.fresh("tree")
            python(_UNZIP, small, trees[number])
        return bench.measure(
            name,
            lambda number: usufruct(worlds[number][0], "remove", "small", waits=waits),
            lambda number: python(_RMTREE, trees[number]),
        )

    def half(root: Path) -> None:
        for number, (name, _) in enumerate(files(count, int(60e6 * scale))):
            if number % 2:
                path = root / name
                path.parent.mkdir(parents=True, exist_ok=True)
                path.write_bytes(b"mine " + name.encode())

    yield "remove 20,000 files, until the prompt is back", 0.7, lambda: remove("remove")
    yield "remove 20,000 files, until all is cleared away", 1.5, lambda: remove("remove, cleared", waits=True)
    yield "the same, half of them given back", 1.7, lambda: remove("remove, half", half, waits=True)

    def check() -> Pair:
        home, root = bench.world()
        usufruct(home, "add", small)
        return bench.measure("check", lambda _: usufruct(home, "check"), lambda _: python(_WALK, root))

    yield "check 20,000 unchanged files", 1.4, check

    def undo() -> Pair:
        worlds, targets = {}, {}
        for number in range(-1, bench.runs):
            worlds[number], targets[number] = bench.world(), bench.fresh("plain")
            usufruct(worlds[number][0], "add", small)
            usufruct(worlds[number][0], "remove", "small", waits=True)
        return bench.measure(
            "undo",
            lambda number: usufruct(worlds[number][0], "undo"),
            lambda number: python(_UNZIP, small, targets[number]),
        )

    yield "undo the removal of 20,000 files", 1.0, undo

    def downloads() -> Pair:
        folder = bench.input("downloads", lambda path: _many_files(path, int(200_000 * scale), ".zip"))
        home, _ = bench.world()
        usufruct(home, "settings", "set", "downloads", folder)
        return bench.measure("downloads", lambda _: usufruct(home, "downloads"), lambda _: python(_WALK, folder))

    yield "downloads, in a folder of 200,000 archives", 1.8, downloads

    def whose() -> Pair:
        home, root = bench.world(lambda root: _many_files(root / "mine", int(480_000 * scale), ".txt"))
        usufruct(home, "add", small)
        return bench.measure("whose", lambda _: usufruct(home, "whose", root), lambda _: python(_WALK, root))

    yield "whose, of a folder with 500,000 files", 1.8, whose

    def many(doing: str) -> Pair:
        archives = bench.input("archives", lambda path: _archives(path, int(300 * scale)))
        words = sorted(archives.iterdir())
        worlds = {number: bench.world() for number in range(-1, bench.runs)}
        targets = {number: bench.fresh("plain") for number in worlds}
        if doing == "add":
            return bench.measure(
                "add many",
                lambda number: usufruct(worlds[number][0], "add", *words),
                lambda number: python(_UNZIP_ALL, archives, targets[number]),
            )
        for number, (home, _) in worlds.items():
            usufruct(home, "add", *words)
            python(_UNZIP_ALL, archives, targets[number])
        return bench.measure(
            "remove many",
            lambda number: usufruct(worlds[number][0], "remove", "--app", "bench"),
            lambda number: python(_RMTREE, targets[number]),
        )

    yield "add 300 archives of 10 files", 1.2, lambda: many("add")
    yield "remove these in one command", 2.0, lambda: many("remove")

    def look() -> Pair:
        many = bench.input("many.zip", lambda path: make_zip(path, int(200_000 * scale), int(20e6 * scale)))
        home, root = bench.world(unpacked(many))
        return bench.measure("look", lambda _: usufruct(home, "look", many), lambda _: python(_LISTED, many, root))

    yield "plan 200,000 entries against a full destination", 0.8, look

    def unsynced() -> Pair:
        worlds = {(kind, number): bench.world() for number in range(-1, bench.runs) for kind in "ab"}
        return bench.measure(
            "safety",
            lambda number: usufruct(worlds["a", number][0], "add", small),
            lambda number: python(_UNSYNCED, "add", small, USUFRUCT_HOME=str(worlds["b", number][0])),
        )

    yield "all the safety on against the same without syncing", 1.12, unsynced


def listing(bench: Bench) -> dict[str, float]:
    """Seconds that `list` takes over a bare interpreter, with 200 holdings of 20,000 files in all."""
    home, _ = bench.world()
    for number in range(200):
        archive = bench.directory / f"part-{number}.zip"
        with zipfile.ZipFile(archive, "w") as out:
            for name, body in files(100, 10_000, directories=5, seed=number):
                out.writestr(f"pack/{number}/{name[5:]}", body)
        usufruct(home, "add", archive)
    measured = bench.measure("list", lambda _: usufruct(home, "list"), lambda _: python("pass"))
    ours = sorted(one.seconds for one in measured.ours)[len(measured.ours) // 2]
    bare = sorted(one.seconds for one in measured.plain)[len(measured.plain) // 2]
    return {"seconds": ours, "bare": bare, "over": ours - bare}


def memory(bench: Bench, scale: float) -> dict[str, int]:
    """Peak bytes of three large additions."""
    found = {}
    many = bench.input("many.zip", lambda path: make_zip(path, int(200_000 * scale), int(20e6 * scale)))
    found["add 200,000 entries"] = usufruct(bench.world()[0], "add", many).peak
    huge = bench.input(
        "huge.zip",
        lambda path: make_zip(path, max(1, int(40 * scale)), int(4e9 * scale), method=zipfile.ZIP_STORED),
    )
    found["add 4 GB of content"] = usufruct(bench.world()[0], "add", huge).peak
    solid = bench.input(
        "big.7z",
        lambda path: make_by_library(path, int(500 * scale), int(500e6 * scale), "7zip", "compression-level=1"),
    )
    found["add a solid 7z of 500 MB"] = usufruct(bench.world()[0], "add", solid).peak
    return found


def main() -> int:
    """Measure all rows, print the table, write it as JSON where asked."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("directories", type=Path, nargs="+", metavar="DIRECTORY")
    parser.add_argument("--runs", type=int, default=5)
    parser.add_argument("--scale", type=float, default=1.0, help="a fraction of every size, for trying it")
    parser.add_argument("--only", default="", help="only rows with this in their name")
    parser.add_argument("--json", type=Path)
    options = parser.parse_args()
    benches = [Bench(directory.absolute(), options.runs) for directory in options.directories]
    wanted = int((options.runs + 2) * _EACH_RUN * options.scale)
    for bench in benches:
        if not options.only and shutil.disk_usage(bench.directory).free < wanted:
            raise SystemExit(f"{wanted / 1e9:.0f} GB must be free in {bench.directory}.")
    cells = [["work", "on", "usufruct", "baseline", "ratio", "least", "most", "aim", "peak"]]
    document: dict[str, object] = {"machine": machine(), "rows": []}
    for same in zip(*(rows(bench, options.scale) for bench in benches), strict=True):
        for bench, (name, aim, measure) in zip(benches, same, strict=True):
            if options.only not in name:
                continue
            row = measure().as_row()
            row |= {"work": name, "on": mounted_kind(bench.directory.stat().st_dev), "aim": aim}
            document["rows"].append(row)  # type: ignore[attr-defined]
            cells.append(
                [name, f"{row['on']}", f"{row['seconds']:.2f} s", f"{row['baseline_seconds']:.2f} s",
                 f"{row['ratio']:.2f}", f"{row['least']:.2f}", f"{row['most']:.2f}", f"{aim:.2f}",
                 f"{row['peak'] / 1e6:.0f} MB"]
            )  # fmt: skip
            write(document, options.json)
    print(table(cells))
    if not options.only:
        document["list"] = listing(benches[0])
        document["memory"] = memory(benches[0], options.scale)
        print(f"\nlist, 200 holdings of 20,000 files: {document['list']['over']:.3f} s over `python -c pass`\n")  # type: ignore[index]
        print(table([["peak memory", ""], *([k, f"{v / 1e6:.0f} MB"] for k, v in document["memory"].items())]))  # type: ignore[attr-defined]
        write(document, options.json)
    return 0


def write(document: dict[str, object], path: Path | None) -> None:
    """Write what is known so far, where that was asked for."""
    if path:
        path.write_text(json.dumps(document, indent=2) + "\n", encoding="utf-8")


if __name__ == "__main__":
    os.environ.pop("USUFRUCT_HOME", None)
    sys.exit(main())
