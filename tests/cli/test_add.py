"""`add` in its more than plain uses: several archives, several applications, folders, answers, a terminal."""

import shlex
import sys
import unittest

from tests.archives.zip_writer import Item, zip_of
from tests.cli.case import ProgramCase
from tests.cli.terminal import Terminal
from tests.support import zip_bytes
from usufruct.cli.cells import cells


class AddCase(ProgramCase):
    def names(self) -> set[str]:
        holdings = self.document("list")["holdings"]
        return {f"{holding['name']} for {holding['application']}" for holding in holdings}


class AddTest(AddCase):
    def test_content_for_two_applications_is_told_and_placed_for_both(self) -> None:
        self.write("both.zip", {"gels/moon.gel": "moon", "yarns/linen.yarn": "linen"})
        said = " ".join(self.run_words("look", "both.zip", code=3).stderr.split())
        self.assertIn("fit equally well", said)
        said = " ".join(self.run_words("look", "both.zip", "--app", "lanternbox").stdout.split())
        self.assertIn("left out", said)
        self.run_words("add", "both.zip", "--app", "lanternbox", "--app", "weftline")
        self.assertEqual(self.names(), {"both for lanternbox", "both (2) for weftline"})
        self.run_words("remove", "both", "both (2)")
        self.assertEqual(self.names(), set())

    def test_what_the_best_application_leaves_is_told(self) -> None:
        self.write("more.zip", {**{f"gels/{n}.gel": str(n) for n in range(12)}, "linen.yarn": "linen"})
        said = " ".join(self.run_words("look", "more.zip").stdout.split())
        self.assertIn("also for 1 other file for weftline; --app lanternbox --app weftline places all", said)

    def test_into_finds_the_application_by_the_folders_name(self) -> None:
        self.write("odd.zip", {"x/a.dat": "a", "x/b.dat": "b"})
        self.run_words("add", "odd.zip", code=3)
        self.run_words("add", "odd.zip", "--into", "nowhere", code=2)
        self.run_words("add", "odd.zip", "--to", "x", "--into", "gels", code=2)
        self.run_words("add", "odd.zip", "--into", "yarns")
        self.assertTrue((self.world.folder / "apps/Weftline/Yarns/a.dat").exists())

    def test_a_pattern_that_matches_nothing_is_wrong_usage_whatever_else_is_asked(self) -> None:
        self.write("odd.zip", {"o/a.zzz": "a"})
        self.write("moons.zip", {"gels/moon.gel": "m"})
        self.run_words("add", "moons.zip")
        for name in ("odd.zip", "moons.zip"):
            done = self.run_words("add", name, "--only", "*.nowhere", code=2)
            self.assertIn("*.nowhere matches nothing in", done.stdout + done.stderr)
        for more in ("--every-format", "--nested", "--choose=all", "--only=*.gel"):
            self.assertIn("was added already", self.run_words("add", "moons.zip", more).stdout)
        self.assertEqual(len(self.run_words("history").stdout.splitlines()), 1)

    def test_yes_takes_a_newer_version_and_no_older_one(self) -> None:
        for version in "213":
            self.write(f"moons v{version}.zip", {"gels/moon.gel": version})
        for version, code in (("2", 0), ("1", 3), ("3", 0)):
            self.run_words("add", "--yes", f"moons v{version}.zip", code=code)
        self.assertEqual((self.world.lanternbox / "Gels/moon.gel").read_text(), "3")

    def test_where_nothing_fits_nothing_is_proposed(self) -> None:
        self.write("odd.zip", {"o/a.zzz": "a", "o/b.zzz": "b"})
        said = self.run_words("add", "--yes", "odd.zip", code=3).stderr
        self.assertIn("Usufruct does not know which program this is for.", said)
        (answer,) = (line for line in said.splitlines() if line.split()[:1] == ["answer"])
        self.assertNotIn("--app", answer)
        named = self.run_words("add", "odd.zip", "--app", "weftline", code=3).stderr
        (other,) = (line for line in named.splitlines() if line.split()[:1] == ["answer"])
        self.assertEqual(answer.removesuffix(" --yes").split(), other.split())
        options = self.document("look", "odd.zip", code=3)["archives"][0]["decision"]
        self.assertEqual([options["options"][0][key] for key in ("answer", "left_out")], [[], 2])
        self.run_words(*shlex.split(answer.split("usufruct ")[1]))

    def test_the_answer_that_is_shown_is_the_answer(self) -> None:
        self.write(
            "two moons.zip",
            {"moon/dim/moon.gel": "d", "moon/bright/moon.gel": "bb", "gels/setup.sh": "#!x", "a.doc": "x"},
        )
        self.run_words("add", "two moons.zip", "--skip", "*.nowhere", code=2)
        said = self.run_words("add", "two moons.zip", "--skip", "*.doc", code=3).stderr
        command = next(line for line in said.splitlines() if line.split()[:1] == ["answer"]).split("usufruct ")[1]
        self.assertIn("--skip '*.doc'", command)
        self.assertNotIn("was not used", self.run_words(*shlex.split(command)).stderr)
        self.assertEqual(self.names(), {"two moons for lanternbox"})
        self.write("other.zip", {"moon.gel": "x"})
        said = self.run_words("look", "other.zip", "--choose", "dim", "--on-clash", "replace").stderr
        self.assertIn("--choose dim was not used", said)

    def test_what_another_holding_placed_is_not_replaced_unasked(self) -> None:
        for name in ("moons", "suns"):
            self.write(f"{name}.zip", {"gels/star.gel": name, f"gels/{name}.gel": name})
        self.run_words("add", "moons.zip")
        said = self.run_words("add", "suns.zip", code=3).stderr
        self.assertIn("star.gel is there already from moons.", " ".join(said.split()))
        self.assertEqual((self.world.lanternbox / "Gels/star.gel").read_text(), "moons")
        self.run_words("add", "suns.zip", "--on-clash", "both")
        self.assertEqual((self.world.lanternbox / "Gels/star.gel").read_text(), "moons")
        self.assertEqual((self.world.lanternbox / "Gels/star (2).gel").read_text(), "suns")

    def test_yes_takes_only_answers_that_lose_nothing(self) -> None:
        self.write("tools.zip", {"puppets/Owl/rig.toml": "r", "puppets/Owl/run.sh": "#!/bin/sh"})
        self.run_words("add", "tools.zip", code=3)
        self.run_words("add", "tools.zip", "--yes")
        self.assertEqual(set(self.world.contents()), {"Puppets/Owl/rig.toml"})
        self.write("moons.zip", {"a/moon.gel": "1", "b/moon.gel": "22"})
        self.run_words("add", "moons.zip", "--yes", code=3)

    def test_a_folder_or_a_wildcard_means_the_archives_in_it(self) -> None:
        self.write("one.zip", {"one.gel": "1"})
        self.write("two.zip", {"two.gel": "2"})
        (self.downloads / "notes.txt").write_text("not an archive")
        (self.downloads / "unnamed").write_bytes(zip_bytes({"three.gel": "3"}))
        self.run_words("add", ".")
        self.assertEqual(set(self.world.contents()), {"Gels/one.gel", "Gels/two.gel", "Gels/three.gel"})
        self.run_words("add", "*.zip", "--to", "out")
        self.assertEqual(sorted(path.name for path in (self.downloads / "out").iterdir()), ["one.gel", "two.gel"])
        self.run_words("add", "*.rar", code=2)
        (self.downloads / "empty").mkdir()
        self.run_words("add", "empty", code=2)

    def test_several_archives_together_are_one_holding_and_the_later_lies_over_the_earlier(self) -> None:
        self.write("Owl pack.zip", {"Owl/rig.toml": "one", "Owl/a.svg": "a"})
        self.write("Owl colours.zip", {"Owl/rig.toml": "two"})
        said = self.run_words("add", "--together", "Owl pack.zip", "Owl colours.zip", "--as", "owls").stdout
        self.assertIn("a later part replaces that of Owl pack", said)
        self.assertEqual(self.world.contents(), {"Puppets/Owl/rig.toml": "two", "Puppets/Owl/a.svg": "a"})
        self.assertEqual(self.names(), {"owls for lanternbox"})

    def test_the_answer_about_archives_together_names_all_of_them(self) -> None:
        """It named the first alone, and obeying it took the files of the others out."""
        self.write("sun.zip", {"sun.gel": "s"})
        self.write("two moons.zip", {"a/moon.gel": "1", "b/moon.gel": "22"})
        said = self.run_words("add", "sun.zip", "two moons.zip", "--together", code=3).stderr
        command = next(line for line in said.splitlines() if line.split()[:1] == ["answer"]).split("usufruct ")[1]
        self.run_words(*shlex.split(command))
        self.assertEqual(self.world.contents(), {"Gels/sun.gel": "s", "Gels/moon.gel": "1"})

    def test_archives_together_are_told_apart_by_their_files_names(self) -> None:
        """Two of one tidy name were asked about as `first` and `last`; three that differ in case had two names."""
        for names in (("Owl_v1.0.zip", "Owl_v2.0.zip"), ("OWL.zip", "owl.zip", "Owl.zip")):
            for number, name in enumerate(names):
                self.write(name, {"gels/x.gel": str(number), f"gels/{number}.gel": "y"})
            self.run_words("add", *names, "--together", "--as", "owls")
            self.assertEqual(self.world.contents()["Gels/x.gel"], str(len(names) - 1))
            self.assertEqual(len(self.world.contents()), len(names) + 1)
            self.run_words("remove", "owls")

    def test_one_of_several_archives_does_not_hold_up_the_others(self) -> None:
        self.write("moons.zip", {"a/moon.gel": "1", "b/moon.gel": "22"})
        self.write("sun.zip", {"sun.gel": "s"})
        self.run_words("add", "moons.zip", "sun.zip", code=1)
        self.assertEqual(set(self.world.contents()), {"Gels/sun.gel"})


@unittest.skipIf(sys.platform == "win32", "a terminal is simulated with the system's own")
class TerminalTest(AddCase):
    """A person at a terminal is asked; the simulated one answers by keys."""

    def at_terminal(self, words: list[str], keys: list[tuple[str, bytes]]) -> tuple[int, str]:
        """Run the program at a terminal; each key is pressed once its text has appeared. Gives exit code and output."""
        with Terminal(*words, cwd=self.downloads, env={"USUFRUCT_HOME": str(self.home)}) as terminal:
            for text, pressed in keys:
                terminal.sees(text)
                terminal.types(pressed.decode())
            return terminal.ends(), terminal.shown

    def test_alternatives_are_picked_from_a_list(self) -> None:
        self.write("moons.zip", {"a/moon.gel": "1", "b/moon.gel": "22"})
        code, said = self.at_terminal(["add", "moons.zip"], [("contain the same files", b"\x1b[B\r")])
        self.assertEqual(code, 0, said)
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "22"})

    def test_none_of_these_places_nothing(self) -> None:
        self.write("moons.zip", {"a/moon.gel": "1", "b/moon.gel": "22"})
        code, _ = self.at_terminal(["add", "moons.zip"], [("contain the same files", b"\x1b[A\r")])
        self.assertEqual(code, 3)
        self.assertEqual(self.world.contents(), {})

    def test_entries_are_ticked_in_a_checklist(self) -> None:
        self.write("gels.zip", {"a.gel": "1", "b.gel": "2", "c.gel": "3"})
        code, said = self.at_terminal(["add", "--pick", "gels.zip"], [("Which do you want", b" \r")])
        self.assertEqual(code, 0, said)
        self.assertEqual(self.world.contents(), {"Gels/b.gel": "2", "Gels/c.gel": "3"})
        self.run_words("add", "--pick", "gels.zip", code=2)

    def test_each_file_in_the_way_is_asked_about_and_the_rest_alike(self) -> None:
        self.world.write({f"Gels/{name}.gel": "mine" for name in "abc"})
        self.write("gels.zip", {f"{name}.gel": "theirs" for name in "abc"})
        down = b"\x1b[B"
        keys = [("a.gel is there already", b"\r"), ("b.gel is there already", down * 5 + b"\r")]
        code, said = self.at_terminal(["add", "--on-clash", "ask", "gels.zip"], keys)
        self.assertEqual(code, 0, said)
        self.assertEqual(self.world.contents(), {"Gels/a.gel": "theirs", "Gels/b.gel": "mine", "Gels/c.gel": "mine"})

    def test_a_password_is_asked_for_without_echo(self) -> None:
        (self.downloads / "locked.zip").write_bytes(zip_of([Item(b"moon.gel", b"moon", "moth", 32)])[0])
        keys = [("Password for locked.zip (Enter skips it):", b"wasp\r"), ("does not fit", b"moth\r")]
        code, said = self.at_terminal(["add", "locked.zip"], keys)
        self.assertEqual(code, 0, said)
        self.assertNotIn("moth", said)
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "moon"})

    def test_forty_columns_are_enough(self) -> None:
        name = "harbour-lanterns"
        self.write(f"{name}.zip", {f"bright/{name}.gel": "1", f"dim/{name}.gel": "22"})
        environment = {"USUFRUCT_HOME": str(self.home), "COLUMNS": ""}
        shown: dict[str, str] = {}
        for words in (
            f"look {name}.zip", f"add {name}.zip --choose dim", f"look {name}.zip ", "", "list", f"show {name}",
            "history", "check", "archives", "app list", "settings", "list --sizes", "downloads", "--help", "add --help",
        ):  # fmt: skip
            at_forty = Terminal(*words.split(), cwd=self.downloads, env=environment, columns=40)
            with self.subTest(words), at_forty as terminal:
                self.assertIn(terminal.ends(), (0, 3))
                shown[words] = terminal.shown
                for line in terminal.shown.splitlines():
                    # A path or a command is not broken where a person would copy it, nor is what an option can be.
                    is_whole = "/" in line or "usufruct " in line or "|" in line
                    self.assertTrue(is_whole or cells(line) <= 40, line)
        for words in (f"look {name}.zip", f"show {name}", "list", "history", "check"):
            self.assertIn(name, shown[words], words)
        self.assertIn(f"{name}.gel", shown[f"show {name}"])
        self.assertIn(f"usufruct add {name}.zip --choose bright", shown[f"look {name}.zip"])

    def test_passwords_are_asked_for_once_all_else_is_placed_and_enter_skips_one(self) -> None:
        for name, password in {"dawn": "wasp", "dusk": "moth", "noon": "wasp"}.items():
            entry = Item(f"{name}.gel".encode(), b"light", password, 32)
            (self.downloads / f"{name}.zip").write_bytes(zip_of([entry])[0])
        self.write("sun.zip", {"sun.gel": "s"})
        names = ["dawn.zip", "dusk.zip", "noon.zip", "sun.zip"]
        with Terminal("add", *names, cwd=self.downloads, env={"USUFRUCT_HOME": str(self.home)}) as terminal:
            terminal.sees("Password for dawn.zip (Enter skips it):")
            self.assertEqual(set(self.world.contents()), {"Gels/sun.gel"})
            terminal.types("wasp\r")
            terminal.sees("Password for dusk.zip")
            terminal.types("\r")
            code, said = terminal.ends(), terminal.shown
        self.assertEqual(code, 1, said)
        self.assertEqual(set(self.world.contents()), {"Gels/dawn.gel", "Gels/noon.gel", "Gels/sun.gel"})
        self.assertNotIn("Password for noon.zip", said)
        self.assertIn("1 needs an answer", " ".join(said.split()))

    def test_a_password_of_archives_that_belong_together_is_asked_for_once(self) -> None:
        for name in ("dawn", "dusk"):
            (self.downloads / f"{name}.zip").write_bytes(zip_of([Item(f"{name}.gel".encode(), b"l", "moth", 32)])[0])
        code, said = self.at_terminal(["add", "--together", "dawn.zip", "dusk.zip"], [("Password for", b"\r")])
        self.assertEqual((code, said.count("Password for")), (3, 1), said)

    def test_enter_at_a_password_is_no_wrong_one_though_another_was_tried(self) -> None:
        (self.home / "passwords").write_text("wasp\n")
        (self.downloads / "locked.zip").write_bytes(zip_of([Item(b"moon.gel", b"moon", "moth", 32)])[0])
        code, said = self.at_terminal(["add", "locked.zip"], [("Password for locked.zip", b"\r")])
        self.assertEqual(code, 3, said)
        self.assertIn("is locked with a password", said)

    def test_nothing_can_be_placed_of_all_that_ask_the_same(self) -> None:
        for name in ("moons.zip", "suns.zip", "stars.zip"):
            self.write(name, {f"a/{name}.gel": "1", f"b/{name}.gel": "22"})
        keys = [("nor of 2 other archives that ask this", b"\x1b[A\r")]
        code, said = self.at_terminal(["add", "moons.zip", "suns.zip", "stars.zip"], keys)
        self.assertEqual(code, 3, said)
        # Only the summary speaks of the others again.
        self.assertEqual([said.count(f"{name}  zip") for name in ("moons.zip", "suns.zip", "stars.zip")], [2, 1, 1])
        self.assertEqual(self.world.contents(), {})
