"""No question looks at all that is on record, nor at all of a directory that many holdings share."""

import sqlite3
import unittest
from unittest import mock

from tests.support import WorldTest
from usufruct.actions.checking import check_holdings, check_store
from usufruct.actions.listing import list_holdings
from usufruct.actions.repairing import repair
from usufruct.actions.showing import show_holding
from usufruct.actions.undoing import redo, undo
from usufruct.actions.whose import whose
from usufruct.archives.reading import Access
from usufruct.ledger.connection import Connection

WHOLE = {
    "SELECT EXISTS (SELECT 1 FROM layer WHERE directory = ?1 AND holding IS NOT NULL": "it ends with the first",
    "SELECT name, size, modified, inode, kind = 'file' FROM layer WHERE directory = ?": "all there is one holding's",
    "SELECT DISTINCT name FROM layer WHERE directory": "a free name is one that nothing there has",
    "SELECT DISTINCT blake3 FROM layer WHERE is_backed": "the whole store is compared",
    "SELECT blake3 FROM layer WHERE is_backed GROUP BY": "what is backed up has an index of its own",
    "SELECT name, level, holding, kind, size, modified, mode, inode, blake3, target, entry, is_backed, born": (
        "what a change brings has no index: among 200,000 files in one directory it is found in 20 ms"
    ),
    "INSERT INTO directory": "whether it is referred to ends with the first",
    "DELETE FROM directory": "whether it is referred to ends with the first",
}
"""Beginnings of statements that may look through a directory, or all that is backed up, and why."""


class PlansTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.plans: dict[str, list[str]] = {}
        execute = Connection.execute

        def planned(connection: Connection, statement: str, values: object = (), /) -> sqlite3.Cursor:
            words = " ".join(statement.split())
            if words.startswith(("SELECT", "UPDATE", "DELETE", "INSERT")) and words not in self.plans:
                rows = sqlite3.Connection.execute(connection, f"EXPLAIN QUERY PLAN {statement}", values)  # type: ignore[arg-type]
                self.plans[words] = [row[3] for row in rows]
            return execute(connection, statement, values)

        patch = mock.patch.object(Connection, "execute", planned)
        patch.start()
        self.addCleanup(patch.stop)

    def test_of_a_day_of_use(self) -> None:
        context = self.world.context_with_definitions()
        self.world.write({"Gels/moon.gel": "mine", "Gels/sun.gel": "mine"})
        self.world.add_files("one.zip", {"gels/moon.gel": "one", "gels/a.gel": "a", "Owl/rig.toml": "r"})
        self.world.add_files("two.zip", {"gels/moon.gel": "two", "gels/b.gel": "b", "Owl/rig.toml": "r2"})
        newer = self.world.archive("one v2.zip", {"gels/moon.gel": "one more", "gels/c.gel": "c"})
        self.assertEqual(self.world.add(newer, update="one").state, "updated")
        self.assertEqual(len(list(check_holdings(context, (), deep=False))), 2)
        check_store(context)
        list_holdings(context)
        show_holding(context, "one")
        whose(context, self.world.lanternbox / "Gels/moon.gel")
        (self.world.lanternbox / "Gels/b.gel").unlink()
        repair(context, "two", Access(), None, gives_back_changed=False)
        self.world.remove("two")
        undo(context, Access(), None)
        redo(context, Access())
        self.world.remove("one")
        self.assertGreater(len(self.plans), 60)
        for statement, plan in self.plans.items():
            if statement.startswith(tuple(WHOLE)):
                continue
            with self.subTest(statement):
                for step in plan:
                    table, _, how = step.partition(" USING ")
                    if table.split()[-1] in ("layer", "mine", "other", "above", "below", "past_layer"):
                        self.assertTrue(step.startswith("SEARCH"), step)
                        self.assertNotEqual(how, "PRIMARY KEY (directory=?)", step)


if __name__ == "__main__":
    unittest.main()
