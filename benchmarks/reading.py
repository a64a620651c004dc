"""Reading every entry of each format, against the plain call of the common library; and memory at size.

    python -m benchmarks.reading [--small] [--json FILE] [DIRECTORY]

The archives are made from a seed in DIRECTORY (by default a temporary one). Needs about 4 GB of disk, 200 MB with
--small.
"""

import argparse
import json
import sys
import tempfile
import zipfile
from pathlib import Path

from benchmarks import rare, unpacking
from benchmarks.inputs import make_by_library, make_tar, make_zip
from benchmarks.measuring import PROGRAM, machine, pair, run, table

_ZIP = """
import sys, zipfile
archive = zipfile.ZipFile(sys.argv[1])
for entry in archive.infolist():
    with archive.open(entry) as file:
        while file.read(1 << 20): pass
"""
_TAR = """
import sys, tarfile
archive = tarfile.open(sys.argv[1])
for entry in archive:
    file = archive.extractfile(entry)
    while file and file.read(1 << 20): pass
"""
_TAR_ZST = """
import sys, tarfile
from usufruct.archives.streams.zstd import zstd
plain = zstd.open(sys.argv[1])
archive = tarfile.open(fileobj=plain, mode="r|")
for entry in archive:
    file = archive.extractfile(entry)
    while file and file.read(1 << 20): pass
"""
_SEVEN = """
import sys, py7zr
from py7zr.io import NullIOFactory
with py7zr.SevenZipFile(sys.argv[1]) as archive:
    archive.extract(factory=NullIOFactory())
"""
_MOST = 120_000_000
"""Bytes that reading may hold, whatever the archive's size."""


def main() -> int:
    """Measure, print four tables, write them as JSON where asked."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("directory", nargs="?", type=Path)
    parser.add_argument("--small", action="store_true", help="a tenth of everything, for trying it")
    parser.add_argument("--json", type=Path)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="usufruct-bench-") as passing:
        directory = options.directory or Path(passing)
        directory.mkdir(parents=True, exist_ok=True)
        scale = 0.1 if options.small else 1.0
        speed = _speed(directory, scale)
        memory = _memory(directory, scale)
    words = [["format", "usufruct", "plain library", "ratio", "peak", "peak, plain"]]
    words += [
        [row["work"], f"{row['seconds']:.2f} s", f"{row['baseline_seconds']:.2f} s", f"{row['ratio']:.2f}",
         f"{row['peak'] / 1e6:.0f} MB", f"{row['baseline_peak'] / 1e6:.0f} MB"]
        for row in speed
    ]  # fmt: skip
    print(table(words), "\n")
    print(table([["archive", "peak"], *([name, f"{peak / 1e6:.0f} MB"] for name, peak in memory.items())]), "\n")
    old_formats = rare.measured(directory, scale)
    print(rare.words(old_formats), "\n")
    own = unpacking.measured(scale)
    print(unpacking.words(own))
    if options.json:
        document = {"machine": machine(), "speed": speed, "memory": memory, "rare": old_formats, "own": own}
        options.json.write_text(json.dumps(document, indent=2) + "\n", encoding="utf-8")
    too_much = [name for name, peak in memory.items() if peak > _MOST]
    for name in too_much:
        print(f"{name} took more than {_MOST / 1e6:.0f} MB", file=sys.stderr)
    return 1 if too_much else 0


def _speed(directory: Path, scale: float) -> list[dict]:
    count, total = int(3000 * scale), int(200e6 * scale)
    made = [
        ("zip, deflate", make_zip(directory / "a.zip", count, total), _ZIP),
        ("zip, stored", make_zip(directory / "b.zip", count, total, method=zipfile.ZIP_STORED), _ZIP),
        ("zip, bzip2", make_zip(directory / "c.zip", count // 4, total // 4, method=zipfile.ZIP_BZIP2), _ZIP),
        ("zip, lzma", make_zip(directory / "d.zip", count // 4, total // 4, method=zipfile.ZIP_LZMA), _ZIP),
        ("tar", make_tar(directory / "a.tar", count, total), _TAR),
        ("tar.gz", make_tar(directory / "a.tar.gz", count, total, "gz"), _TAR),
        ("tar.bz2", make_tar(directory / "a.tar.bz2", count // 4, total // 4, "bz2"), _TAR),
        ("tar.xz", make_tar(directory / "a.tar.xz", count, total, "xz"), _TAR),
        ("tar.zst", make_tar(directory / "a.tar.zst", count, total, "zst"), _TAR_ZST),
        ("7z, solid", make_by_library(directory / "a.7z", count, total, "7zip", "compression-level=1"), _SEVEN),
    ]
    rows = []
    for name, path, plain in made:
        measured = pair(
            name,
            lambda _, path=path: run([PROGRAM, "look", "--verify", str(path)]),
            lambda _, path=path, plain=plain: run([sys.executable, "-c", plain, str(path)]),
            runs=3 if scale == 1 else 1,
        )
        rows.append(measured.as_row())
        print(f"{name}: {measured.ratio:.2f}", file=sys.stderr)
    return rows


def _memory(directory: Path, scale: float) -> dict[str, int]:
    made = {
        f"zip of {2 * scale:.1f} GB, stored": make_zip(
            directory / "big.zip", max(1, int(20 * scale)), int(2e9 * scale), method=zipfile.ZIP_STORED
        ),
        f"solid 7z of {500 * scale:.0f} MB": make_by_library(
            directory / "big.7z", int(500 * scale), int(500e6 * scale), "7zip", "compression-level=1"
        ),
        f"tar of {10_000 * scale:,.0f} entries": make_tar(
            directory / "many.tar", int(10_000 * scale), int(100e6 * scale)
        ),
    }
    return {name: run([PROGRAM, "look", "--verify", str(path)]).peak for name, path in made.items()}


if __name__ == "__main__":
    sys.exit(main())
