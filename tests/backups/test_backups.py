"""The store of replaced files: each content once, copies checked, nothing given that is not there."""

import os
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

from blake3 import blake3

from usufruct.backups import Backups
from usufruct.errors import StoreError
from usufruct.files.platform import this_platform


def digest(content: bytes) -> bytes:
    return blake3(content).digest()


class BackupsTest(unittest.TestCase):
    def setUp(self) -> None:
        passing = tempfile.TemporaryDirectory()
        self.addCleanup(passing.cleanup)
        self.folder = Path(passing.name)
        self.store = Backups(self.folder / "backups", this_platform())
        self.file = self.folder / "file"
        self.file.write_bytes(b"mine")

    def kept(self) -> list[Path]:
        return [path for path in (self.folder / "backups").rglob("*") if path.is_file()]

    def test_content_is_kept_once_however_often_it_comes(self) -> None:
        (self.folder / "again").write_bytes(b"mine")
        for source in ("file", "again", "file"):
            self.store.keep(str(self.folder / source), digest(b"mine"))
        self.assertEqual(len(self.kept()), 1)
        self.assertTrue(self.store.holds(digest(b"mine")))
        self.assertEqual(list(self.store.digests()), [digest(b"mine")])
        self.assertEqual(self.store.size_of(digest(b"mine")), 4)

    def test_a_file_that_stays_in_use_is_copied_and_not_given_a_second_name(self) -> None:
        self.store.keep(str(self.file), digest(b"mine"), stays=True)
        with self.file.open("r+b") as file:
            file.write(b"ours")
        self.assertEqual(self.kept()[0].read_bytes(), b"mine")

    def test_without_hard_links_a_copy_is_checked(self) -> None:
        store = Backups(self.folder / "backups", replace(this_platform(), has_hard_links=False))
        with self.assertRaisesRegex(StoreError, "changed while it was being backed up"):
            store.keep(str(self.file), digest(b"something else"))
        self.assertEqual(self.kept(), [])
        store.keep(str(self.file), digest(b"mine"))
        self.assertEqual(self.kept()[0].stat().st_nlink, 1)

    def test_what_is_given_back_is_a_copy_as_long_as_others_need_it(self) -> None:
        self.store.keep(str(self.file), digest(b"mine"))
        self.file.unlink()
        self.store.give(digest(b"mine"), str(self.folder / "one"), is_last=False)
        self.assertEqual(self.kept()[0].stat().st_nlink, 1)
        self.store.give(digest(b"mine"), str(self.folder / "two"), is_last=True)
        self.assertEqual(self.kept()[0].stat().st_nlink, 2)
        self.store.part(digest(b"mine"))
        self.assertEqual(self.kept()[0].stat().st_nlink, 1)
        self.store.part(digest(b"mine"))
        self.store.part(digest(b"never kept"))

    def test_content_that_is_missing_is_told(self) -> None:
        with self.assertRaisesRegex(StoreError, "is missing"):
            self.store.give(digest(b"mine"), str(self.folder / "x"), is_last=True)

    def test_dropping_may_be_repeated_and_leaves_no_empty_directory(self) -> None:
        self.store.keep(str(self.file), digest(b"mine"))
        for _ in range(2):
            self.store.drop(digest(b"mine"))
            self.store.drop_empty()
        self.assertEqual(list((self.folder / "backups").iterdir()), [])
        self.store.keep(str(self.file), digest(b"mine"))
        self.assertEqual(len(self.kept()), 1)

    def test_an_unfinished_copy_goes(self) -> None:
        store = Backups(self.folder / "backups", replace(this_platform(), has_hard_links=False))
        with (
            mock.patch("usufruct.backups.sync_file", side_effect=KeyboardInterrupt),
            self.assertRaises(KeyboardInterrupt),
        ):
            store.keep(str(self.file), digest(b"mine"))
        self.assertEqual(len(os.listdir(store.top)), 2)
        store.drop_partial()
        self.assertFalse(self.kept())


if __name__ == "__main__":
    unittest.main()
