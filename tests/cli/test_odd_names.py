"""Names that are no text, or that would steer a terminal, and an output that cannot be written: in the real program."""

import json
import os
import subprocess
import unittest
from pathlib import Path
from unittest import mock

from tests.support import WorldTest, run_program, zip_bytes
from usufruct.actions.looking import look_at

ODD = b"na\xffme v1".decode("utf-8", "surrogateescape")
SHOWN = r"na\udcffme v1"


@unittest.skipUnless(os.name == "posix" and os.uname().sysname == "Linux", "names there are texts")
class NamesThatAreNoTextTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.context_with_definitions()
        self.downloads = self.world.folder / "downloads"
        self.archive = self.downloads / f"{ODD}.zip"
        self.archive.write_bytes(zip_bytes({"gels/moon.gel": "1", "gels/sun.gel": "2"}))
        self.place = self.world.folder / ODD
        self.place.mkdir()

    def said(self, *words: str | Path, code: int = 0) -> str:
        done = run_program(
            *map(str, words), home=self.world.paths.data, cwd=self.world.folder, USUFRUCT_DOWNLOADS=str(self.downloads)
        )
        self.assertEqual(done.returncode, code, f"{words}: {done.stderr}")
        self.assertNotIn("fault of its own", done.stdout + done.stderr)
        return done.stdout

    def test_every_command_takes_them(self) -> None:
        self.assertIn(SHOWN, self.said("look", self.archive))
        self.assertIn(SHOWN, self.said("downloads"))
        self.assertEqual(len(json.loads(self.said("downloads", "--json"))["downloads"]), 1)
        before = self.world.tree()
        self.said("add", self.archive)
        self.assertEqual(json.loads(self.said("list", "--json"))["holdings"][0]["name"], "na_me")
        self.said("add", self.archive, "--to", self.place, "--as", "beside")
        placed = self.place / "gels/moon.gel"
        self.assertEqual(placed.read_text(), "1")
        self.assertEqual(json.loads(self.said("whose", placed, "--json"))["holding"], "beside")
        self.assertEqual(
            [Path(one["path"]) for one in json.loads(self.said("show", "beside", "--json"))["files"]][:1], [placed]
        )
        for words in (("show", "na_me"), ("check",), ("archives",), ("history",), ("carry", "out", "all.zip"),
                      ("pack", "beside", "--out", "beside.zip"), ("list",), ("downloads",)):  # fmt: skip
            self.said(*words)
        placed.unlink()
        self.said("check", code=1)
        self.said("repair", "beside")
        self.assertEqual(placed.read_text(), "1")
        self.said("undo")
        self.said("remove", "na_me")
        self.assertEqual(self.world.tree(), before)
        self.assertEqual(os.listdir(self.place), [])


class OutputTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.context_with_definitions()

    def test_no_name_steers_the_terminal(self) -> None:
        name = "we\x1b[31mird\u202e\n\u2028.zip"
        path = self.world.folder / name
        path.write_bytes(b"no archive")
        for words in (["look", name], ["look", f"--{name}"], ["show", name], ["add", name, "--app", name]):
            done = run_program(*words, home=self.world.paths.data, cwd=self.world.folder)
            for sign in "\x1b\u202e\u2028":
                self.assertNotIn(sign, done.stdout + done.stderr, words)
            self.assertIn(r"we\x1b[31mird\u202e", done.stdout + done.stderr)

    @unittest.skipUnless(os.path.exists("/dev/full"), "there is no full device")
    def test_what_was_done_stays_done_where_it_cannot_be_told(self) -> None:
        archives = [self.world.archive(f"{name}.zip", {f"gels/{name}.gel": name}) for name in ("moon", "sun")]
        with open("/dev/full", "w") as full:
            done = self.run_to(full, "add", *map(str, archives))
        self.assertEqual(done.returncode, 5)
        self.assertIn(
            "Not all output could be written (No space left on device). What was done stays done", done.stderr
        )
        self.assertEqual(len(self.world.contents()), 2)

    def test_a_reader_that_went_away_stops_nothing(self) -> None:
        archives = [self.world.archive(f"{name}.zip", {f"gels/{name}.gel": name}) for name in ("moon", "sun")]
        gone, end = os.pipe()
        os.close(gone)
        done = self.run_to(end, "add", *map(str, archives))
        os.close(end)
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        self.assertEqual(len(self.world.contents()), 2)

    def test_without_any_output(self) -> None:
        archive = self.world.archive("moon.zip", {"gels/moon.gel": "1"})
        script = f'exec >&-; "$0" -m usufruct add "{archive}"'
        done = self.run_to(subprocess.PIPE, script=script)
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        self.assertEqual(len(self.world.contents()), 1)

    def test_a_place_of_its_own_that_cannot_be_written(self) -> None:
        archive = self.world.archive("moon.zip", {"gels/moon.gel": "1"})
        (self.world.folder / "file").write_text("no folder")
        for words, code in ((["list"], 0), (["check"], 0), (["look", str(archive), "--to", "."], 0),
                            (["add", str(archive), "--to", "."], 5)):  # fmt: skip
            done = run_program(*words, home=self.world.folder / "file/below", cwd=self.world.folder)
            self.assertEqual(done.returncode, code, done.stderr)
            self.assertNotIn("Traceback", done.stdout + done.stderr)

    def test_one_archive_that_makes_it_fail_keeps_no_other_from_its_turn(self) -> None:
        archives = [self.world.archive(f"{name}.zip", {f"gels/{name}.gel": name}) for name in ("moon", "sun")]
        request = self.world.request()
        fails = mock.patch("usufruct.actions.examine.Download", side_effect=[MemoryError(), RuntimeError("x"), None])
        with fails:
            looked = list(look_at(self.world.context, [archives[0]] * 2, request))
        self.assertIn("not enough memory to read moon.zip", str(looked[0].error))
        self.assertIn("moon.zip made Usufruct fail (RuntimeError)", str(looked[1].error))

    def run_to(self, out: object, *words: str, script: str = "") -> "subprocess.CompletedProcess[str]":
        import sys

        command = ["sh", "-c", script, sys.executable] if script else [sys.executable, "-m", "usufruct", *words]
        environment = {**os.environ, "USUFRUCT_HOME": str(self.world.paths.data)}
        return subprocess.run(
            command, stdout=out, stderr=subprocess.PIPE, text=True, env=environment, cwd=self.world.folder, check=False
        )  # type: ignore[call-overload, no-any-return]


if __name__ == "__main__":
    unittest.main()
