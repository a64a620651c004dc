"""Writes what the shipped definitions say into one file, which is read in a moment.

    python tools/definitions.py [--check]

With --check nothing is written; it ends with 1 where the file is not what the definitions say.
"""

import argparse
import sys

import msgspec

from usufruct.definitions.load import INDEX, SHIPPED, parsed_definition


def main() -> int:
    """Write the file, or compare it."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--check", action="store_true")
    check = parser.parse_args().check
    forms = [parsed_definition(file.read_text(encoding="utf-8"), file) for file in sorted(SHIPPED.glob("*.toml"))]
    written = msgspec.json.format(msgspec.json.encode(forms), indent=0) + b"\n"
    if check:
        return int(INDEX.read_bytes() != written)
    INDEX.write_bytes(written)
    return 0


if __name__ == "__main__":
    sys.exit(main())
