"""Reading 50 MB of each old and rare format in one process, against the bare loop of the common library.

    python -m benchmarks.rare [--small] [--json FILE] [DIRECTORY]

Part of `benchmarks.reading`. Start-up is not counted. Ours lists the archive and reads every entry with all checks. The
plain loop asks libarchive for every byte and looks at none of them. For tars and xar, which libarchive may
lack, Python's own modules are used instead. Both run in turn.
"""

import argparse
import io
import json
import statistics
import struct
import subprocess
import sys
import tempfile
import zlib
from pathlib import Path

from tests.archives.old_writers import xar_of

from benchmarks.inputs import files, make_by_library, make_tar
from benchmarks.measuring import machine, table

_RUNS = 5
_OURS = """
import sys, time
from pathlib import Path
from usufruct.archives.archive_library import library
from usufruct.archives.opening import open_archive
library()
begin = time.perf_counter()
archive = open_archive(Path(sys.argv[1]))
listing = archive.listing
total = sum(len(block) for _, blocks in archive.stream(range(len(listing))) for block in blocks)
print(time.perf_counter() - begin, total)
"""
_LIBRARY = """
import sys, time
from usufruct.archives.archive_library import library
library()
import libarchive
begin = time.perf_counter()
with libarchive.file_reader(sys.argv[1]) as archive:
    total = sum(len(block) for entry in archive for block in entry.get_blocks())
print(time.perf_counter() - begin, total)
"""
_TAR_ZST = """
import sys, tarfile, time
from usufruct.archives.streams.zstd import zstd
begin = time.perf_counter()
total = 0
with zstd.open(sys.argv[1]) as plain, tarfile.open(fileobj=plain, mode="r|") as archive:
    for entry in archive:
        file = archive.extractfile(entry)
        while file and (block := file.read(1 << 20)): total += len(block)
print(time.perf_counter() - begin, total)
"""
_TAR = _TAR_ZST.replace("zstd.open(sys.argv[1])", 'open(sys.argv[1], "rb")')
_XAR = """
import hashlib, sys, time, zlib
from xml.etree import ElementTree
begin = time.perf_counter()
with open(sys.argv[1], "rb") as file:
    head = file.read(28)
    listed = zlib.decompress(file.read(int.from_bytes(head[8:16], "big")))
    heap, total = file.tell(), 0
    for data in ElementTree.fromstring(listed).iter("data"):
        file.seek(heap + int(data.find("offset").text))
        content = zlib.decompress(file.read(int(data.find("length").text)))
        hashlib.sha1(content)
        total += len(content)
print(time.perf_counter() - begin, total)
"""
_BLOCK = 32768
"""Bytes of a cab's block."""


def make_cab(path: Path, count: int, total: int) -> Path:
    """A cab of seeded files, packed as MSZIP in one folder; the layout is that of [MS-CAB]."""
    content, rows = io.BytesIO(), []
    for name, body in files(count, total):
        rows.append(struct.pack("<LLHHHH", len(body), content.tell(), 0, 0x5A8E, 0x7925, 0x20) + name.encode() + b"\0")
        content.write(body)
    plain, blocks, before = content.getvalue(), [], b""
    for at in range(0, len(plain), _BLOCK):
        block = plain[at : at + _BLOCK]
        packer = zlib.compressobj(1, zlib.DEFLATED, -15, zdict=before)
        packed = b"CK" + packer.compress(block) + packer.flush()
        blocks.append(struct.pack("<LHH", 0, len(packed), len(block)) + packed)
        before = block
    listed = b"".join(rows)
    data_at = 36 + 8 + len(listed)
    size = data_at + sum(map(len, blocks))
    head = b"MSCF" + struct.pack("<5L2B5H", 0, size, 0, 44, 0, 3, 1, 1, len(rows), 0, 0, 0)
    path.write_bytes(head + struct.pack("<LHH", data_at, len(blocks), 1) + listed + b"".join(blocks))
    return path


def make_xar(path: Path, count: int, total: int) -> Path:
    """A xar of seeded files in a flat list, as the tests' writer makes it."""
    path.write_bytes(xar_of({name.replace("/", "-"): body for name, body in files(count, total)}))
    return path


def measured(directory: Path, scale: float) -> list[dict[str, object]]:
    """A row for each format: megabytes of content a second, ours and plain, and the ratio of times."""
    count, total = int(2000 * scale), int(50e6 * scale)
    packed = directory / "rare.tar.Z"
    plain = make_tar(directory / "rare.tar", count, total)
    _make_packed(packed, plain, "compress")
    made = [
        ("tar", plain, _TAR),
        ("tar.zst", make_tar(directory / "rare.tar.zst", count, total, "zst"), _TAR_ZST),
        ("tar.Z", packed, _LIBRARY),
        ("cpio", make_by_library(directory / "rare.cpio", count, total, "cpio_newc"), _LIBRARY),
        ("xar", make_xar(directory / "rare.xar", count, total), _XAR),
        ("iso", make_by_library(directory / "rare.iso", count, total, "iso9660"), _LIBRARY),
        ("cab", make_cab(directory / "rare.cab", count, total), _LIBRARY),
        ("ar", make_by_library(directory / "rare.ar", count, total, "ar_svr4"), _LIBRARY),
    ]
    return [_compared(name, path, script) for name, path, script in made]


def _make_packed(path: Path, plain: Path, packing: str) -> None:
    from usufruct.archives.archive_library import library

    library()
    import libarchive

    with libarchive.file_writer(str(path), "raw", packing) as writer:
        content = plain.read_bytes()
        writer.add_file_from_memory("x", len(content), content)


def _compared(name: str, path: Path, plain: str) -> dict[str, object]:
    pairs = []
    for _ in range(_RUNS):
        ours, baseline = _timed(_OURS, path), _timed(plain, path)
        if ours[1] != baseline[1]:
            raise SystemExit(f"{path}: {ours[1]} bytes read here, {baseline[1]} there")
        pairs.append((ours[0], baseline[0]))
    ratios = sorted(mine / other for mine, other in pairs)
    row: dict[str, object] = {
        "format": name,
        "seconds": round(statistics.median(mine for mine, _ in pairs), 3),
        "baseline_seconds": round(statistics.median(other for _, other in pairs), 3),
        "ratio": round(statistics.median(ratios), 2),
        "least": round(ratios[0], 2),
        "most": round(ratios[-1], 2),
    }
    print(f"{name}: {row['ratio']}", file=sys.stderr)
    return row


def _timed(script: str, path: Path) -> tuple[float, int]:
    done = subprocess.run([sys.executable, "-c", script, str(path)], capture_output=True, text=True, check=True)
    seconds, total = done.stdout.split()
    return float(seconds), int(total)


def words(rows: list[dict[str, object]]) -> str:
    """The rows as a table."""
    lines = [["format, 50 MB", "usufruct", "plain library", "ratio", "least", "most"]]
    lines += [
        [str(row["format"]), f"{row['seconds']:.3f} s", f"{row['baseline_seconds']:.3f} s", f"{row['ratio']:.2f}",
         f"{row['least']:.2f}", f"{row['most']:.2f}"]
        for row in rows
    ]  # fmt: skip
    return table(lines)


def main() -> int:
    """Measure, print the table, write it as JSON where asked."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("directory", nargs="?", type=Path)
    parser.add_argument("--small", action="store_true", help="a tenth of everything, for trying it")
    parser.add_argument("--json", type=Path)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="usufruct-bench-") as passing:
        directory = options.directory or Path(passing)
        directory.mkdir(parents=True, exist_ok=True)
        rows = measured(directory, 0.1 if options.small else 1.0)
    print(words(rows))
    if options.json:
        options.json.write_text(json.dumps({"machine": machine(), "rows": rows}, indent=2) + "\n", encoding="utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main())
