"""What is met at destinations is the same whether it is kept in columns or as objects."""

import os
import unittest

from tests.support import WorldTest
from usufruct.actions.examine import examined
from usufruct.actions.looking import look_at
from usufruct.actions.outcomes import Ready
from usufruct.files.looking import state_at
from usufruct.model.plan import Conflict
from usufruct.model.records import FileKind

PACK = {
    "gels/plain.gel": "theirs",
    "gels/same.gel": "same",
    "gels/spelled.gel": "theirs",
    "gels/link.gel": "theirs",
    "gels/held.gel": "theirs",
    "gels/gone.gel": "theirs",
    "gels/new.gel": "theirs",
}


class MetTest(WorldTest):
    def test_every_row_tells_what_is_there(self) -> None:
        self.world.add_files("first.zip", {"gels/held.gel": "placed", "gels/gone.gel": "placed"})
        self.world.write({"Gels/plain.gel": "mine", "Gels/same.gel": "same", "Gels/Spelled.gel": "mine"})
        gels = self.world.lanternbox / "Gels"
        (gels / "link.gel").symlink_to("plain.gel")
        (gels / "gone.gel").unlink()
        archive = self.world.archive("pack.zip", PACK)
        request = self.world.request()
        with (
            self.world.context.reading() as ledger,
            examined(self.world.context, [archive], request, ledger, for_adding=False) as found,
        ):
            assert isinstance(found, Ready)
            met, listing = found.plan.snapshot.found, found.layout.listing
            conflicts = {listing.names[row]: found.plan.conflict(row) for row in range(len(listing))}
        rows = {listing.names[row]: row for row in range(len(listing))}
        self.assertEqual({name for name, row in rows.items() if row in met}, set(rows) - {"new.gel"})
        self.assertIsNone(met.get(rows["new.gel"]))
        self.assertEqual(sorted(met.plain_rows), sorted([rows["plain.gel"], rows["same.gel"]]))
        self.assertEqual(len(met), len(met.plain_rows) + len(list(met.others())))
        for name, row in rows.items():
            if row in met:
                with self.subTest(name):
                    one = met[row]
                    self.assertEqual(one.name, "Spelled.gel" if name == "spelled.gel" else name)
                    self.assertEqual(one.state, state_at(str(gels / one.name)))
                    self.assertEqual(len(one.stack), int(name in ("held.gel", "gone.gel")))
                    self.assertIs(met[row], one)
        self.assertEqual(met[rows["gone.gel"]].state.kind, FileKind.ABSENT)
        replaced = dict.fromkeys(rows, Conflict.REPLACES)
        self.assertEqual(
            conflicts, replaced | {"same.gel": Conflict.SAME, "new.gel": Conflict.NONE, "gone.gel": Conflict.NONE}
        )

    def test_a_time_that_no_column_holds_is_met_all_the_same_and_refused_in_words(self) -> None:
        """Adding over it ended as a fault of our own, in the middle of the change."""
        self.world.write({"Gels/plain.gel": "mine"})
        late = self.world.lanternbox / "Gels/plain.gel"
        os.utime(late, ns=(1 << 40, 10_413_792_000 * 10**9))
        if late.stat().st_mtime_ns < 1 << 63:
            self.skipTest("the file system has no such time")
        archive = self.world.archive("pack.zip", PACK)
        (looked,) = look_at(self.world.context, [archive], self.world.request())
        assert isinstance(looked, Ready), looked
        self.assertEqual([found.state for _, found in looked.plan.snapshot.found.others()], [state_at(str(late))])
        for path in (late, late.parent):
            os.utime(path, ns=(1 << 40, 10_413_792_000 * 10**9))
            refused = self.world.add(archive)
            self.assertEqual(refused.state, "refused")
            self.assertIn(f"{path} has a time after the year 2262", refused.error.message)
            os.utime(path)
        self.assertEqual(self.world.add(archive).state, "added")


if __name__ == "__main__":
    unittest.main()
