"""What other hands do to our files and theirs: links, damage, junk, and the very moment between looking and acting."""

import os
import shutil
import unittest
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from itertools import product
from pathlib import Path
from typing import Any
from unittest import mock

from msgspec.structs import replace

from tests.support import DOWNLOADS, WorldTest, no_trash, run_program
from tests.transaction.kills import killed_at
from usufruct.actions import downloads
from usufruct.actions.adding import add_archives
from usufruct.actions.checking import check_holdings, check_store
from usufruct.actions.context import Context
from usufruct.actions.demonstration import differences
from usufruct.actions.listing import list_holdings
from usufruct.actions.reading import verify
from usufruct.actions.removing import forget_holdings, remove_holdings
from usufruct.archives.reading import Access
from usufruct.backups import Backups
from usufruct.definitions.settings import write_setting
from usufruct.errors import Interrupted, MachineError, PlanIsStale, StillArriving, StoreError
from usufruct.files.directories import Directory
from usufruct.files.platform import Platform, this_platform
from usufruct.ledger import open_ledger, read_ledger
from usufruct.transaction.recover import Recovered

PACK = {"gels/moon.gel": "theirs", "gels/new.gel": "new", "Owl/rig.toml": "owl", "Owl/a.svg": "a"}


class ForeignHandsTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.write({"Gels/moon.gel": "mine"})
        self.before = self.world.tree()

    def kept(self) -> list[Path]:
        return [path for path in self.world.paths.backups.rglob("*") if path.is_file() and len(path.name) == 64]

    def recovered(self) -> Recovered:
        told: list[Recovered] = []
        with Context(paths=self.world.paths, platform=self.world.platform, on_recovery=told.append).writing("recover"):
            pass
        return told[0] if told else Recovered()

    def gel(self) -> Path:
        return self.world.lanternbox / "Gels" / "moon.gel"

    # --- the archive --------------------------------------------------------------------------------------

    def test_an_archive_that_is_written_to_while_it_is_added_is_not_added(self) -> None:
        """It was placed mixed, one half of each, and called fine."""
        pack = self.world.archive("pack.tar", {f"gels/{number}.gel": "a" * 2000 for number in range(9)})
        other = pack.read_bytes().replace(b"a" * 2000, b"b" * 2000)

        def in_place() -> None:
            with pack.open("r+b") as file:
                file.write(other)

        def anew() -> None:
            pack.unlink()
            pack.write_bytes(other)

        def longer() -> None:
            with pack.open("ab") as file:
                file.write(b"x")

        for write in (in_place, anew, longer):
            for point, number in (("staging-made", 0), ("staged-one", 3)):
                with self.subTest(write=write, point=point):
                    seen = 0

                    def checkpoint(
                        name: str, point: str = point, number: int = number, write: Callable = write
                    ) -> None:
                        nonlocal seen
                        if name == point:
                            if seen == number:
                                write()
                            seen += 1

                    self.world.checkpoint = checkpoint
                    added = self.world.add(pack)
                    self.assertEqual((added.state, type(added.error)), ("failed", StillArriving))
                    self.assertEqual(differences(self.before, self.world.tree()), [])

    def test_an_archive_that_is_written_to_while_it_is_verified_is_not_called_fine(self) -> None:
        pack = self.world.archive("pack.tar", {"gels/moon.gel": "theirs"})
        touched = mock.patch("usufruct.actions.reading.read_through", side_effect=lambda *_: os.utime(pack))
        with touched:
            self.assertIsInstance(verify(pack, Access()).error, StillArriving)
        self.assertIsNone(verify(pack, Access()).error)

    # --- backups ------------------------------------------------------------------------------------------

    def test_what_is_written_through_another_name_of_the_replaced_file_does_not_reach_its_backup(self) -> None:
        os.link(self.gel(), self.world.folder / "second name")
        self.world.add_files("pack.zip", PACK)
        with (self.world.folder / "second name").open("r+") as file:
            file.write("OURS")
        self.world.remove("pack")
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "mine"})

    def test_a_damaged_backup_is_not_given_back_and_hinders_nothing_else(self) -> None:
        self.world.add_files("pack.zip", PACK)
        (kept,) = self.kept()
        kept.write_text("rotten")
        (removal,) = self.world.remove("pack")
        self.assertEqual(removal.removed.unbacked, (str(self.gel()),))
        self.assertEqual((removal.removed.left, self.world.contents()), ((), {"Gels/moon.gel": "theirs"}))
        self.assertEqual(kept.read_text(), "rotten")
        (holding,) = list_holdings(self.world.context)
        self.assertTrue(holding.is_partial)
        # Put back from somebody's own backup, it is given; and without it the record can be dropped.
        kept.write_text("mine")
        self.world.remove("pack")
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "mine"})
        self.world.add_files("pack.zip", PACK)
        self.kept()[0].write_text("rotten")
        with no_trash():
            (forgotten,) = forget_holdings(self.world.context, ["pack"])
        self.assertEqual((list_holdings(self.world.context), forgotten.unbacked), ([], (str(self.gel()),)))
        # What cannot be verified is kept and told all the same.
        self.assertEqual([Path(path).read_text() for path in forgotten.kept], ["rotten"])
        self.assertEqual(self.gel().read_text(), "theirs")

    def test_a_record_whose_backups_are_gone_can_be_dropped(self) -> None:
        """It ended with 5, and no message named the way out."""
        self.world.add_files("pack.zip", PACK)
        for kept in self.kept():
            kept.unlink()
        home = self.world.paths.data
        told = run_program("remove", "pack", home=home)
        self.assertIn("`usufruct remove pack --forget`", " ".join(told.stdout.split()))
        told = run_program("remove", "pack", "--forget", home=home)
        self.assertEqual((told.returncode, "is lost: its backup is missing or damaged" in told.stdout), (0, True))
        self.assertEqual(self.gel().read_text(), "theirs")
        self.assertEqual(list_holdings(self.world.context), [])

    def test_a_backup_that_is_damaged_before_the_recovery_is_kept_as_it_is(self) -> None:
        """The message said that it was kept; but it was noted as not needed, and the recovery itself removed it."""
        self.gel().with_name("sun.gel").write_text("my sun")
        archive = self.world.archive("pack.zip", {**PACK, "gels/sun.gel": "their sun"})
        self.assertEqual(killed_at(self.world, lambda: self.world.add(archive), 0, "switched"), "switched")
        before = {kept.read_text(): kept for kept in self.kept()}
        before["mine"].write_text("rotten")
        self.recovered()
        self.world.add_files("other.zip", {"gels/other.gel": "other"})
        self.assertEqual([kept.read_text() for kept in self.kept()], ["rotten"])

    def test_what_lies_in_the_store_unknown_to_the_record_is_kept_and_told(self) -> None:
        """An older record beside newer backups must not cost anybody the newer ones."""
        self.world.add_files("pack.zip", PACK)
        (kept,) = self.kept()
        for file in self.world.paths.data.glob("ledger.sqlite3*"):
            file.unlink()
        failing = self.world.archive("over.zip", {"gels/moon.gel": "over"})
        self.world.checkpoint = self.raising_at("switched", OSError(5, "broken"))
        self.assertEqual(self.world.add(failing).state, "failed")
        self.assertEqual(kept.read_text(), "mine")
        self.assertEqual(check_store(self.world.context).unneeded, (kept.name,))

    def test_a_file_that_somebody_made_with_the_very_content_that_was_still_to_come_stays(self) -> None:
        """By its content it is ours; but ours still waits to be switched in, so this one is somebody else's."""
        archive = self.world.archive("sun.zip", {"gels/sun.gel": "sun"})
        self.assertEqual(killed_at(self.world, lambda: self.world.add(archive), 0, "intent"), "intent")
        self.world.write({"Gels/sun.gel": "sun"})
        self.recovered()
        self.assertEqual(self.world.contents()["Gels/sun.gel"], "sun")
        self.assertEqual(list_holdings(self.world.context), [])

    def test_an_edit_of_what_a_killed_removal_gave_back_does_not_reach_the_backup(self) -> None:
        """The file had its bytes from the backup itself: editing it in place spoiled what removing was to give back."""
        for goes in (
            lambda: self.world.remove("pack"),
            lambda: self.world.add(self.world.archive("pack-2.zip", {"gels/new.gel": "newer"}), update="pack"),
        ):
            self.world.add_files("pack.zip", PACK)
            self.assertEqual(killed_at(self.world, goes, 0, "switched-all"), "switched-all")
            self.assertEqual(self.gel().read_text(), "mine")
            with self.gel().open("r+") as file:
                file.write("edit")
            self.recovered()
            self.assertEqual(self.gel().read_text(), "edit")
            for _ in range(2):
                removals = remove_holdings(self.world.context, ["pack"], lambda _: None, gives_back_changed=True)
                if not list_holdings(self.world.context):
                    break
            self.assertEqual((list_holdings(self.world.context), len(removals)), ([], 1))
            self.assertEqual(self.gel().read_text(), "mine")
            self.assertEqual([path for path in self.world.paths.backups.rglob("*") if path.is_file()], [])

    def raising_at(self, point: str, error: BaseException) -> Callable[[str], None]:
        def checkpoint(name: str) -> None:
            if name == point:
                self.world.checkpoint = lambda _: None
                raise error

        return lambda name: checkpoint(name) if self.world.checkpoint else None

    # --- nothing of ours locks anybody out ------------------------------------------------------------------

    def test_forgetting_that_was_cut_off_and_an_edit_meanwhile(self) -> None:
        self.world.add_files("pack.zip", PACK)
        for number in range(20):
            name = killed_at(self.world, lambda: forget_holdings(self.world.context, ["pack"]), number)
            self.gel().write_text(f"edited {number}")
            self.assertEqual(self.recovered().waiting, (), name)
            self.assertEqual(self.gel().read_text(), f"edited {number}")
            if not list_holdings(self.world.context):
                break
        self.assertIn(name, ("done", "tidied", None))

    def test_junk_in_our_directories_and_what_cannot_be_removed_keep_nobody_from_anything(self) -> None:
        self.world.add_files("pack.zip", {**PACK, "readme.txt": "hi"})
        for directory in (self.world.paths.backups, self.kept()[0].parent, self.world.paths.notes):
            (directory / ".DS_Store").write_text("junk")
        real, stuck = os.rmdir, list[str]()

        def refuse(path: str, *words: object, **named: object) -> None:
            if ".usufruct-" in str(path):
                stuck.append(path)
                raise PermissionError(13, "Permission denied", path)
            real(path, *words, **named)

        with mock.patch("os.rmdir", refuse):
            self.world.add_files("loom.zip", {"drafts/a.weft": "w"})
            (untidied,) = self.recovered().untidied
            self.assertIn("Permission denied", untidied)
            self.world.remove("pack")
        self.assertTrue(stuck)
        self.world.remove("loom")
        self.assertEqual((self.world.strays(), self.world.contents()), ([], {"Gels/moon.gel": "mine"}))

    def test_of_the_backups_only_those_that_could_be_removed_are_forgotten(self) -> None:
        self.world.write({"Gels/new.gel": "my new"})
        self.world.add_files("pack.zip", PACK)
        stuck = min(self.kept())
        real = Backups.drop

        def drop(backups: Backups, digest: bytes) -> None:
            if digest.hex() == stuck.name:
                raise PermissionError(13, "Permission denied", str(stuck))
            real(backups, digest)

        with mock.patch.object(Backups, "drop", drop):
            self.world.remove("pack")
        self.assertEqual((self.kept(), check_store(self.world.context).missing), ([stuck], ()))
        self.recovered()
        self.assertEqual(self.kept(), [])

    def test_a_folder_that_a_failed_change_would_have_made_is_the_users_who_makes_it(self) -> None:
        owl = self.world.archive("owl.zip", {"Owl/rig.toml": "owl"})
        self.world.checkpoint = self.raising_at("intent", OSError(5, "broken"))
        self.assertEqual(self.world.add(owl).state, "failed")
        self.world.checkpoint = lambda _: None
        (self.world.lanternbox / "Puppets/Owl").mkdir(parents=True)
        before = self.world.tree()
        self.assertEqual(self.world.add(owl).state, "added")
        self.assertEqual(self.world.contents()["Puppets/Owl/rig.toml"], "owl")
        self.world.remove("owl")
        self.assertEqual(differences(before, self.world.tree()), [])

    def test_a_failure_behind_the_commit_never_says_that_nothing_was_changed(self) -> None:
        for raised, told in ((KeyboardInterrupt(), Interrupted), (OSError(5, "broken"), MachineError)):
            with self.subTest(raised=raised):
                self.world.checkpoint = self.raising_at("done", raised)
                archive = self.world.archive("pack.zip", PACK)
                with self.assertRaises(told) as caught:
                    raise self.world.add(archive).error
                self.assertIn("was finished before", caught.exception.kept)
                self.world.checkpoint = lambda _: None
                self.assertEqual([one.name for one in list_holdings(self.world.context)], ["pack"])
                self.assertEqual(self.gel().read_text(), "theirs")
                self.world.remove("pack")
        self.assertEqual(differences(self.before, self.world.tree()), [])

    def test_tidying_that_fails_leaves_the_change_done(self) -> None:
        self.world.checkpoint = self.raising_at("staging-dropped", StoreError("odd", remedy="none"))
        self.assertEqual(self.world.add(self.world.archive("pack.zip", PACK)).state, "added")
        self.world.checkpoint = lambda _: None
        self.recovered()
        self.assertEqual(self.world.strays(), [])

    def test_who_writes_beside_before_an_interrupted_tidying_keeps_that_time(self) -> None:
        beside, theirs = self.world.lanternbox.parent, 1_500_000_000_000_000_000
        fails = self.raising_at("staging-dropped", StoreError("odd", remedy="none"))

        def point(name: str) -> None:
            if name == "done":
                (beside / "theirs.txt").write_text("theirs")
                os.utime(beside, ns=(theirs, theirs))
            fails(name)

        self.world.checkpoint = point
        self.assertEqual(self.world.add(self.world.archive("pack.zip", PACK)).state, "added")
        self.world.checkpoint = lambda _: None
        self.recovered()
        self.assertEqual((self.world.strays(), beside.stat().st_mtime_ns), ([], theirs))

    def test_who_stops_the_tidying_is_told_that_all_was_done(self) -> None:
        self.world.add_files("pack.zip", PACK)
        told: list[str] = []
        self.world.checkpoint = self.raising_at("staging-dropped", KeyboardInterrupt())
        with self.assertRaisesRegex(Interrupted, "the next command cleans up the rest") as caught:
            remove_holdings(self.world.context, ["pack"], lambda one: told.append(one.holding.name))
        self.assertEqual((told, caught.exception.kept), (["pack"], "Everything that was reported as done is done."))
        self.world.checkpoint = lambda _: None
        self.recovered()
        self.assertEqual((self.world.strays(), differences(self.before, self.world.tree())), ([], []))

    # --- the moment between looking and acting --------------------------------------------------------------

    def test_a_file_that_is_made_in_the_very_moment_is_not_replaced(self) -> None:
        real = Directory.bring

        def bring(here: Directory, path: str, name: str, *, replaces: bool) -> None:
            if name == "new.gel":
                (self.world.lanternbox / "Gels" / "new.gel").write_text("made in this moment")
            real(here, path, name, replaces=replaces)

        for lacking in ({}, {"rename_unless_taken": None}, {"rename_unless_taken": None, "has_hard_links": False}):
            with self.subTest(lacking=lacking), mock.patch.object(Directory, "bring", bring):
                self.world.platform = replace(self.world.platform, **lacking)
                with self.assertRaises(PlanIsStale):
                    raise self.world.add(self.world.archive("pack.zip", PACK)).error
                self.assertEqual(
                    self.world.contents(), {"Gels/moon.gel": "mine", "Gels/new.gel": "made in this moment"}
                )
                (self.world.lanternbox / "Gels" / "new.gel").unlink()
        self.assertEqual(self.world.strays(), [])

    def test_what_is_written_in_the_very_moment_in_which_files_are_taken_out_stays(self) -> None:
        """Into a directory that goes whole, and in the place of a file that goes by itself or for an earlier one."""
        self.world.add_files("pack.zip", PACK)
        placed = self.world.contents()
        reals = {name: getattr(Directory, name) for name in ("move_out", "link_out")}

        for acts in (
            ("Owl", "Puppets/Owl/mine.svg", "made in this moment"),
            ("Owl", "Puppets/Owl/a.svg", "edited in this moment"),
            ("new.gel", "Gels/new.gel", "edited in this moment"),
            ("moon.gel", "Gels/moon.gel", "edited in this moment"),
        ):

            def taking_out(way: str, acts: tuple[str, str, str] = acts) -> Callable[[Directory, str, str], object]:
                def take_out(here: Directory, name: str, to: str) -> object:
                    moved, path, content = acts
                    if name == moved and self.world.contents().get(path) != content:
                        (self.world.lanternbox / path).write_text(content)
                    return reals[way](here, name, to)

                return take_out

            _, path, content = acts
            with self.subTest(path), mock.patch.multiple(Directory, **{way: taking_out(way) for way in reals}):
                with self.assertRaises(PlanIsStale):
                    self.world.remove("pack")
                self.assertEqual(self.world.contents(), {**placed, path: content})
                if path in placed:
                    (self.world.lanternbox / path).write_text(placed[path])
                else:
                    (self.world.lanternbox / path).unlink()

    def test_a_folder_that_somebody_changed_since_gets_their_time_back_and_not_its_first(self) -> None:
        gels = self.world.lanternbox / "Gels"
        gels.mkdir(parents=True, exist_ok=True)
        rig = self.world.lanternbox / "Puppets" / "Owl" / "rig.toml"
        # A holding of which something stays is taken out in another way than one that goes whole.
        for is_touched, is_edited in product((False, True), repeat=2):
            os.utime(gels, ns=(10**18, 10**18))
            self.world.add_files("moon.zip", {"gels/moon.gel": "moon", "Owl/rig.toml": "owl"})
            if is_touched:
                os.utime(gels, ns=(2 * 10**18, 2 * 10**18))
            if is_edited:
                rig.write_text("edited")
            self.world.remove("moon")
            last = (2 if is_touched else 1) * 10**18
            self.assertEqual(gels.stat().st_mtime_ns, last, (is_touched, is_edited))
            shutil.rmtree(rig.parent, ignore_errors=True)
            if is_edited:
                forget_holdings(self.world.context, ["moon"])

    def test_a_folder_changed_by_others_between_two_holdings_gets_their_time_back(self) -> None:
        gels = self.world.lanternbox / "Gels"
        self.world.add_files("a.zip", {"gels/a.gel": "a"})
        (gels / "mine.gel").write_text("mine")
        os.utime(gels, ns=(10**18, 10**18 + 4 * 10**9))
        self.world.add_files("b.zip", {"gels/b.gel": "b"})
        self.world.remove("a", "b")
        self.assertEqual(gels.stat().st_mtime_ns, 10**18 + 4 * 10**9)

    @unittest.skipUnless(this_platform().can_sync_directories, "names are durable by themselves there")
    def test_backups_are_durable_before_it_is_done(self) -> None:
        """Each directory by itself, where there is no call for a whole volume."""
        synced: list[str] = []
        events: list[tuple[str, list[str]]] = []
        self.world.platform = replace(
            self.world.platform,
            sync_file_system=None,
            sync_descriptor=lambda descriptor: synced.append(os.readlink(f"/proc/self/fd/{descriptor}")),
        )
        self.world.checkpoint = lambda name: events.append((name, list(synced)))
        self.world.add_files("pack.zip", PACK)
        before_done = dict(events)["switched-durable"]
        self.assertIn(str(self.kept()[0].parent), before_done)
        self.assertIn(str(self.world.paths.backups), before_done)
        self.assertIn(str(self.gel().parent), before_done)

    def test_what_recovery_copies_has_its_name_only_once_it_is_whole_and_durable(self) -> None:
        """A second recovery trusts the name: the first may have been cut off while it copied."""
        self.world.platform = replace(self.world.platform, has_hard_links=False)
        pack = self.world.archive("pack.zip", PACK)
        self.assertTrue(killed_at(self.world, lambda: self.world.add(pack), 0, "switched-all"))
        synced: list[str] = []
        growing: list[list[str]] = []

        def checkpoint(name: str) -> None:
            if name == "original-back":
                growing.append([path.name for path in self.world.folder.rglob("out/*/moon.gel")])

        self.world.checkpoint = checkpoint
        self.world.platform = replace(
            self.world.platform,
            sync_file_system=None,
            sync_descriptor=lambda descriptor: synced.append(os.readlink(f"/proc/self/fd/{descriptor}")),
        )
        with self.world.context.writing("recover"):
            pass
        self.assertEqual(growing, [[]])
        self.assertTrue(any(path.endswith(".growing") for path in synced), synced)
        self.assertEqual(differences(self.before, self.world.tree()), [])

    # --- archives, definitions, downloads, the record -------------------------------------------------------

    def test_the_store_may_be_the_folder_that_the_archive_is_in_by_another_path(self) -> None:
        archive = self.world.archive("pack.zip", PACK)
        content = archive.read_bytes()
        (self.world.folder / "by another path").symlink_to(self.world.folder / "downloads")
        store = str(self.world.folder / "by another path")
        write_setting(self.world.paths.settings, "store", store, self.world.platform)
        (added,) = add_archives(self.world.context, [archive], self.world.request(), lambda _: None, "store")
        self.assertEqual(added.put_away.fault, "")
        self.assertEqual(archive.read_bytes(), content)

    def test_a_browser_that_renames_a_download_in_this_moment_breaks_nothing(self) -> None:
        folder = self.world.folder / "downloads"
        write_setting(self.world.paths.settings, "downloads", str(folder), self.world.platform)
        scandir, standing = os.scandir, downloads._standing

        def rename(path: Path) -> Path:
            return path.rename(folder / "renamed") if path.name.startswith("owl") else path

        @contextmanager
        def renamed_while_listed(path: Any) -> Iterator[Any]:
            with scandir(path) as entries:
                yield (rename(Path(entry.path)) and entry for entry in entries)

        def renamed_before_a_look(group: list[Path], *words: Any) -> object:
            rename(group[0])
            return standing(group, *words)

        steps: dict[str, Any] = {"os.scandir": renamed_while_listed, "_standing": renamed_before_a_look}
        for step, renamed in steps.items():
            for name in ("owl-family-v1.2.zip", "dusk-gels.tar.gz"):
                shutil.copy(DOWNLOADS / name, folder)
            context = self.world.context_with_definitions()
            with self.subTest(step), mock.patch(f"usufruct.actions.downloads.{step}", renamed):
                found = downloads.waiting(context)
                self.assertEqual([Path(one.path).name for one in found], ["dusk-gels.tar.gz"])
            (folder / "renamed").unlink()

    def test_a_full_disk_is_told_as_such(self) -> None:
        self.world.add_files("pack.zip", PACK)
        with open_ledger(self.world.paths.ledger) as ledger:
            pages = ledger.connection.execute("PRAGMA page_count").fetchone()[0]
        with self.assertRaisesRegex(StoreError, "is full"), open_ledger(self.world.paths.ledger) as ledger:
            ledger.connection.execute(f"PRAGMA max_page_count = {pages}")
            with ledger.transaction():
                for number in range(10_000):
                    ledger.connection.execute("INSERT INTO unneeded VALUES (?)", (b"%064d" % number,))
        with read_ledger(self.world.paths.ledger) as ledger:
            self.assertEqual(ledger.connection.execute("SELECT count(*) FROM unneeded").fetchone(), (0,))

    def test_a_backup_that_is_dropped_is_gone_for_good_before_the_record_forgets_it(self) -> None:
        """A power cut between the two once brought back a backup that no record named."""
        events: list[str] = []
        self.world.add_files("pack.zip", PACK)
        self.world.checkpoint = events.append
        real = Platform.sync_names

        def sync(platform: Platform, directories: Iterable[str]) -> None:
            named = list(directories)
            events.append("synced" if str(self.world.paths.backups) in named else "other")
            real(platform, named)

        with mock.patch.object(Platform, "sync_names", sync):
            self.world.remove("pack")
        self.assertIn("synced", events[events.index("backup-dropped") : events.index("tidied")])

    def test_an_edit_saved_to_the_trash_is_there_before_the_earlier_file_is_back(self) -> None:
        self.world.add_files("pack.zip", PACK)
        self.gel().write_text("edited")
        with no_trash():
            (removal,) = remove_holdings(self.world.context, ["pack"], lambda _: None, gives_back_changed=True)
        self.assertEqual([Path(path).read_text() for path in removal.kept], ["edited"])
        self.assertEqual(differences(self.before, self.world.tree()), [])

    def test_times_that_a_file_system_rounds_make_no_strangers(self) -> None:
        """A drive that was read by another system meanwhile: times of two seconds, other numbers."""
        for number in range(0, 40, 3):
            name = killed_at(self.world, lambda: self.world.add(self.world.archive("pack.zip", PACK)), number)
            for path in [one for one in self.world.lanternbox.rglob("*") if one.is_file()]:
                content, seconds = path.read_bytes(), path.stat().st_mtime_ns // 2_000_000_000 * 2
                path.unlink()
                path.write_bytes(content)
                os.utime(path, (seconds, seconds))
            self.assertTrue(all(not strangers for _, strangers in self.recovered().reversed), name)
            if list_holdings(self.world.context):
                self.assertFalse([one for one in check_holdings(self.world.context, (), deep=False) if one.found])
                self.world.remove("pack")
            self.assertEqual(self.world.contents(), {"Gels/moon.gel": "mine"})
            self.assertEqual(self.world.strays(), [])


if __name__ == "__main__":
    unittest.main()
