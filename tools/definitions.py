"""Writes what the shipped definitions say: into one file that is read in a moment, and into docs/programs.md.

    python tools/definitions.py [--check]

With --check nothing is written; it ends with 1 where a file is not what the definitions say.
"""

import argparse
import sys
from collections.abc import Sequence
from pathlib import Path

import msgspec

from usufruct.definitions.form import DefinitionForm
from usufruct.definitions.load import INDEX, SHIPPED, parsed_definition

PAGE = Path(__file__).parents[1] / "docs" / "programs.md"
BEGIN, END = "<!-- known -->", "<!-- end of known -->"


def main() -> int:
    """Write both files, or compare them."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--check", action="store_true")
    check = parser.parse_args().check
    forms = [parsed_definition(file.read_text(encoding="utf-8"), file) for file in sorted(SHIPPED.glob("*.toml"))]
    before, _, rest = PAGE.read_text(encoding="utf-8").partition(BEGIN)
    page = f"{before}{BEGIN}\n{_table(forms)}\n{END}{rest.partition(END)[2]}"
    written = {INDEX: msgspec.json.encode(forms).decode() + "\n", PAGE: page}
    if check:
        return int(any(file.read_text(encoding="utf-8") != text for file, text in written.items()))
    for file, text in written.items():
        file.write_text(text, encoding="utf-8")
    return 0


def _table(forms: Sequence[DefinitionForm]) -> str:
    rows = ["| name | program | folders | checked with | source |", "|---|---|---|---|---|"]
    for form in forms:
        app = form.application
        folders = ", ".join(folder.name for folder in form.folder)
        rows.append(f"| {app.name} | {app.title} | {folders} | {app.checked} | {app.source} |")
    return "\n".join(rows)


if __name__ == "__main__":
    sys.exit(main())
