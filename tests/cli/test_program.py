"""The installed program, driven as a user drives it, on files in a temporary folder."""

import json
import os
import subprocess
import sys
import unittest
from pathlib import Path
from unittest import mock

from click.testing import CliRunner

from tests.cli.case import ProgramCase
from tests.support import DOWNLOADS, WorldTest, program, run_program, zip_bytes
from usufruct.actions.demonstration import differences, prepare_demo, tree_of
from usufruct.cli.commands.demo import demo
from usufruct.errors import UsufructError


class ProgramTest(ProgramCase):
    has_definitions = False

    def setUp(self) -> None:
        super().setUp()
        self.folder = self.world.folder / "demo"
        self.folder.mkdir()
        prepare_demo(self.folder)
        self.home = self.folder / "usufruct"

    def test_a_first_afternoon(self) -> None:
        before = tree_of(self.folder / "Lanternbox")
        looked = self.run_words("look", "Downloads/owl-family-v1.2.zip").stdout
        for words in ("Lanternbox shadow theatre", "rig.toml marks", "skipped", "2 junk files", "2 files kept to read"):
            self.assertIn(words, looked)
        self.assertEqual(differences(before, tree_of(self.folder / "Lanternbox")), [])
        added = self.run_words("add", "Downloads/owl-family-v1.2.zip", "Downloads/forest-backdrops.zip").stdout
        self.assertIn("1 earlier file backed up", added)
        self.assertIn("To take all of it back: usufruct undo", added)
        self.assertIn("forest-backdrops", self.run_words("list").stdout)
        self.assertIn("replaced your file", self.run_words("show", "Forest Backdrops").stdout)
        self.assertIn("rods a hand longer", self.run_words("show", "owl-family", "--notes").stdout)
        self.assertIn("earlier file restored", self.run_words("remove", "forest-backdrops", "owl-family").stdout)
        self.assertEqual(differences(before, tree_of(self.folder / "Lanternbox")), [])
        self.assertIn("Nothing has been added", self.run_words("list").stdout)

    def test_look_as_json_is_what_the_contract_says(self) -> None:
        (archive,) = self.document("look", "Downloads/forest-backdrops.zip")["archives"]
        self.assertEqual((archive["format"], archive["application"]), ("zip", "lanternbox"))
        self.assertEqual(archive["holding"], "forest-backdrops")
        conflicts = {placement["to"]: placement["clash"] for placement in archive["placements"]}
        self.assertEqual(conflicts["Backdrops/Forest/path.png"], "replaces")
        self.assertIsNone(conflicts["Backdrops/Forest/edge.png"])
        self.assertEqual({"entry", "to", "folder", "why", "clash"}, set(archive["placements"][0]))
        self.assertEqual({aside["kind"] for aside in archive["aside"]}, {"junk", "notes"})
        self.assertIsNone(archive["decision"])

    def test_a_decision_ends_with_3_and_its_answer_works(self) -> None:
        (archive,) = self.document("add", "Downloads/moon-gels.zip", code=3)["archives"]
        self.assertEqual(archive["state"], "asked")
        option = next(option for option in archive["decision"]["options"] if option["name"] == "dim")
        self.assertEqual((option["answer"], option["files"]), (["--choose", "dim"], 2))
        (archive,) = self.document("add", "Downloads/moon-gels.zip", *option["answer"])["archives"]
        self.assertEqual(archive["state"], "added")

    def test_the_same_content_is_seen_before_and_after(self) -> None:
        self.run_words("add", "Downloads/dusk-gels.tar.gz")
        (archive,) = self.document("look", "Downloads/dusk-gels.tar.gz", "--as", "other")["archives"]
        self.assertTrue(archive["already_added"])
        (archive,) = self.document("look", "Downloads/dusk-gels.tar.gz", "--every-format")["archives"]
        same = [placement["to"] for placement in archive["placements"] if placement["clash"] == "same"]
        self.assertEqual(len(same), 3)

    def test_list_and_show_as_json(self) -> None:
        self.run_words("add", "Downloads/forest-backdrops.zip")
        (holding,) = self.document("list")["holdings"]
        self.assertEqual({"name", "application", "archive", "files", "bytes", "added", "state"}, set(holding))
        shown = self.document("show", "forest-backdrops")
        file = next(file for file in shown["files"] if file["path"].endswith("path.png"))
        self.assertEqual({"path", "entry", "bytes", "hash", "replaced"}, set(file))
        self.assertTrue(os.path.isabs(file["path"]))
        self.assertTrue(file["hash"].startswith("blake3:"))
        self.assertEqual(file["replaced"], "original")

    def test_errors_are_three_sentences_and_the_right_code(self) -> None:
        cases = [
            (("look", "missing.zip"), 2, "There is no archive"),
            (("look", "Downloads/half-a-download.zip"), 4, "its end is missing"),
            (("add", "Downloads/sneaky-gels.zip"), 4, "leads out of the destination"),
            (("show", "nobody"), 2, "no holding called nobody"),
            (("remove", "nobody"), 2, "no holding called nobody"),
            (("app", "show", "nobody"), 2, "There are lanternbox"),
            (("add", "--app", "x", "--to", "y", "Downloads/dusk-gels.tar.gz"), 2, "contradict"),
            (("frobnicate",), 2, "There is no command frobnicate"),
        ]
        for words, code, said in cases:
            with self.subTest(words=words):
                done = self.run_words(*words, code=code)
                self.assertIn(said, " ".join((done.stdout + done.stderr).split()))

    def test_an_unsafe_archive_places_nothing_or_the_rest(self) -> None:
        before = tree_of(self.folder)
        self.run_words("look", "Downloads/sneaky-gels.zip", code=4)
        # What it keeps for itself: the log, and what it read in definitions.
        (self.folder / "usufruct" / "log").unlink()
        (self.folder / "usufruct" / "definitions").unlink(missing_ok=True)
        os.utime(self.folder / "usufruct", ns=(before["usufruct"].modified,) * 2)
        self.assertEqual(differences(before, tree_of(self.folder)), [])
        self.run_words("add", "Downloads/sneaky-gels.zip", "--skip-unsafe")
        self.assertTrue((self.folder / "Lanternbox/Gels/plain.gel").exists())
        self.assertFalse((self.folder.parent / "outside.gel").exists())

    def test_several_archives_of_which_some_fail(self) -> None:
        words = ("add", "Downloads/dusk-gels.tar.gz", "Downloads/half-a-download.zip")
        done = self.document(*words, code=1)
        self.assertEqual([archive["state"] for archive in done["archives"]], ["added", "damaged"])

    def test_a_dry_run_changes_nothing(self) -> None:
        before = tree_of(self.folder / "Lanternbox")
        self.assertIn("for Lanternbox", self.run_words("add", "--dry-run", "Downloads/dusk-gels.tar.gz").stdout)
        self.assertEqual(differences(before, tree_of(self.folder / "Lanternbox")), [])
        self.assertIn("Nothing has been added", self.run_words("list").stdout)

    def test_names_that_could_steer_the_terminal_are_never_printed_raw(self) -> None:
        Path(self.folder, "evil.zip").write_bytes(zip_bytes({"Gels/\x1b[2J.gel": "x"}))
        self.assertNotIn("\x1b", self.run_words("look", "evil.zip").stdout)

    def test_to_a_directory_without_an_application(self) -> None:
        self.run_words("add", "Downloads/dusk-gels.tar.gz", "--to", "elsewhere")
        self.assertTrue((self.folder / "elsewhere/dusk gels/LICENSE").exists())
        self.run_words("remove", "dusk-gels")
        self.assertFalse((self.folder / "elsewhere").exists())

    def test_a_second_command_waits_and_then_says_who_is_at_work(self) -> None:
        from filelock import FileLock

        (self.home / "settings.toml").write_text("patience = 1\n")
        self.home.joinpath("lock-holder").write_text("add big.zip, process 1\n")
        with FileLock(self.home / "lock"):
            done = self.run_words("remove", "nothing", code=6)
        self.assertIn("add big.zip", done.stderr)

    def test_a_broken_definition_is_told_but_does_not_hinder_removal(self) -> None:
        self.run_words("add", "Downloads/dusk-gels.tar.gz")
        definition = self.home / "apps" / "lanternbox.toml"
        definition.write_text(definition.read_text().replace('"loose"', '"heap"'))
        listed = self.run_words("app", "list")
        self.assertIn("lanternbox.toml, line", " ".join(listed.stderr.split()))
        self.assertIn("usufruct app edit lanternbox", listed.stderr)
        self.assertIn("weftline", listed.stdout)
        self.assertNotIn("Lanternbox shadow", listed.stdout)
        self.run_words("remove", "dusk-gels")

    def test_a_broken_setting_is_told_and_can_be_taken_out_while_all_else_works(self) -> None:
        (self.home / "settings.toml").write_text('patience = "soon"\nmost-levels = 2\n')
        shown = self.run_words("settings")
        self.assertIn("patience", shown.stderr)
        self.run_words("add", "Downloads/dusk-gels.tar.gz")
        self.run_words("settings", "reset", "patience")
        self.assertEqual(self.run_words("settings").stderr, "")
        (self.home / "settings.toml").write_text("no toml [")
        self.run_words("remove", "dusk-gels")
        self.run_words("settings", "set", "patience", "3", code=2)
        self.assertEqual((self.home / "settings.toml").read_text(), "no toml [")

    def test_the_command_after_a_change_is_run_and_its_failure_told(self) -> None:
        definition = self.home / "apps" / "lanternbox.toml"
        told = self.folder / "told"
        command = json.dumps([sys.executable, "-c", f"open({str(told)!r}, 'a').write('x')"])
        text = definition.read_text()
        definition.write_text(text.replace('programs = "ask"', f'programs = "ask"\nafter = {command}'))
        # A definition may come from somebody else: nothing is run that was not shown and agreed to.
        added = " ".join(self.run_words("add", "Downloads/dusk-gels.tar.gz", "--yes").stdout.split())
        self.assertIn("It was not run; `usufruct app agree lanternbox` allows it", added)
        self.run_words("remove", "dusk-gels")
        self.assertFalse(told.exists())
        self.assertIn("not run until", self.run_words("app", "show", "lanternbox").stdout)
        self.assertIn(told.name, self.run_words("app", "agree", "lanternbox").stdout)
        self.run_words("add", "Downloads/dusk-gels.tar.gz")
        self.run_words("remove", "dusk-gels")
        self.assertEqual(told.read_text(), "xx")
        definition.write_text(definition.read_text().replace("write('x')", "write('y')"))
        self.run_words("add", "Downloads/dusk-gels.tar.gz")
        self.run_words("remove", "dusk-gels")
        self.assertEqual(told.read_text(), "xx")
        definition.write_text(text.replace('programs = "ask"', 'programs = "ask"\nafter = ["no-such-program"]'))
        self.run_words("app", "agree", "lanternbox")
        self.assertIn("not installed", self.run_words("add", "Downloads/dusk-gels.tar.gz").stdout)


class DemoTest(WorldTest):
    def test_the_demo_ends_as_it_began_and_says_so(self) -> None:
        done = run_program("demo", home=self.world.folder / "state")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("have the same paths, content, permissions and times", done.stdout)
        self.assertEqual(done.stderr, "", "a question, written into another stream, once left the story")
        self.assertIn("  ~/Lanternbox\n", done.stdout)
        self.assertFalse((self.world.folder / "state").exists(), "the user's own state was touched")

    def test_a_command_of_the_demo_that_ends_otherwise_is_noticed(self) -> None:
        """It once ended well though each of its commands had failed: nothing placed leaves the folders as they were."""
        with mock.patch("usufruct.cli.commands.demo._run", return_value=5):
            done = CliRunner().invoke(demo)
        self.assertIsInstance(done.exception, UsufructError)
        self.assertIn("`usufruct list` ended with exit code 5", str(done.exception))

    def test_the_demo_can_be_kept_for_playing(self) -> None:
        folder = self.world.folder / "play"
        for code in (0, 2):
            done = run_program("demo", "--keep", str(folder), "--bare", home=self.world.folder / "state")
            self.assertEqual(done.returncode, code, done.stderr)
        self.assertTrue((folder / "Downloads/owl-family-v1.2.zip").exists())
        with mock.patch("usufruct.cli.commands.demo._run", return_value=0) as ran:
            CliRunner().invoke(demo, ["--keep", f"{folder} 2"])
        self.assertFalse(any("remove owl-family" in call.args[1] for call in ran.mock_calls), "all stays")

    def test_the_samples_are_what_their_script_makes(self) -> None:
        made = self.world.folder / "made"
        script = DOWNLOADS.parents[3] / "tools" / "make_samples.py"
        if not script.exists():
            self.skipTest("the script is in the repository, not in an installed package")
        subprocess.run([sys.executable, str(script), str(made)], check=True, capture_output=True)
        self.assertEqual(sorted(p.name for p in made.iterdir()), sorted(p.name for p in DOWNLOADS.iterdir()))
        self.assertLess(sum(path.stat().st_size for path in made.iterdir()), 300_000)
        # Compression libraries differ between machines; what is in the archives must not.
        for path in made.iterdir():
            looked = [
                json.loads(
                    run_program("look", "--json", str(p), home=self.world.folder / "none").stdout.replace(
                        str(p.parent), "downloads"
                    )
                )
                for p in (path, DOWNLOADS / path.name)
            ]
            for document in looked:
                document["archives"][0].pop("path")
                (document["archives"][0]["facts"] or {}).pop("volumes", None)
                document["archives"][0].pop("error")
            self.assertEqual(*looked)


class StartTest(unittest.TestCase):
    def test_the_module_runs_as_the_command_does(self) -> None:
        version = subprocess.run([*program(), "--version"], capture_output=True, text=True, check=True).stdout
        module = subprocess.run(
            [sys.executable, "-m", "usufruct", "--version"], capture_output=True, text=True, check=True
        ).stdout
        self.assertEqual(version, module)


if __name__ == "__main__":
    unittest.main()
