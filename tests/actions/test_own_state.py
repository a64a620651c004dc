"""Usufruct's own state: nobody's destination, and not trusted because it is there."""

import sqlite3
import unittest
from pathlib import Path

from tests.support import WorldTest, run_program
from usufruct.actions.listing import list_holdings
from usufruct.actions.looking import look_at
from usufruct.errors import MachineError, StoreError
from usufruct.files.state_paths import StatePaths
from usufruct.ledger import open_ledger, read_ledger


class OwnStateTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.write({"Gels/moon.gel": "mine"})
        self.world.add_files("pack.zip", {"gels/moon.gel": "theirs"})
        self.state = self.world.paths.data

    def test_an_archive_is_never_placed_over_the_record_however_its_folder_is_spelled(self) -> None:
        """`--to` the folder above, with an archive that has a folder of our name, replaced the ledger once."""
        self.world.paths = StatePaths(self.state, self.state)
        (self.world.folder / "link").symlink_to(self.world.folder)
        ledger = (self.state / "ledger.sqlite3").read_bytes()
        crafted = self.world.archive("crafted.zip", {"state/ledger.sqlite3": "evil", "state/backups/x": "y"})
        flat = self.world.archive("state.zip", {"a.txt": "a", "b.txt": "b"})
        upper = self.world.archive("upper.zip", {"STATE/settings.toml": "evil", "STATE/lock": "x"})
        staging = self.world.archive(
            "staging.zip", {".usufruct-0123456789ab/in/x": "evil", ".usufruct-0123456789ab/out/y": "z"}
        )
        for archive in (crafted, flat, upper, staging):
            for to in (self.world.folder, self.world.folder / "link"):
                request = self.world.request(to=str(to))
                (looked,) = look_at(self.world.context, [archive], request)
                added = self.world.add(archive, to=str(to))
                with self.subTest(archive=archive.name, to=to):
                    self.assertIsInstance(looked.obstacle, MachineError)
                    self.assertEqual(added.state, "refused")
                    self.assertIn("keeps its own files", str(added.error))
        self.assertEqual((self.state / "ledger.sqlite3").read_bytes()[:100], ledger[:100])
        self.assertEqual(self.world.strays(), [])

    def test_a_record_that_somebody_else_wrote_removes_no_directory(self) -> None:
        precious = self.world.folder / "precious"
        precious.mkdir()
        (precious / "photo").write_text("mine")
        with open_ledger(self.world.paths.ledger) as ledger:
            ledger.connection.execute(
                "INSERT INTO staging (path, change, base, parent_before, parent_after, volume, is_beside, expected)"
                " VALUES (?, 1, ?, 0, 0, '?', 0, x'')",
                (str(precious), str(self.world.folder)),
            )
        self.world.add_files("more.zip", {"gels/sun.gel": "sun"})
        self.assertEqual((precious / "photo").read_text(), "mine")

    def test_a_record_with_anything_that_acts_by_itself_is_refused(self) -> None:
        with open_ledger(self.world.paths.ledger) as ledger:
            ledger.connection.execute("CREATE TRIGGER evil AFTER INSERT ON change BEGIN DELETE FROM layer; END")
        for opened in (open_ledger, read_ledger):
            with self.assertRaisesRegex(StoreError, "did not write: evil"), opened(self.world.paths.ledger):
                pass
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "theirs"})

    def told(self, *words: str) -> bool:
        """Whether a command says that backups are on no record."""
        return "does not know 1 backup of files that were replaced" in " ".join(
            run_program(*words, home=self.state).stderr.split()
        )

    def test_a_lost_record_is_told_by_every_command_until_it_is_settled(self) -> None:
        """Only the first addition told it; after that nothing did, and the copies were called by their digests."""
        ledger = self.world.paths.ledger
        with sqlite3.connect(ledger) as connection:
            connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        connection.close()
        record = ledger.read_bytes()

        def lose() -> None:
            for file in self.state.glob("ledger.sqlite3*"):
                file.unlink()

        def empty() -> None:
            lose()
            ledger.write_bytes(b"")

        gel = self.world.lanternbox / "Gels" / "moon.gel"
        for number, losing in enumerate((lose, empty)):
            with self.subTest(losing.__name__):
                losing()
                for command in ("list", "check", "history", "archives", "whose x"):
                    self.assertTrue(self.told(*command.split()), command)
                self.world.add_files(f"more-{number}.zip", {"gels/sun.gel": "sun"})
                self.assertTrue(self.told("list"))
                out = self.world.folder / f"out-{number}"
                done = run_program("recover", "--backups", str(out), home=self.state)
                self.assertIn("1 backup copied", done.stdout, done.stderr)
                self.assertEqual((out / gel.relative_to("/")).read_text(), "mine")
                self.assertFalse(self.told("list"))
                self.world.remove(f"more-{number}")
                self.assertFalse(self.told("list"))
                kept = [path for path in Path(self.state, "backups").rglob("*") if len(path.name) == 64]
                self.assertEqual([path.read_text() for path in kept], ["mine"])
                # The record is found after all.
                lose()
                ledger.write_bytes(record)
                self.assertFalse(self.told("list"))
                self.world.add_files(f"again-{number}.zip", {"gels/again.gel": "again"})
        self.world.remove(*[one.name for one in list_holdings(self.world.context)])
        self.assertEqual(gel.read_text(), "mine")

    def test_an_older_copy_of_the_record_is_told_from_the_last_one(self) -> None:
        ledger = self.world.paths.ledger
        self.world.remove(*[one.name for one in list_holdings(self.world.context)])
        with sqlite3.connect(ledger) as connection:
            connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        connection.close()
        record = ledger.read_bytes()
        self.world.add_files("later.zip", {"gels/moon.gel": "later"})
        self.assertFalse(self.told("list"))
        for file in self.state.glob("ledger.sqlite3*"):
            file.unlink()
        ledger.write_bytes(record)
        self.assertTrue(self.told("list"))
        run_program("recover", "--backups", str(self.world.folder / "out"), home=self.state)
        self.assertFalse(self.told("list"))

    def test_what_others_have_in_the_folder_that_is_copied_into_stays(self) -> None:
        for file in self.state.glob("ledger.sqlite3*"):
            file.unlink()
        out = self.world.folder / "out"
        gel = out / (self.world.lanternbox / "Gels" / "moon.gel").relative_to("/")
        theirs = {gel: "theirs", gel.with_name(".usufruct-0123456789ab.partial"): "theirs too"}
        for path, text in theirs.items():
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(text)
        run_program("recover", "--backups", str(out), home=self.state)
        self.assertEqual({path: path.read_text() for path in theirs}, theirs)
        self.assertEqual(gel.with_name("moon (2).gel").read_text(), "mine")


if __name__ == "__main__":
    unittest.main()
