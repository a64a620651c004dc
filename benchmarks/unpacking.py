"""Everyday content by the methods that Python itself unpacks: megabytes of content a second, in this process alone.

    python -m benchmarks.unpacking [--small] [--json FILE]

Part of `benchmarks.reading`. Each method is run three times; the middle one counts, the least and most are told.
"""

import argparse
import json
import math
import random
import statistics
import struct
import sys
import time
from pathlib import Path

from tests.archives.rar_packer import TextPacker, packed3, tokens_of

from benchmarks.inputs import SEED
from benchmarks.measuring import machine, table
from usufruct.archives.rar.matches import Unpacker29
from usufruct.files.sources import BytesSource

_RUNS = 3
_BLOCK = 30_000
"""Tokens that share their codes."""


def text(size: int) -> bytes:
    """Words as often as in a language: the second half as often as the first, and so on; in lines and paragraphs."""
    chance = random.Random(SEED)
    store = ["".join(chance.choices("etaoinshrdlucmfwyp", k=max(2, int(chance.gauss(6, 2))))) for _ in range(4000)]
    weights = [1 / rank for rank in range(1, len(store) + 1)]
    out = bytearray()
    while len(out) < size:
        sentence = " ".join(chance.choices(store, weights, k=chance.randint(6, 22)))
        out += (sentence.capitalize() + chance.choice((". ", ".\n", "?\n\n", ", "))).encode()
    return bytes(out[:size])


def picture(size: int) -> bytes:
    """Three bytes a pixel: a soft gradient with a little noise, and plain surfaces, as drawn backdrops are."""
    chance = random.Random(SEED)
    width = 640
    out = bytearray()
    for y in range(size // (3 * width) + 1):
        for x in range(width):
            if (x // 160 + y // 120) % 2:
                out += bytes((40, 60 + y // 8 & 255, 90))
            else:
                shade = x * 3 + y * 2 >> 3
                out += bytes((shade + chance.randint(0, 3) & 255, shade >> 1 & 255, 255 - shade & 255))
    return bytes(out[:size])


def model(size: int) -> bytes:
    """A mesh: vertices as floats and triangles as numbers of them, as models of puppets are."""
    rows = int(math.sqrt(size / 36)) + 1
    out = bytearray()
    for i in range(rows):
        for j in range(rows):
            u, v = math.tau * i / rows, math.pi * j / rows
            out += struct.pack("<3f", math.sin(v) * math.cos(u), math.sin(v) * math.sin(u), round(math.cos(v), 3))
    for i in range(rows * rows):
        out += struct.pack("<6L", i, i + 1, i + rows, i + 1, i + rows + 1, i + rows)
    return bytes(out[:size])


def _text_of(content: bytes) -> bytes:
    packer = TextPacker(8, 24)
    packer.text(content)
    packer.put((2, 2))
    return packer.block()


def measured(scale: float) -> list[dict[str, object]]:
    """A row for each method and kind of content."""
    size = int(1_500_000 * scale)
    rows = []
    for kind, content in (("text", text(size)), ("pictures", picture(size)), ("models", model(size))):
        tokens = tokens_of(content, window=1 << 19)
        blocks = [tokens[at : at + _BLOCK] for at in range(0, len(tokens), _BLOCK)]
        methods = [("RAR 3 to 4, matches", packed3(blocks), size)]
        if kind == "text":
            methods.append(("RAR 3 to 4, text model", _text_of(content[: size // 4]), size // 4))
        for name, packed, length in methods:
            speeds = []
            for _ in range(_RUNS):
                begin = time.process_time()
                given = sum(map(len, Unpacker29().file(BytesSource(packed), length)))
                speeds.append(given / 1e6 / (time.process_time() - begin))
            rows.append({
                "method": name, "content": kind, "ratio": len(packed) / given, "MB/s": statistics.median(speeds),
                "least": min(speeds), "most": max(speeds),
            })  # fmt: skip
            print(f"{name}, {kind}: {rows[-1]['MB/s']:.2f} MB/s", file=sys.stderr)
    return rows


def words(rows: list[dict[str, object]]) -> str:
    """The rows as a table."""
    lines = [["method", "content", "packed to", "MB/s of content", "least", "most"]]
    lines += [
        [row["method"], row["content"], f"{row['ratio']:.2f}", f"{row['MB/s']:.2f}", f"{row['least']:.2f}",
         f"{row['most']:.2f}"]
        for row in rows
    ]  # fmt: skip
    return table(lines)  # type: ignore[arg-type]


def main() -> int:
    """Measure, print the table, write it as JSON where asked."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--small", action="store_true", help="a tenth of everything, for trying it")
    parser.add_argument("--json", type=Path)
    options = parser.parse_args()
    rows = measured(0.1 if options.small else 1.0)
    print(words(rows))
    if options.json:
        options.json.write_text(json.dumps({"machine": machine(), "rows": rows}, indent=2) + "\n", encoding="utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main())
