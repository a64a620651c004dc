"""Planning alone, without disk: time for 10,000 to 200,000 entries, and whether it grows linearly.

python -m benchmarks.planning [--json FILE]
"""

import argparse
import json
import math
import sys
import time
from pathlib import Path

from benchmarks.measuring import machine, table
from usufruct.model.applications import Application, Arrange, Folder
from usufruct.model.choices import Choices
from usufruct.model.entries import EntryKind, Listing
from usufruct.planning.layout import layout_of

_SIZES = (10_000, 25_000, 50_000, 100_000, 200_000)
_RUNS = 3
APPLICATION = Application(
    name="lanternbox",
    title="Lanternbox shadow theatre",
    root="/nowhere/Lanternbox",
    also=("LB Content",),
    leave=("*.bak",),
    folders=(
        Folder(name="puppets", path="Puppets", arrange=Arrange.PIECES, mark=("rig.toml",), also=("figures",)),
        Folder(name="backdrops", path="Backdrops", arrange=Arrange.TREE, takes=("*.png", "*.webp")),
        Folder(name="gels", path="Gels", arrange=Arrange.LOOSE, takes=("*.gel", "*.csv"), prefer=("*.gel", "*.csv")),
    ),
)


def listing_of(count: int) -> Listing:
    """Puppets in groups, backdrops in a tree, gels in two formats, junk and notes between them."""
    listing = Listing()
    for number in range(count):
        group = number // 40
        match number % 4:
            case 0:
                path = f"dl/pack/figures/g{group % 50}/Puppet {group}"
                name = "rig.toml" if number % 40 == 0 else f"part{number}.svg"
            case 1:
                path, name = f"dl/pack/Backdrops/s{group % 70}", f"scene{number}.png"
            case 2:
                path, name = "dl/pack/gels", f"gel{number // 8}.{'gel' if number % 8 == 2 else 'csv'}"
            case _:
                path, name = f"dl/pack/extra/e{group % 30}", f"thing{number}.{'bak' if number % 8 == 3 else 'txt'}"
        listing.add(listing.directory(path), name, EntryKind.FILE, 100, None, number)
    return listing


def main() -> int:
    """Measure and print a table with the exponent of growth."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--json", type=Path)
    options = parser.parse_args()
    found = {}
    for size in _SIZES:
        listing = listing_of(size)
        times = []
        for _ in range(_RUNS):
            start = time.perf_counter()
            layout = layout_of(listing, APPLICATION, "pack", Choices())
            times.append(time.perf_counter() - start)
        assert layout.files, "the sample has content for the application"
        found[size] = min(times)
    exponent = math.log(found[_SIZES[-1]] / found[_SIZES[0]]) / math.log(_SIZES[-1] / _SIZES[0])
    rows = [["entries", "seconds", "microseconds an entry"]]
    rows += [[f"{size:,}", f"{seconds:.2f}", f"{seconds / size * 1e6:.1f}"] for size, seconds in found.items()]
    print(table(rows))
    print(f"\ntime grows as entries to the power of {exponent:.2f}")
    if options.json:
        document = {"machine": machine(), "seconds": found, "exponent": exponent}
        options.json.write_text(json.dumps(document, indent=2) + "\n", encoding="utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main())
