"""What keeps the promise over the years: check, repair, whose, undo, history, changed files, updates."""

import re
import shlex
import shutil
import unittest

from tests.cli.test_add import AddCase
from usufruct.actions.demonstration import differences


class UpkeepTest(AddCase):
    def setUp(self) -> None:
        super().setUp()
        # A home of its own, so that the trash of whoever runs the tests is left alone.
        self.environment = {"HOME": str(self.world.folder / "user"), "XDG_DATA_HOME": ""}
        self.world.write({"Gels/moon.gel": "mine"})
        self.before = self.world.tree()
        self.write("sky v1.zip", {"gels/moon.gel": "theirs", "gels/sun.gel": "sun"})
        self.run_words("add", "sky v1.zip")
        self.gels = self.world.lanternbox / "Gels"

    def test_check_tells_changed_from_missing_and_repair_mends_what_nobody_wrote(self) -> None:
        self.assertEqual(self.document("check")["holdings"][0]["fine"], 2)
        (self.gels / "sun.gel").unlink()
        (self.gels / "moon.gel").write_text("edited")
        (found,) = self.document("check", "sky", code=1)["holdings"]
        self.assertEqual(found["missing"], [str(self.gels / "sun.gel")])
        self.assertEqual(found["changed"], [str(self.gels / "moon.gel")])
        done = self.document("repair", "sky", code=1)
        self.assertEqual(
            (done["written"], done["changed"]), ([str(self.gels / "sun.gel")], [str(self.gels / "moon.gel")])
        )
        self.assertEqual((self.gels / "moon.gel").read_text(), "edited")
        self.run_words("repair", "sky", "--changed", "give-back")
        self.assertEqual((self.gels / "moon.gel").read_text(), "theirs")
        self.assertEqual(self.saved(), {"edited"})
        self.run_words("check")

    def test_list_and_check_say_that_a_program_reads_another_folder_and_what_to_type_works(self) -> None:
        versions = self.world.folder / "sketch"
        (versions / "2.0").mkdir(parents=True)
        (self.home / "apps" / "sketch.toml").write_text(
            f'usufruct = 1\n[application]\nname = "sketch"\nroot = ["{versions.as_posix()}/*"]\n'
            '[[folder]]\nname = "brushes"\npath = "brushes"\narrange = "loose"\ntakes = ["*.brsh"]\n'
        )
        self.write("ink.zip", {"a.brsh": "a"})
        self.run_words("add", "ink.zip")
        self.assertEqual(self.document("list")["elsewhere"], [])
        shutil.copytree(versions / "2.0", versions / "3.0")  # as the new version does when it is started first
        for words in ("list", "check"):
            self.assertEqual([one["holdings"] for one in self.document(words)["elsewhere"]], [["ink"]])
            said = self.run_words(words).stdout
            self.assertIn(
                f"sketch now uses {versions}/3.0, but ink is still in {versions}/2.0.", " ".join(said.split())
            )
            (command,) = re.findall("usufruct (recover --moved .*)", said)
        self.run_words(*shlex.split(command))
        self.assertEqual(self.document("list")["elsewhere"], [])
        self.run_words("remove", "ink")
        self.assertEqual([path.name for path in versions.rglob("*.brsh")], ["a.brsh"])
        self.assertFalse((versions / "3.0" / "brushes").exists())

    def saved(self) -> set[str]:
        """The content of all files in the trash, or kept where there is none."""
        places = [*(self.world.folder / "user").rglob("files/*"), *(self.home / "saved").glob("*")]
        return {path.read_text() for path in places if path.is_file()}

    def test_a_deep_check_finds_what_the_disk_did(self) -> None:
        import os

        path = self.gels / "sun.gel"
        state = path.stat()
        path.write_text("SUN")
        os.utime(path, ns=(state.st_atime_ns, state.st_mtime_ns))
        self.run_words("check")
        (found,) = self.document("check", "--deep", code=1)["holdings"]
        self.assertEqual(found["damaged"], [str(path)])
        self.run_words("repair", "sky")
        self.assertEqual(path.read_text(), "sun")

    def test_repair_without_the_archive_says_so_and_takes_it_from_elsewhere(self) -> None:
        (self.gels / "sun.gel").unlink()
        moved = self.world.folder / "elsewhere.zip"
        (self.downloads / "sky v1.zip").rename(moved)
        self.assertIn("is not there any", self.run_words("repair", "sky", code=5).stderr)
        self.write("other.zip", {"gels/moon.gel": "x", "gels/sun.gel": "another"})
        self.assertIn("another file than", self.run_words("repair", "sky", "--archive", "other.zip", code=4).stderr)
        self.run_words("repair", "sky", "--archive", str(moved))
        self.assertEqual((self.gels / "sun.gel").read_text(), "sun")

    def test_the_backups_are_checked_too(self) -> None:
        self.assertEqual(self.document("check", "--store")["store"]["missing"], [])
        (kept,) = [path for path in (self.home / "backups").rglob("*") if len(path.name) == 64]
        kept.chmod(0o644)
        kept.write_text("rot!")
        self.assertEqual(len(self.document("check", "--store", code=1)["store"]["damaged"]), 1)
        kept.unlink()
        self.assertIn("missing", self.run_words("check", "--store", code=1).stdout)

    def test_an_edit_that_came_back_from_under_another_holding_is_saved_as_it_is(self) -> None:
        (self.gels / "moon.gel").write_text("edited")
        self.write("moons.zip", {"gels/moon.gel": "another moon"})
        self.run_words("add", "moons.zip", "--on-clash", "replace")
        self.run_words("remove", "moons")
        self.assertEqual((self.gels / "moon.gel").read_text(), "edited")
        (self.gels / "moon.gel").write_text("edited again")
        self.run_words("remove", "sky", "--changed", "give-back")
        self.assertEqual(((self.gels / "moon.gel").read_text(), self.saved()), ("mine", {"edited again"}))

    def test_a_dry_run_says_what_the_same_words_do(self) -> None:
        """With `give-back` it said that the changed file stays, and the removal put it into the trash."""
        for changed in ("leave", "give-back"):
            (self.gels / "moon.gel").write_text("edited")
            words = ("remove", "sky", "--changed", changed)
            code = int(changed == "leave")
            planned = self.document(*words, "--dry-run", code=code)
            self.assertEqual((self.gels / "moon.gel").read_text(), "edited")
            said = self.run_words(*words, "--dry-run", code=code).stdout
            self.assertEqual("1 changed file would go to the trash" in said, changed == "give-back")
            done = self.document(*words, code=code)
            self.assertEqual(planned["holdings"], [{**one, "kept_at": []} for one in done["holdings"]])
            self.run_words("undo")

    def test_a_dry_run_knows_what_lies_on_what_and_which_backups_are_sound(self) -> None:
        """Of two holdings it said that the lower gives its file back, which goes too; of a damaged backup, nothing."""
        self.write("moons.zip", {"gels/moon.gel": "another moon", "gels/dew.gel": "dew"})
        self.run_words("add", "moons.zip", "--on-clash", "replace")
        self.write("dews.zip", {"gels/dew.gel": "more dew"})
        self.run_words("add", "dews.zip", "--on-clash", "replace")
        (self.gels / "dew.gel").write_text("edited")
        for changed in ("leave", "give-back"):
            words = ("remove", "dews", "moons", "--changed", changed)
            code = int(changed == "leave")
            planned = self.document(*words, "--dry-run", code=code)
            done = self.document(*words, code=code)
            self.assertEqual([{**one, "kept_at": []} for one in done["holdings"]], planned["holdings"])
            self.run_words("undo")
        for damage in (False, True):
            if damage:
                (kept,) = (
                    path
                    for path in (self.home / "backups").rglob("*")
                    if path.is_file() and path.read_bytes() == b"mine"
                )
                kept.chmod(0o644)
                kept.write_text("rot!")
            for names in (("moons", "sky", "dews"), ("sky", "moons"), ("dews", "moons"), ("sky",), ("moons",)):
                with self.subTest(names=names, damage=damage):
                    lost = damage and {"moons", "sky"} <= {*names}
                    code = int(lost)
                    planned = self.document("remove", *names, "--dry-run", code=code)
                    done = self.document("remove", *names, code=code)
                    self.assertEqual([{**one, "kept_at": []} for one in done["holdings"]], planned["holdings"])
                    self.run_words("undo")

    def test_whose(self) -> None:
        self.write("moons.zip", {"gels/moon.gel": "another moon"})
        self.run_words("add", "moons.zip", "--on-clash", "replace")
        owner = self.document("whose", str(self.gels / "moon.gel"))
        self.assertEqual((owner["holding"], owner["beneath"]), ("moons", ["sky", "original"]))
        self.assertIn("not belong to any holding", self.run_words("whose", "sky v1.zip").stdout)
        shares = self.document("whose", str(self.gels.parent))
        self.assertEqual({one["name"]: one["files"] for one in shares["holdings"]}, {"moons": 1, "sky": 1})
        self.assertEqual(shares["nobodys"]["files"], 0)
        (self.gels / "mine 10.gel").write_text("x")
        (self.gels / "mine 2.gel").write_text("x")
        said = self.run_words("whose", str(self.gels), "--nobodys").stdout
        self.assertIn("2 files   2 B  not in any holding", said)
        self.assertLess(said.index("mine 2.gel"), said.index("mine 10.gel"))

    def test_an_update_and_its_undoing_and_the_history(self) -> None:
        first = self.world.contents()
        self.write("sky v2.zip", {"gels/moon.gel": "theirs 2"})
        said = " ".join(self.run_words("add", "sky v2.zip", code=3).stderr.split())
        self.assertIn("2 is newer than 1", said)
        updated = self.run_words("add", "sky v2.zip", "--update", "sky").stdout
        self.assertIn("1 file of the earlier version replaced\n  1 file of the earlier version removed", updated)
        self.assertNotIn("backed up", updated)
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "theirs 2"})
        self.run_words("undo")
        self.assertEqual(self.world.contents(), first)
        self.run_words("redo")
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "theirs 2"})
        self.run_words("undo")
        kinds = [(one["kind"], one["undone"]) for one in self.document("history")["changes"]]
        self.assertEqual(kinds, [("update", True), ("add", False)])
        self.assertRegex(self.document("history")["changes"][0]["started"], r"^\d{4}-\d\d-\d\dT")
        self.run_words("remove", "sky")
        self.assertEqual(differences(self.before, self.world.tree()), [])

    def test_undo_of_adding_and_of_removing(self) -> None:
        self.run_words("undo")
        self.assertEqual(differences(self.before, self.world.tree()), [])
        self.assertIn("is back: 2 files", self.run_words("redo").stdout)
        self.assertEqual((self.gels / "moon.gel").read_text(), "theirs")
        self.run_words("remove", "sky")
        (self.downloads / "sky v1.zip").unlink()
        self.assertIn("is not there any", self.run_words("undo", code=5).stderr)
        self.assertEqual(differences(self.before, self.world.tree()), [])

    def test_changed_files_stay_or_go_to_the_trash(self) -> None:
        (self.gels / "moon.gel").write_text("edited")
        self.assertIn("stays", self.run_words("remove", "sky", code=1).stdout)
        self.assertEqual((self.gels / "moon.gel").read_text(), "edited")
        self.run_words("remove", "sky", "--changed", "give-back")
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "mine"})
        self.assertEqual(self.saved(), {"edited"})

    def test_holdings_are_removed_by_pattern_archive_and_application_and_in_part(self) -> None:
        self.write("owl.zip", {"Owl/rig.toml": "rig", "Owl/parts/wing.svg": "wing", "Owl/parts/beak.svg": "beak"})
        self.write("owlets.zip", {"gels/owlet.gel": "o"})
        for name in ("owl.zip", "owlets.zip"):
            self.run_words("add", name)
        whole = self.world.contents()
        said = self.run_words("remove", "owl*", "--dry-run").stdout
        self.assertIn("Would remove owl: 3 files", said)
        self.assertEqual(self.world.contents(), whole)
        # A part of one, and the same back again.
        said = self.run_words("remove", "owl.zip", "--only", "parts").stdout
        self.assertIn(": 2 files", said)
        self.assertIn("1 other file of it stays", said)
        self.assertEqual(
            set(whole) - set(self.world.contents()), {"Puppets/Owl/parts/wing.svg", "Puppets/Owl/parts/beak.svg"}
        )
        self.assertEqual(self.document("list", "--find", "owl")["holdings"][0]["state"], "partly removed")
        self.run_words("check")
        self.run_words("remove", "owl", "--only", "Puppets/Owl/rig.toml")
        self.assertEqual(self.names(), {"sky for lanternbox", "owlets for lanternbox"})
        self.run_words("undo")
        self.run_words("undo")
        self.assertEqual(self.world.contents(), whole)
        self.assertEqual(self.document("list", "--find", "owl")["holdings"][0]["state"], "added")
        self.run_words("redo")
        self.assertNotIn("Puppets/Owl/parts/wing.svg", self.world.contents())
        self.run_words("undo")
        self.assertIn("matches nothing", self.run_words("remove", "owl", "--only", "*.nix", code=2).stderr)
        self.assertIn("Did you mean owlets", self.run_words("remove", "owlet", code=2).stderr)
        self.assertIn("Which holding?", self.run_words("remove", code=2).stderr)
        self.run_words("remove", "--app", "lanternbox")
        self.assertEqual(differences(self.before, self.world.tree()), [])
        self.run_words("undo")
        self.assertEqual(self.world.contents(), whole)

    def test_forgetting_touches_no_file_and_loses_none(self) -> None:
        after = self.world.contents()
        self.run_words("remove", "sky", "--forget")
        self.assertEqual(self.world.contents(), after)
        self.assertEqual(self.saved(), {"mine"})
        self.assertEqual(self.names(), set())
        self.run_words("check", "--store")

    def test_list_finds_sorts_and_weighs(self) -> None:
        self.write("big.zip", {"gels/big.gel": "x" * 5000})
        self.run_words("add", "big.zip")
        names = [one["name"] for one in self.document("list", "--sort", "size")["holdings"]]
        self.assertEqual(names, ["big", "sky"])
        self.assertEqual([one["name"] for one in self.document("list", "--find", "SK")["holdings"]], ["sky"])
        # Once a folder above the archives held the text by chance, and every holding was found.
        self.assertEqual(self.document("list", "--find", self.downloads.name)["holdings"], [])
        sizes = self.document("list", "--sizes")
        self.assertEqual(sizes["placed"][0], {"name": "big", "bytes": 5000})
        self.assertIn(sizes["backups"], range(4, 300))
        size = (self.downloads / "big.zip").stat().st_size
        self.assertGreater(sizes["archives"], size)
        self.run_words("settings", "set", "store", str(self.world.folder / "store"))
        self.write("more.zip", {"gels/more.gel": "x"})
        self.run_words("add", "more.zip", "--afterwards", "store")
        stored = self.document("list", "--sizes")
        self.assertEqual(stored["archives"], sizes["archives"])
        self.assertEqual(stored["stored"], (self.world.folder / "store/more.zip").stat().st_size)
        self.assertIn("backups of what was replaced", self.run_words("list", "--sizes").stdout)


if __name__ == "__main__":
    unittest.main()
