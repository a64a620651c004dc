"""Keep a ledger as this version of Usufruct writes it, for the tests of all later ones: before VERSION is raised.

python tools/ledger_of_today.py
"""

import sqlite3
import sys
import tempfile
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))

from tests.ledger.test_versions import ARCHIVES, MINE, VERSIONS
from tests.support import World


def main() -> None:
    """Make the world, let it be recorded, and keep the record as text."""
    with tempfile.TemporaryDirectory() as folder:
        world = World(Path(folder).resolve())
        world.context_with_definitions()
        world.write(MINE)
        for name, files in ARCHIVES.items():
            world.add_files(name, files)
        world.remove("three")
        ledger = sqlite3.connect(world.places.ledger)
        version = ledger.execute("PRAGMA user_version").fetchone()[0]
        text = "\n".join(ledger.iterdump()).replace(str(world.folder), "@ROOT@")
    file = VERSIONS / f"{version}.sql"
    file.write_text(
        f"-- A ledger as version {version} wrote it.\nPRAGMA user_version = {version};\n{text}\n", encoding="utf-8"
    )


if __name__ == "__main__":
    main()
