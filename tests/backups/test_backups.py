"""The store of replaced files: each content once, copies checked, nothing given that is not there."""

import errno
import os
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from blake3 import blake3
from msgspec.structs import replace

from usufruct.backups import Backups
from usufruct.errors import MachineError, UnsoundBackup
from usufruct.files.looking import state_at, with_digest
from usufruct.files.noted import newest_change, others
from usufruct.files.platform import Platform, this_platform
from usufruct.model.records import FileState


def digest(content: bytes) -> bytes:
    return blake3(content).digest()


class BackupsTest(unittest.TestCase):
    def setUp(self) -> None:
        passing = tempfile.TemporaryDirectory()
        self.addCleanup(passing.cleanup)
        self.folder = Path(passing.name)
        self.store = self.store_on(this_platform())
        self.file = self.folder / "file"
        self.file.write_bytes(b"mine")

    def store_on(self, platform: Platform) -> Backups:
        """The store as another command opens it."""
        return Backups(self.folder / "backups", platform)

    def keep(self, name: str = "file", store: Backups | None = None, *, stays: bool = False) -> FileState:
        path = str(self.folder / name)
        state = with_digest(state_at(path), path)
        (store or self.store).keep(path, state, stays=stays)
        return state

    def kept(self) -> list[Path]:
        return [path for path in (self.folder / "backups").rglob("*") if len(path.name) == 64]

    def test_content_is_kept_once_however_often_it_comes(self) -> None:
        (self.folder / "again").write_bytes(b"mine")
        for source in ("file", "again", "file"):
            self.keep(source)
        self.assertEqual(len(self.kept()), 1)
        self.assertTrue(self.store.holds(digest(b"mine")))
        self.assertEqual(list(self.store.digests()), [digest(b"mine")])
        self.assertEqual(self.store.size_of(digest(b"mine")), 4)

    def test_a_file_that_changes_before_it_is_kept_is_no_backup(self) -> None:
        state = with_digest(state_at(str(self.file)), str(self.file))
        self.file.write_bytes(b"mine, and edited")
        with self.assertRaises(MachineError):
            self.store.keep(str(self.file), state)
        self.assertEqual([path for path in (self.folder / "backups").rglob("*") if path.is_file()], [])

    @unittest.skipIf(this_platform().has_windows_names, "there a user's own directories are private by themselves")
    def test_nobody_else_reads_what_was_replaced(self) -> None:
        self.keep()
        directories = [
            self.folder / "backups",
            *(path for path in (self.folder / "backups").rglob("*") if path.is_dir()),
        ]
        self.assertEqual({path.stat().st_mode & 0o777 for path in directories}, {0o700})

    def test_a_file_that_stays_in_use_is_copied_and_not_given_a_second_name(self) -> None:
        self.keep(stays=True)
        with self.file.open("r+b") as file:
            file.write(b"ours")
        self.assertEqual(self.kept()[0].read_bytes(), b"mine")

    def test_what_was_found_sound_is_not_sound_any_more_once_it_is_dropped(self) -> None:
        self.keep(stays=True)
        self.assertTrue(self.store.is_sound(digest(b"mine")))
        self.store.drop(digest(b"mine"))
        self.assertFalse(self.store.is_sound(digest(b"mine")))

    def test_a_file_with_a_name_elsewhere_is_copied_for_who_writes_there_would_write_the_backup(self) -> None:
        os.link(self.file, self.folder / "elsewhere")
        self.keep()
        self.file.unlink()
        with (self.folder / "elsewhere").open("r+b") as file:
            file.write(b"ours")
        self.assertEqual(self.kept()[0].read_bytes(), b"mine")
        self.assertTrue(self.store.is_sound(digest(b"mine")))

    def test_a_backup_that_is_a_second_name_of_a_file_in_use_becomes_a_file_of_its_own(self) -> None:
        """As a change leaves it that was cut off between the link and the rename."""
        self.keep(stays=True)
        (kept,) = self.kept()
        kept.chmod(0o644)
        kept.unlink()
        os.link(self.file, kept)
        self.keep(store=self.store_on(this_platform()))
        with self.file.open("r+b") as file:
            file.write(b"ours")
        self.assertEqual(kept.read_bytes(), b"mine")

    def test_what_is_kept_already_is_compared_before_it_is_relied_upon(self) -> None:
        self.keep(stays=True)
        self.kept()[0].write_bytes(b"rotten")
        self.keep(store=self.store_on(this_platform()))
        self.assertEqual((self.folder / "backups" / self.kept_name()).read_bytes(), b"mine")
        (aside,) = self.store.set_aside()
        self.assertEqual(Path(aside).read_bytes(), b"rotten")

    def kept_name(self) -> str:
        name = digest(b"mine").hex()
        return f"{name[:2]}/{name}"

    def test_damaged_or_missing_content_is_never_given(self) -> None:
        state = self.keep(stays=True)
        self.kept()[0].write_bytes(b"rott")
        for is_last in (True, False):
            with self.subTest(is_last=is_last), self.assertRaisesRegex(UnsoundBackup, "is damaged in"):
                self.store.give(state, str(self.folder / "given"), is_last=is_last)
            self.assertFalse((self.folder / "given").exists())
            self.assertEqual(self.kept()[0].read_bytes(), b"rott")
        self.kept()[0].unlink()
        with self.assertRaisesRegex(UnsoundBackup, "is missing from"):
            self.store.give(state, str(self.folder / "given"), is_last=True)

    def test_without_hard_links_a_copy_is_checked(self) -> None:
        store = self.store_on(replace(this_platform(), has_hard_links=False))
        state = with_digest(state_at(str(self.file)), str(self.file))
        with self.assertRaisesRegex(MachineError, "changed while it was copied"):
            store.keep(str(self.file), state._replace(digest=digest(b"something else")))
        self.assertEqual(self.kept(), [])
        self.keep(store=store)
        self.assertEqual(self.kept()[0].stat().st_nlink, 1)

    def test_what_is_given_back_is_a_copy_and_only_without_room_for_one_the_backup_itself(self) -> None:
        state = self.keep()
        self.file.unlink()
        self.store.give(state, str(self.folder / "one"), is_last=True)
        self.assertEqual(self.kept()[0].stat().st_nlink, 1)
        full = mock.patch("usufruct.files.copying._copied", side_effect=OSError(errno.ENOSPC, "full"))
        with full, self.assertRaisesRegex(OSError, "full"):
            self.store.give(state, str(self.folder / "two"), is_last=False)
        self.kept()[0].write_bytes(b"rott")
        with full, self.assertRaisesRegex(OSError, "full"):
            self.store.give(state, str(self.folder / "two"), is_last=True)
        self.kept()[0].write_bytes(b"mine")
        with full:
            self.store.give(state, str(self.folder / "two"), is_last=True)
        self.assertEqual(self.kept()[0].stat().st_nlink, 2)
        self.store.unshare(digest(b"mine"))
        self.assertEqual(self.kept()[0].stat().st_nlink, 1)
        self.store.unshare(digest(b"mine"))
        self.store.unshare(digest(b"never kept"))

    def test_dropping_may_be_repeated_and_leaves_no_empty_directory(self) -> None:
        self.keep()
        for _ in range(2):
            self.store.drop(digest(b"mine"))
            self.store.drop_empty()
        self.assertEqual(list((self.folder / "backups").iterdir()), [])
        self.keep()
        self.assertEqual(len(self.kept()), 1)

    def test_what_others_put_into_the_store_is_passed_over_and_left(self) -> None:
        self.keep()
        shard = self.kept()[0].parent
        strays = [
            shard / ".DS_Store",
            shard.parent / ".DS_Store",
            shard.parent / "zz" / "x",
            shard.parent / "partial-x",
            shard.parent / ("00" if shard.name != "00" else "01"),  # as the store calls its directories
        ]
        for stray in strays:
            stray.parent.mkdir(exist_ok=True)
            stray.write_bytes(b"?")
        self.assertEqual(list(self.store.digests()), [digest(b"mine")])
        self.store.drop(digest(b"mine"))
        self.store.drop_empty()
        self.store.drop_partial()
        self.assertTrue(all(stray.exists() for stray in strays))

    def test_what_a_change_brings_before_it_is_on_record_has_no_name_before_its_note_is_durable(self) -> None:
        synced: list[str] = []
        platform = replace(
            this_platform(), sync_descriptor=lambda fd: synced.append(os.readlink(f"/proc/self/fd/{fd}"))
        )
        store = Backups(self.folder / "backups", platform, "a" * 16)
        store.begin(7)
        self.keep(store=store, stays=True)
        self.keep(store=store)
        self.assertTrue(store.holds(digest(b"mine")) and store.is_sound(digest(b"mine")))
        self.assertEqual(list(store.digests()), [])
        self.assertFalse([path for path in synced if "/paths/" in path])
        store.seal()
        self.assertTrue([path for path in synced if "/paths/" in path])
        self.assertEqual(list(store.digests()), [digest(b"mine")])
        self.assertEqual(set(Backups(self.folder / "backups", platform, "a" * 16).brought(7)), {digest(b"mine")})
        self.assertEqual(store.brought(8), [])

    def test_where_content_came_from_is_known_to_whoever_comes_after(self) -> None:
        for ledger, name in (("a" * 16, "file"), ("b" * 16, "other \udcff name\n")):
            store = Backups(self.folder / "backups", this_platform(), ledger)
            (self.folder / name).write_bytes(name.encode("utf-8", "surrogateescape"))
            store.begin(3)
            self.keep(name, store)
            store.seal()
        found = {path.removeprefix(f"{self.folder}/") for path in store.origins.paths().values()}
        self.assertEqual(found, {"file", "other \udcff name\n"})
        self.assertEqual(others(store.top, "b" * 16), ["a" * 16])
        self.assertEqual((newest_change(store.top, "b" * 16), newest_change(store.top, "c" * 16)), (3, 0))
        with (self.folder / "backups" / "paths" / ("b" * 16)).open("ab") as notes:
            notes.write(b"ff 9")  # a power cut
        self.assertEqual(newest_change(store.top, "b" * 16), 3)
        store.origins.settle(is_older=False)
        self.assertEqual(others(store.top, "b" * 16), [])
        self.assertEqual({path.rpartition("/")[2] for path in store.origins.paths().values()}, found)

    def test_notes_of_what_is_gone_do_not_grow_for_ever(self) -> None:
        store = Backups(self.folder / "backups", this_platform(), "a" * 16)
        for number in range(4000):
            store.origins.enter(digest(b"%d" % number), number, str(self.folder / "gone"))
        self.keep(store=store)
        notes = self.folder / "backups" / "paths" / ("a" * 16)
        store.drop_empty()
        self.assertLess(notes.stat().st_size, 400)
        self.assertEqual(store.origins.paths()[digest(b"mine")], str(self.file))
        store.drop(digest(b"mine"))
        store.drop_empty()
        self.assertEqual(list((self.folder / "backups").iterdir()), [])

    def test_notes_of_what_is_there_are_not_written_anew_each_time(self) -> None:
        origins = Backups(self.folder / "backups", this_platform(), "a" * 16).origins
        for number in range(4000):
            origins.enter(digest(b"%d" % number), number, str(self.file))
        notes = self.folder / "backups" / "paths" / ("a" * 16)
        written = []
        for _ in range(3):
            origins.forget(lambda _: True)
            written.append(notes.stat().st_ino)
        self.assertEqual(written[1:], written[:-1])
        self.assertEqual(len(origins.paths()), 4000)

    def test_an_unfinished_copy_goes(self) -> None:
        def stop(descriptor: int) -> None:
            raise KeyboardInterrupt

        store = self.store_on(replace(this_platform(), has_hard_links=False, sync_descriptor=stop))
        with self.assertRaises(KeyboardInterrupt):
            self.keep(store=store)
        self.assertEqual(self.kept(), [])
        partial = Path(store.top, f"partial-{digest(b'mine').hex()}")
        partial.write_bytes(b"mi")  # as a kill leaves it
        store.drop_partial()
        self.assertFalse(self.kept())


if __name__ == "__main__":
    unittest.main()
