"""What is around the work: completion by the real state, the manual page, the version, the log."""

import json
import os
import shutil
import subprocess
import unittest
from pathlib import Path

from tests.cli.case import ProgramCase
from tests.support import program, zip_bytes

PROJECT = Path(__file__).parents[2]


class SettingUpTest(ProgramCase):
    def setUp(self) -> None:
        super().setUp()
        self.folder = self.world.folder
        self.world.add_files("moons.zip", {"gels/moon.gel": "1"})
        self.world.add_files("sky v1.zip", {"gels/sky.gel": "1"})
        (self.downloads / "moon.txt").write_text("no archive")

    def offered(self, line: str, **environment: str) -> list[str]:
        """What bash would offer for the last word of a line."""
        words = line.split(" ")
        said = self.run_words(
            _USUFRUCT_COMPLETE="bash_complete", COMP_WORDS=line, COMP_CWORD=str(len(words) - 1), **environment
        )
        return [one.partition(",")[2] for one in said.stdout.splitlines() if one]

    def test_completion_offers_what_is_there_now(self) -> None:
        self.assertEqual(self.offered("usufruct show "), ["moons", "sky"])
        self.assertEqual(self.offered("usufruct remove sky "), ["moons"])
        self.assertEqual(self.offered("usufruct add --app la"), ["lanternbox"])
        self.assertEqual(self.offered("usufruct add --app weftline --into "), ["looms", "drafts", "yarns"])
        self.assertEqual(self.offered("usufruct add downloads/mo"), ["downloads/moons.zip"])
        self.assertEqual(
            self.offered("usufruct look ", USUFRUCT_DOWNLOADS=str(self.downloads)),
            [*(f"{name}/" for name in ("apps", "downloads", "state")),
             *sorted((str(self.downloads / name) for name in ("moons.zip", "sky v1.zip")), reverse=True)],
        )  # fmt: skip
        self.assertEqual(self.offered("usufruct settings set most-l"), ["most-levels"])
        self.assertEqual(self.offered("usufruct settings set afterwards "), ["keep", "trash", "store"])
        self.assertEqual(self.offered("usufruct settings set patience "), [])
        self.assertEqual(self.offered("usufruct look x.zip --names cp86"), ["cp866"])
        self.assertIn("moons", self.offered("usufruct pack mo"))

    def test_completion_looks_into_the_archive_that_the_line_names(self) -> None:
        (self.downloads / "both.zip").write_bytes(zip_bytes({"pale/moon.gel": "1", "full/moon.gel": "22"}))
        self.assertEqual(self.offered("usufruct add downloads/both.zip --choose "), ["full", "pale", "all"])
        for option in ("--only", "--skip", "--read"):
            self.assertEqual(self.offered(f"usufruct look downloads/both.zip {option} pa"), ["pale/moon.gel"])
        self.assertEqual(self.offered("usufruct add no-such.zip --choose "), [])

    def test_completion_never_fails_in_the_middle_of_a_line(self) -> None:
        (self.world.paths.apps / "broken.toml").write_text("not toml at all [")
        self.assertEqual(self.offered("usufruct add --app la"), ["lanternbox"])
        (self.world.paths.apps / "lanternbox.toml").write_text("not toml either [")
        self.assertEqual(self.offered("usufruct add --app la"), [])
        self.assertEqual(self.offered("usufruct look no/such/fo"), [])

    @unittest.skipUnless(shutil.which("bash"), "bash is not here")
    def test_bash_takes_its_script(self) -> None:
        script = self.run_words("completion", "bash").stdout
        (self.world.folder / "script").write_text(script)
        function = script.partition("() {")[0].strip()
        ask = f'. ./script; COMP_WORDS=(usufruct show mo); COMP_CWORD=2; {function} usufruct; echo "${{COMPREPLY[0]}}"'
        done = subprocess.run(
            ["bash", "-c", ask],
            cwd=self.world.folder, capture_output=True, text=True, check=True,
            env={
                **os.environ,
                "USUFRUCT_HOME": str(self.world.paths.data),
                "PATH": f"{os.path.dirname(program()[0])}:{os.environ['PATH']}",
            },
        )  # fmt: skip
        self.assertEqual(done.stdout, "moons\n")
        for shell in ("zsh", "fish"):
            self.assertIn(f"_USUFRUCT_COMPLETE={shell}_complete", self.run_words("completion", shell).stdout)

    def test_the_manual_page_has_every_command_and_every_option(self) -> None:
        page = self.run_words("manual").stdout
        self.assertTrue(page.startswith(".TH USUFRUCT 1"))
        for words in (
            ".SH OPTIONS",
            ".SH EXAMPLES",
            ".SH FILES",
            ".SH SEE ALSO",
            ".SS look",
            ".SS carry in",
            ".SS app learn",
            "\\-\\-on\\-clash",
            ".B USUFRUCT_PATIENCE",
            ".B 130",
        ):
            self.assertIn(words, page)
        lines = page.splitlines()
        told = [(line, lines[at + 1]) for at, line in enumerate(lines) if line.startswith("\\fB\\-\\-")]
        self.assertEqual(len(told), len(set(told)), "each is told once")
        self.assertEqual(len([line for line, _ in told if "\\-\\-json" in line]), 2, "of all commands, and of none")
        self.assertEqual((PROJECT / "docs" / "usufruct.1").read_text(), page, "`usufruct manual > docs/usufruct.1`")
        for formatter in (["groff", "-man", "-Tutf8", "-z", "-ww"], ["mandoc", "-T", "lint", "-W", "warning"]):
            if shutil.which(formatter[0]):
                checked = subprocess.run(formatter, input=page, text=True, capture_output=True)
                self.assertEqual((checked.returncode, checked.stdout + checked.stderr), (0, ""))

    def test_the_version_names_libraries_and_formats(self) -> None:
        said = self.run_words("--version").stdout
        self.assertRegex(said, r"^usufruct \d+\.\d+")
        for words in ("reads zip, 7z, rar", "writes zip, 7z, tar", "with Python 3.", "blake3 ", "click "):
            self.assertIn(words, said)

    def test_at_sixty_columns_no_table_is_wider(self) -> None:
        self.world.add_files("a very long name of a pack of gels.zip", {"gels/very long name of a gel in it.gel": "1"})
        for words in (
            ("list",), ("list", "--sizes"), ("app", "list"), ("archives",), ("history",), ("settings",),
            ("look", "downloads/moons.zip", "--to", "shelf"),
        ):  # fmt: skip
            for line in self.run_words(*words, COLUMNS="60").stdout.splitlines():
                self.assertLessEqual(len(line), 60, (words, line))

    def test_the_log_tells_of_changes_and_of_what_lay_behind_an_error(self) -> None:
        log = self.world.paths.data / "log"
        self.run_words("list")
        self.assertFalse(log.exists())
        self.world.archive("stars.zip", {"gels/stars.gel": "*"})
        told = self.run_words("-v", "add", "downloads/stars.zip").stderr
        self.assertIn("usufruct add downloads/stars.zip", told)
        self.assertRegex(log.read_text(), r"change \d+ of stars: done")
        self.assertEqual(log.read_text().count("stars: done"), 1)
        (self.downloads / "broken.7z").write_bytes(b"7z\xbc\xaf\x27\x1c" + bytes(60))
        failed = self.run_words(
            "pack", "moons", "--out", "downloads", "--format", "7z", "--password-file", "no", code=5
        )
        self.assertIn("Details are in", failed.stderr)
        self.assertIn("FileNotFoundError", log.read_text())

    def test_names_steer_neither_the_terminal_nor_the_log(self) -> None:
        evil = "evil \x1b]0;title\x07\u202e\u061c\u2028\x9b31m\nfake line.zip"
        for words in (("look", evil), ("add", evil), ("-v", "remove", evil), ("check", evil)):
            done = self.run_words(*words, code=2)
            shown = self.run_words(*words, "--json", code=done.returncode).stdout
            self.assertIn("evil", json.dumps(json.loads(shown)))
            log = self.world.paths.data / "log"
            logged = log.read_text() if log.exists() else ""
            for text in (done.stdout, done.stderr, shown, logged):
                self.assertFalse([sign for sign in text if not sign.isprintable() and sign != "\n"], words)
                self.assertFalse([line for line in text.split("\n") if line.startswith("fake line")], words)
        (self.world.folder / evil).write_bytes(b"no archive")
        self.assertIn("\\u202e", self.run_words("look", evil, "--json", code=4).stdout)

    def test_the_log_begins_anew_when_it_is_full(self) -> None:
        log = self.world.paths.data / "log"
        log.write_text("x" * 1_000_000)
        self.world.archive("stars.zip", {"gels/stars.gel": "*"})
        self.run_words("add", "downloads/stars.zip")
        self.assertLess(log.stat().st_size, 10_000)
        self.assertEqual((self.world.paths.data / "log.1").stat().st_size, 1_000_000)


if __name__ == "__main__":
    unittest.main()
