"""The ledger: what is written comes back as it was, all or nothing, and strangers are refused by name."""

import sqlite3
import tempfile
import unittest
from pathlib import Path

from usufruct.errors import StoreError
from usufruct.ledger import Ledger, open_ledger, read_ledger
from usufruct.ledger.changes import begin_change, changes_done, set_phase, unfinished_changes
from usufruct.ledger.directories import enter_directories
from usufruct.ledger.holdings import (
    all_holdings,
    enter_holding,
    enter_volumes,
    holding_named,
    mark_gone,
    move_volume,
    volumes_of,
)
from usufruct.ledger.layers import NewLayer, enter_layers, needed_backups, stacks_in
from usufruct.model.changes import ChangeKind, Phase
from usufruct.model.holdings import Holding, Volume
from usufruct.model.records import ABSENT, FileKind, FileState, Layer

HOLDING = Holding(
    number=0,
    name="Barn Owl",
    application="lanternbox",
    root="/world/Lanternbox",
    archive="/downloads/owl.zip",
    archive_size=9,
    archive_digest=b"d" * 32,
    format="zip",
    tidy_name="owl",
    version="1.2",
    origin="https://owls.example",
    choices="{}",
    added=1_700_000_000_123_456_789,
    files=3,
    size=42,
)


class LedgerTest(unittest.TestCase):
    def setUp(self) -> None:
        passing = tempfile.TemporaryDirectory()
        self.addCleanup(passing.cleanup)
        self.path = Path(passing.name) / "ledger.sqlite3"

    def done(self, ledger: Ledger, change: int) -> None:
        set_phase(ledger, change, Phase.DONE, 5)

    def test_it_is_read_wherever_it_lies(self) -> None:
        """What an address would take for a mark of its own, or is no text at all, is part of a name."""
        for name in ("a b?c#d%20e", "\u00fcber&mode=rw", "C:", "\udce9"):
            with self.subTest(name=name):
                path = self.path.parent / name / "ledger.sqlite3"
                with open_ledger(path) as ledger:
                    self.done(ledger, begin_change(ledger, ChangeKind.ADD, name.replace("\udce9", "?"), 1))
                with read_ledger(path) as ledger:
                    assert ledger is not None
                    self.assertEqual(len(changes_done(ledger)), 1)

    def test_a_name_that_is_no_text_is_read_by_the_next_command_as_it_was_written(self) -> None:
        for name in ("\U0010fe80", "na\udcffme"):  # the first is what the second would be spelled with
            path = self.path.with_name(f"{len(name)}.sqlite3")
            with open_ledger(path) as ledger:
                self.done(ledger, begin_change(ledger, ChangeKind.ADD, name, 1))
            with read_ledger(path) as ledger:
                assert ledger is not None
                self.assertEqual([change.about for change in changes_done(ledger)], [name])

    def test_the_file_shrinks_again_once_most_of_it_is_empty(self) -> None:
        with open_ledger(self.path) as ledger:
            change = begin_change(ledger, ChangeKind.ADD, "Barn Owl", 1)
            with ledger.transaction():
                directory = enter_directories(ledger, change, [("/world", 1)])
                state = FileState(FileKind.FILE, 1, 1, 0o644, 1, b"d" * 32)
                names = (f"{number:08} {'x' * 90}" for number in range(60_000))
                enter_layers(ledger, change, (NewLayer(directory, name, Layer(0, None, state, "e")) for name in names))
            self.assertFalse(ledger.is_half_empty)
            large = self.path.stat().st_size
            with ledger.transaction():
                ledger.connection.execute("DELETE FROM layer")
            self.assertTrue(ledger.is_half_empty)
            ledger.shrink()
            self.assertFalse(ledger.is_half_empty)
            self.assertEqual([one.about for one in unfinished_changes(ledger)], ["Barn Owl"])
        self.assertLess(self.path.stat().st_size, large / 10)

    def test_a_holding_counts_from_the_moment_its_change_is_done(self) -> None:
        with open_ledger(self.path) as ledger:
            change = begin_change(ledger, ChangeKind.ADD, "Barn Owl", 1)
            number = enter_holding(ledger, change, HOLDING)
            self.assertEqual(
                (all_holdings(ledger), [one.about for one in unfinished_changes(ledger)]), ([], ["Barn Owl"])
            )
            self.done(ledger, change)
            (found,) = all_holdings(ledger)
            self.assertEqual(
                found, Holding(**{**{f: getattr(HOLDING, f) for f in HOLDING.__slots__}, "number": number})
            )
            self.assertEqual(holding_named(ledger, "barn_OWL"), found)
            removal = begin_change(ledger, ChangeKind.REMOVE, "Barn Owl", 2)
            mark_gone(ledger, removal, number)
            self.assertEqual(len(all_holdings(ledger)), 1, "it is there until the removal is done")
            self.done(ledger, removal)
            self.assertEqual(all_holdings(ledger), [])
            self.assertEqual([one.kind for one in changes_done(ledger)], [ChangeKind.REMOVE, ChangeKind.ADD])

    def test_layers_come_back_as_they_were_many_at_once(self) -> None:
        states = [
            FileState(FileKind.FILE, 1 << 40, -5, 0o755, 1 << 50, b"x" * 32),
            FileState(FileKind.LINK, target="../up"),
            FileState(FileKind.DIRECTORY),
            ABSENT,
        ]
        layers = [Layer(n % 7, None, states[n % 4], f"entry {n}", bool(n % 2)) for n in range(200)]
        with open_ledger(self.path) as ledger:
            change = begin_change(ledger, ChangeKind.ADD, "x", 1)
            directory = enter_directories(ledger, change, [("/world", 3), ("/world/new", None)])
            enter_layers(ledger, change, (NewLayer(directory, f"n{n}", layer) for n, layer in enumerate(layers)))
            stacks = stacks_in(ledger, directory)
            self.assertEqual(
                {name: (layer,) for name, layer in ((f"n{n}", one) for n, one in enumerate(layers))}, stacks
            )
            self.assertEqual(stacks_in(ledger, directory, ["n7", "none"]), {"n7": (layers[7],)})
            self.assertEqual(needed_backups(ledger), {layer.state.digest for layer in layers if layer.is_backed})

    def test_archives_move_for_all_holdings_that_came_from_them(self) -> None:
        volumes = [Volume(path=f"/downloads/owl.zip.00{n}", size=n, digest=bytes([n]) * 32) for n in (1, 2)]
        with open_ledger(self.path) as ledger:
            change = begin_change(ledger, ChangeKind.ADD, "x", 1)
            number = enter_holding(ledger, change, HOLDING)
            enter_volumes(ledger, number, volumes)
            self.assertEqual(volumes_of(ledger, number), volumes)
            move_volume(ledger, "/downloads/owl.zip.002", "/store/owl.zip.002")
            self.assertEqual([one.path for one in volumes_of(ledger, number)][1], "/store/owl.zip.002")

    def test_a_transaction_is_all_or_nothing(self) -> None:
        with open_ledger(self.path) as ledger:
            with self.assertRaises(ZeroDivisionError), ledger.transaction():
                begin_change(ledger, ChangeKind.ADD, "x", 1)
                raise ZeroDivisionError
            self.assertEqual(unfinished_changes(ledger), [])

    def test_what_cannot_be_used_is_told_and_left_alone(self) -> None:
        with read_ledger(self.path) as nothing:
            self.assertIsNone(nothing)
        self.path.write_bytes(b"this is no ledger at all, whatever its name may say" * 20)
        with self.assertRaisesRegex(StoreError, "cannot be used"), open_ledger(self.path):
            pass
        self.path.unlink()
        connection = sqlite3.connect(self.path)
        connection.execute("PRAGMA user_version = 999")
        connection.close()
        with self.assertRaisesRegex(StoreError, "written by a newer Usufruct"), open_ledger(self.path):
            pass


if __name__ == "__main__":
    unittest.main()
