"""What waits in the downloads folder, and how each of it stands."""

import json
import os
import random
import shlex
import signal
import subprocess
import sys
import time
import unittest

from tests.archives.zip_writer import Item, zip_of
from tests.cli.case import ProgramCase
from tests.cli.test_add import TerminalTest
from tests.support import program, zip_bytes


class DownloadsTest(ProgramCase):
    def setUp(self) -> None:
        super().setUp()
        self.environment = {"USUFRUCT_DOWNLOADS": str(self.downloads)}

    def states(self, *words: str) -> dict[str, tuple[str, str | None]]:
        found = self.document("downloads", *words)["downloads"]
        return {one["path"].rpartition("/")[2]: (one["state"], one["application"]) for one in found}

    def put(self, name: str, content: bytes, age: int = 100) -> None:
        path = self.downloads / name
        path.write_bytes(content)
        when = time.time() - age
        os.utime(path, (when, when))

    def test_another_folder_is_listed_as_the_usual_ones_are(self) -> None:
        self.put("gels.zip", zip_bytes({"moon.gel": "moon"}))
        stick = self.world.folder / "my stick"
        stick.mkdir()
        (stick / "yarns.zip").write_bytes(zip_bytes({"linen.yarn": "linen"}))
        self.assertEqual(self.states(str(stick)), {"yarns.zip": ("new", "weftline")})
        said = self.run_words("downloads", str(stick)).stdout
        (command,) = (line.split("`")[1] for line in said.splitlines() if line.startswith("1 download ready"))
        self.run_words(*shlex.split(command)[1:])
        self.assertTrue((self.world.folder / "apps/Weftline/Yarns/linen.yarn").exists())
        self.assertEqual(self.states(), {"gels.zip": ("new", "lanternbox")})
        for name, said in (("nowhere", "There is no folder nowhere."), ("gels.zip", "`usufruct look gels.zip`")):
            self.assertIn(said, self.run_words("downloads", name, code=2).stderr)

    def test_each_state(self) -> None:
        gels = zip_bytes({"moon.gel": "moon"})
        self.put("gels v1.zip", gels)
        self.run_words("add", "gels v1.zip")
        self.put("gels v1 (1).zip", gels)
        self.put("gels v2.zip", zip_bytes({"moon.gel": "moon 2"}))
        self.put("gels v0.5.zip", zip_bytes({"moon.gel": "moon 0"}))
        self.put("yarns.zip", zip_bytes({"linen.yarn": "linen"}))
        self.put("half.zip", zip_bytes({"x.gel": random.Random(7).randbytes(5000)})[:900])
        self.put("locked.zip", zip_of([Item(b"sun.gel", b"sun", "moth", 32)])[0])
        self.put("letter.txt", b"dear moth")
        self.put("day.gel", b"a gel by itself")
        self.put("big.zip.part", b"PK")
        content = zip_bytes({"s.gel": "s" * 2000}, compression=0)
        for number, at in enumerate(range(0, len(content), 500), 1):
            if number != 2:
                self.put(f"set.zip.{number:03}", content[at : at + 500])
        expected = {
            "gels v1.zip": ("added", "lanternbox"),
            "gels v1 (1).zip": ("added", "lanternbox"),
            "gels v2.zip": ("newer", "lanternbox"),
            "gels v0.5.zip": ("older", "lanternbox"),
            "yarns.zip": ("new", "weftline"),
            "half.zip": ("incomplete", None),
            "locked.zip": ("locked", "lanternbox"),
            "letter.txt": ("no archive", None),
            "day.gel": ("new", "lanternbox"),
            "big.zip.part": ("arriving", None),
            "set.zip.001": ("incomplete", None),
        }
        found = self.states()
        for name, state in expected.items():
            with self.subTest(name):
                self.assertEqual(found.get(name), state)
        self.assertEqual(set(found), set(expected))
        self.assertEqual(self.states(), found, "what is remembered is the same")
        self.assertEqual(set(self.states("--app", "weftline")), {"yarns.zip"})
        self.assertEqual(set(self.states("--find", "GELS V2")), {"gels v2.zip"})

    def test_the_newest_comes_first_and_a_change_is_seen(self) -> None:
        self.put("old.zip", zip_bytes({"a.gel": "a"}), age=5000)
        self.put("new.zip", zip_bytes({"b.gel": "b"}), age=50)
        lines = self.run_words("downloads").stdout.splitlines()
        self.assertIn("newest first", lines[0])
        self.assertEqual([line.split()[-1] for line in lines[1:3]], ["new.zip", "old.zip"])
        self.put("old.zip", b"no archive any more", age=10)
        self.assertEqual(self.states()["old.zip"][0], "no archive")

    def test_what_is_gone_is_not_remembered_for_ever(self) -> None:
        self.put("old.zip", zip_bytes({"a.gel": "a"}))
        self.put("stays.zip", zip_bytes({"b.gel": "b"}))
        self.states()
        (self.downloads / "old.zip").unlink()
        self.put("new.zip", zip_bytes({"c.gel": "c"}), age=1)
        self.run_words("downloads", "--find", "new")
        remembered = json.loads((self.home / "downloads.json").read_text())["downloads"]
        self.assertEqual({path.rpartition("/")[2] for path in remembered}, {"stays.zip", "new.zip"})

    def test_watching_tells_of_a_download_once_it_is_finished(self) -> None:
        environment = {**os.environ, "USUFRUCT_HOME": str(self.home), "USUFRUCT_DOWNLOADS": str(self.downloads)}
        watcher = subprocess.Popen(
            [*program(), "downloads", "--watch"],
            env=environment,
            stdout=subprocess.PIPE,
            stdin=subprocess.DEVNULL,
            # Tests that run in the background of a shell have Ctrl-C turned off, and what they start inherits that.
            preexec_fn=lambda: signal.signal(signal.SIGINT, signal.default_int_handler),
        )
        self.addCleanup(watcher.stdout.close)
        self.assertIn(b"Watching", watcher.stdout.readline())
        (self.downloads / "gels.zip.part").write_bytes(b"PK")
        (self.downloads / "gels.zip.part").unlink()
        self.put("gels.zip", zip_bytes({"moon.gel": "moon"}))
        line = watcher.stdout.readline().decode()
        watcher.send_signal(signal.SIGINT)
        self.assertEqual(watcher.wait(20), 0)
        self.assertIn("ready", line)
        self.assertIn("gels.zip", line)

    def test_adding_without_a_name_needs_a_terminal(self) -> None:
        self.assertIn("No archive is named", self.run_words("add", code=2).stderr)

    def test_a_fault_of_our_own_is_told_without_a_traceback(self) -> None:
        code = "import usufruct.cli.main as m\nm.cli.main = lambda **_: 1 / 0\nraise SystemExit(m.run(['list']))"
        environment = {**os.environ, "USUFRUCT_HOME": str(self.home)}
        done = subprocess.run(
            [sys.executable, "-c", code], env=environment, capture_output=True, text=True, check=False
        )
        self.assertEqual(done.returncode, 5)
        self.assertNotIn("Traceback", done.stderr)
        self.assertIn("ZeroDivisionError", done.stderr)
        self.assertIn("Traceback", (self.home / "log").read_text())


@unittest.skipIf(sys.platform == "win32", "a terminal is simulated with the system's own")
class ChecklistTest(ProgramCase):
    at_terminal = TerminalTest.at_terminal

    def test_new_downloads_are_offered_as_a_checklist(self) -> None:
        os.environ["USUFRUCT_DOWNLOADS"] = str(self.downloads)
        self.addCleanup(os.environ.pop, "USUFRUCT_DOWNLOADS")
        self.write("one.zip", {"one.gel": "1"})
        self.write("two.zip", {"two.gel": "2"})
        os.utime(self.downloads / "one.zip", (1e9, 1e9))
        code, said = self.at_terminal(["add"], [("Which do you want to add?", b" \r")])
        self.assertEqual(code, 0, said)
        self.assertEqual(set(self.world.contents()), {"Gels/two.gel"})


del TerminalTest

if __name__ == "__main__":
    unittest.main()
