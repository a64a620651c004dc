"""The archive afterwards: kept, in the trash, or stored; and where it is."""

import os
import unittest
from pathlib import Path

from tests.cli.case import ProgramCase
from tests.support import IN_MEMORY, zip_bytes


class AfterwardsTest(ProgramCase):
    def setUp(self) -> None:
        super().setUp()
        self.user = self.world.folder / "user"
        self.environment = {"HOME": str(self.user), "XDG_DATA_HOME": ""}
        self.write("gels.zip", {"moon.gel": "moon"})

    def archives(self, code: int = 0) -> list[dict]:
        return self.document("archives", code=code)["archives"]

    def test_it_stays_unless_the_option_or_the_settings_say_otherwise(self) -> None:
        self.run_words("add", "gels.zip")
        self.assertEqual([one["state"] for one in self.archives()], ["there"])
        self.write("more.zip", {"sun.gel": "sun"})
        self.run_words("settings", "set", "afterwards", "nowhere", code=2)
        self.run_words("settings", "set", "afterwards", "store")
        self.run_words("add", "more.zip")
        self.assertFalse((self.downloads / "more.zip").exists())
        self.assertTrue((self.home / "archives" / "more.zip").exists())

    def test_a_stored_archive_is_found_by_repair_and_undo(self) -> None:
        said = self.run_words("add", "gels.zip", "--afterwards", "store").stdout
        self.assertIn("The archive is kept as", said)
        (self.world.lanternbox / "Gels/moon.gel").unlink()
        self.run_words("repair", "gels")
        self.run_words("remove", "gels")
        self.run_words("undo")
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "moon"})
        self.assertEqual([one["state"] for one in self.archives()], ["stored"])

    def test_one_with_a_part_that_nobody_knows_stays_and_ends_with_1(self) -> None:
        pack = self.downloads / "odd.zip"
        pack.write_bytes(zip_bytes({"moon.gel": "moon"}) + zip_bytes({"sun.gel": "sun"}) + b"what is this")
        for words in (("look",), ("look", "--verify"), ("add", "--dry-run"), ("add", "--afterwards", "trash")):
            said = self.run_words(*words, "odd.zip", code=1).stdout
            self.assertIn("Usufruct did not recognise part of this file: 12 bytes at offset", " ".join(said.split()))
        self.assertIn("The archive stays", said)
        self.assertTrue(pack.exists())
        self.assertEqual(sorted(self.world.contents()), ["Gels/moon.gel", "Gels/sun.gel"])
        (facts,) = [one["facts"] for one in self.document("look", "odd.zip", code=1)["archives"]]
        self.assertEqual((facts["behind"], facts["unread"][0]["bytes"]), (1, 12))

    def test_an_archive_of_which_less_than_half_was_placed_stays_unless_it_is_named(self) -> None:
        for placed, other, stays in ((20_000, 40_000, True), (20_000, 30_000, False), (30_000, 40_000, False)):
            files = {"gels/big.gel": os.urandom(placed), "huge.bin": os.urandom(other)}
            (self.downloads / "some.zip").write_bytes(zip_bytes(files, compression=0))
            self.run_words("add", "some.zip")
            said = self.run_words("archives", "--trash", code=int(stays)).stdout
            self.assertEqual("most of it was not placed" in said, stays, (placed, other))
            self.run_words("remove", "some")

    def test_archives_are_let_go_later_for_one_or_for_all_that_are_safely_placed(self) -> None:
        self.write("torn.zip", {"torn.gel": "torn"})
        self.write("little.zip", {"gels/little.gel": "x", "huge.bin": os.urandom(50_000)})
        for name in ("gels.zip", "torn.zip", "little.zip"):
            self.run_words("add", name)
        (self.world.lanternbox / "Gels/torn.gel").unlink()
        said = self.run_words("archives", "--trash", code=1).stdout
        self.assertRegex(said, "gels  (in the trash|kept as .*, for the trash did not take it)")
        self.assertIn("something of what was placed is changed or missing", said)
        self.assertIn("most of it was not placed", said)
        self.assertEqual({path.name for path in self.downloads.iterdir()}, {"torn.zip", "little.zip"})
        states = {one["holdings"][0]: one["state"] for one in self.archives()}
        kept = states.pop("gels")
        self.assertEqual(states, {"torn": "there", "little": "there"})
        self.assertEqual(kept, "there" if (self.home / "saved/gels.zip").exists() else "trash")
        self.run_words("archives", "little", "--store")
        self.assertEqual([one["state"] for one in self.archives() if one["holdings"] == ["little"]], ["stored"])
        self.run_words("remove", "little")
        self.assertEqual([one["state"] for one in self.archives() if not one["holdings"]], ["unneeded"])

    def test_an_archive_of_which_most_was_not_placed_stays_and_that_is_said(self) -> None:
        self.write("much.zip", {"gels/a.gel": "a", **{f"{number}.bin": "x" for number in range(9)}})
        said = self.run_words("add", "much.zip", "--afterwards", "trash").stdout
        self.assertIn("only 1 of 10 files in it were placed", " ".join(said.split()))
        self.assertTrue((self.downloads / "much.zip").exists())

    @unittest.skipUnless(IN_MEMORY, "needs a second volume")
    def test_another_volume_gets_a_checked_copy_before_the_original_goes(self) -> None:
        import tempfile

        with tempfile.TemporaryDirectory() as other:
            self.run_words("add", "gels.zip", "--afterwards", "store", USUFRUCT_STORE=other)
            self.assertEqual(os.listdir(other), ["gels.zip"])
            self.assertFalse((self.downloads / "gels.zip").exists())

    def test_all_parts_of_a_set_go_together_and_names_that_are_taken_stay_apart(self) -> None:
        content = zip_bytes({"moon.gel": "moon" * 500}, compression=0)
        for number, at in enumerate(range(0, len(content), 900), 1):
            (self.downloads / f"set.zip.{number:03}").write_bytes(content[at : at + 900])
        store = self.home / "archives"
        store.mkdir()
        (store / "set.zip.001").write_text("another file of that name")
        self.run_words("add", "set.zip.002", "--afterwards", "store")
        self.assertEqual([path.name for path in self.downloads.iterdir()], ["gels.zip"])
        self.assertEqual((store / "set.zip.001").read_text(), "another file of that name")
        states = {Path(one["path"]).parent.name: one["state"] for one in self.archives()}
        self.assertEqual(states, {"set": "stored", "archives": "unneeded"})
        (self.world.lanternbox / "Gels/moon.gel").unlink()
        self.run_words("repair", "set")
        self.assertTrue((self.world.lanternbox / "Gels/moon.gel").exists())

    def test_the_trash_takes_it_only_once_all_is_placed(self) -> None:
        self.write("moons.zip", {"a/moon.gel": "1", "b/moon.gel": "22"})
        self.run_words("add", "moons.zip", "--afterwards", "trash", code=3)
        self.assertTrue((self.downloads / "moons.zip").exists())
        self.run_words("add", "gels.zip", "--afterwards", "trash")
        self.assertFalse((self.downloads / "gels.zip").exists())
        everywhere = [path.name for path in (*self.user.rglob("*.zip"), *(self.home / "saved").rglob("*.zip"))]
        self.assertEqual(everywhere, ["gels.zip"])

    def test_a_store_that_cannot_be_written_leaves_the_archive_and_says_so(self) -> None:
        (self.world.folder / "file").write_text("in the way")
        said = self.run_words(
            "add", "gels.zip", "--afterwards", "store", USUFRUCT_STORE=f"{self.world.folder}/file/x"
        ).stdout
        self.assertIn("The archive stays where it was", said)
        self.assertTrue((self.downloads / "gels.zip").exists())

    def test_what_is_missing_is_told(self) -> None:
        self.run_words("add", "gels.zip")
        (self.downloads / "gels.zip").unlink()
        self.assertEqual([one["state"] for one in self.archives(code=1)], ["missing"])
        self.assertIn("missing", self.run_words("archives", code=1).stdout)


class TrashTest(ProgramCase):
    where = None  # a file system in memory has no trash

    def test_what_the_trash_took_is_known_to_be_there(self) -> None:
        self.environment = {"HOME": str(self.world.folder), "XDG_DATA_HOME": ""}
        self.write("gels.zip", {"moon.gel": "moon"})
        self.run_words("add", "gels.zip", "--afterwards", "trash")
        if (self.home / "saved").exists():
            self.skipTest("there is no trash here")
        (found,) = self.document("archives")["archives"]
        self.assertEqual(found["state"], "trash")


if __name__ == "__main__":
    unittest.main()
