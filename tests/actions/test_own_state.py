"""Usufruct's own state: nobody's destination, and not trusted because it is there."""

import unittest
from pathlib import Path

from tests.support import WorldTest, run_program
from usufruct.actions.looking import look_at
from usufruct.errors import MachineError, StoreError
from usufruct.files.state_places import StatePlaces
from usufruct.ledger import open_ledger, read_ledger


class OwnStateTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.write({"Gels/moon.gel": "mine"})
        self.world.add_files("pack.zip", {"gels/moon.gel": "theirs"})
        self.state = self.world.places.data

    def test_an_archive_is_never_placed_over_the_record_however_its_folder_is_spelled(self) -> None:
        """`--to` the folder above, with an archive that has a folder of our name, replaced the ledger once."""
        self.world.places = StatePlaces(self.state, self.state)
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
        with open_ledger(self.world.places.ledger) as ledger:
            ledger.connection.execute(
                "INSERT INTO staging (path, change, base, parent_before, parent_after, volume, is_beside, expected)"
                " VALUES (?, 1, ?, 0, 0, '?', 0, x'')",
                (str(precious), str(self.world.folder)),
            )
        self.world.add_files("more.zip", {"gels/sun.gel": "sun"})
        self.assertEqual((precious / "photo").read_text(), "mine")

    def test_a_record_with_anything_that_acts_by_itself_is_refused(self) -> None:
        with open_ledger(self.world.places.ledger) as ledger:
            ledger.connection.execute("CREATE TRIGGER evil AFTER INSERT ON change BEGIN DELETE FROM layer; END")
        for opened in (open_ledger, read_ledger):
            with self.assertRaisesRegex(StoreError, "did not put there: evil"), opened(self.world.places.ledger):
                pass
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "theirs"})

    def test_backups_without_a_record_are_told_kept_and_can_be_taken_out(self) -> None:
        for file in self.state.glob("ledger.sqlite3*"):
            file.unlink()
        told = run_program("recover", home=self.state)
        self.assertIn("was the ledger lost?", told.stderr)
        out = self.world.folder / "out"
        done = run_program("recover", "--backups", str(out), home=self.state)
        self.assertIn("1 backup copied", done.stdout, done.stderr)
        self.assertEqual([path.read_text() for path in out.iterdir()], ["mine"])
        self.world.add_files("more.zip", {"gels/sun.gel": "sun"})
        self.world.remove("more")
        kept = [path for path in Path(self.state, "backups").rglob("*") if path.is_file()]
        self.assertEqual([path.read_text() for path in kept], ["mine"])


if __name__ == "__main__":
    unittest.main()
