"""Ledgers as every earlier version wrote them: what is on record there comes out again, byte for byte.

`versions/N.sql` is what the program of that version left, once it had added the archives below and removed the last.
Version 1 was never given to anybody.
"""

import sqlite3
import unittest
from pathlib import Path

from blake3 import blake3

from tests.support import WorldTest
from usufruct.actions.checking import check_holdings
from usufruct.actions.history import history
from usufruct.actions.listing import list_holdings
from usufruct.actions.undoing import undo
from usufruct.archives.reading import Access
from usufruct.ledger.ledger import read_ledger
from usufruct.ledger.schema import TABLES, VERSION

VERSIONS = Path(__file__).parent / "versions"
MINE = {"Gels/moon.gel": "mine"}
ARCHIVES = {
    "one.zip": {"gels/moon.gel": "of one", "gels/a.gel": "a of one", "readme.txt": "hi"},
    "two.zip": {"gels/moon.gel": "of two", "Owl/rig.toml": "owl"},
    "three.zip": {"gels/gone.gel": "gone"},
}
PLACED = {"Gels/moon.gel": "of two", "Gels/a.gel": "a of one", "Puppets/Owl/rig.toml": "owl"}


class VersionsTest(WorldTest):
    def restored(self, file: Path) -> None:
        """The ledger of an earlier version, with the files and backups that it speaks of."""
        context = self.world.context_with_definitions()
        for name, files in ARCHIVES.items():
            self.world.archive(name, files)
        for path, content in PLACED.items():
            self.world.write({path: content})
        for content in (b"mine", b"of one"):
            digest = blake3(content).hexdigest()
            kept = self.world.places.backups / digest[:2] / digest
            kept.parent.mkdir(parents=True, exist_ok=True)
            kept.write_bytes(content)
        context.places.ledger.unlink(missing_ok=True)
        ledger = sqlite3.connect(context.places.ledger)
        ledger.executescript(file.read_text(encoding="utf-8").replace("@ROOT@", str(self.world.folder)))
        ledger.close()

    def tables(self) -> dict[str, list[tuple[object, ...]]]:
        """Tables and indexes with their columns, whatever their order."""
        with read_ledger(self.world.places.ledger) as ledger:
            assert ledger
            names = [row[0] for row in ledger.connection.execute("SELECT name FROM sqlite_master WHERE sql NOT NULL")]
            return {
                name: sorted(row[1:4] for row in ledger.connection.execute(f"PRAGMA table_info({name})"))
                for name in sorted(names)
            }

    def test_all_of_each_is_listed_checked_and_taken_out(self) -> None:
        files = sorted(VERSIONS.glob("*.sql"))
        self.assertEqual([int(file.stem) for file in files], list(range(2, VERSION + 1)))
        new = sqlite3.connect(":memory:")
        new.executescript(TABLES)
        wanted = {
            name: sorted(row[1:4] for row in new.execute(f"PRAGMA table_info({name})"))
            for name in sorted(row[0] for row in new.execute("SELECT name FROM sqlite_master WHERE sql NOT NULL"))
        }
        for file in files:
            with self.subTest(file.name):
                self.restored(file)
                context = self.world.context
                self.assertEqual(sorted(one.name for one in list_holdings(context)), ["one", "two"])
                self.assertEqual(self.tables(), wanted)
                self.assertEqual(len(history(context)[0]), 4)
                self.assertTrue(all(one.is_fine for one in check_holdings(context, (), deep=True)))
                if file.stem != "2":  # what a removal took was only kept from the next version on
                    undo(context, Access(), None)
                    self.assertEqual(self.world.contents(), {**PLACED, "Gels/gone.gel": "gone"})
                    self.world.remove("three")
                self.world.remove("one", "two")
                self.assertEqual(self.world.contents(), MINE)
                self.assertEqual(list(self.world.places.backups.rglob("*/*")), [])


if __name__ == "__main__":
    unittest.main()
