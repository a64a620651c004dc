"""What the desktop is told of Usufruct, and that it is taken back to the last folder."""

import configparser
import json
import os
import re
import stat
import sys
import unittest
from pathlib import Path
from unittest import mock

import jsonschema
from msgspec.structs import replace

from tests.cli.test_json import SCHEMA
from tests.support import WorldTest, run_program
from usufruct.actions import desktop
from usufruct.actions.arrivals import NEW
from usufruct.actions.downloads import Waiting
from usufruct.cli import watching
from usufruct.errors import MachineError
from usufruct.files.platform import Platform


@unittest.skipIf(sys.platform in ("darwin", "win32"), "these systems are told in words that there is nothing")
class DesktopTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.home = self.world.folder / "person"
        self.home.mkdir()
        self.entry = self.home / ".local/share/applications/usufruct-add.desktop"
        self.service = self.home / ".config/systemd/user/usufruct-downloads.service"
        self.link = self.service.parent / "default.target.wants" / self.service.name

    def said(self, *words: str, code: int = 0) -> str:
        context = {"HOME": str(self.home), "XDG_DATA_HOME": "", "XDG_CONFIG_HOME": ""}
        with mock.patch.dict(os.environ, context):
            done = run_program("desktop", *words, home=self.world.folder / "state")
        self.assertEqual(done.returncode, code, done.stdout + done.stderr)
        return done.stdout + done.stderr

    def test_on_and_off_leave_nothing_behind_and_may_be_said_twice(self) -> None:
        for _ in range(2):
            found = json.loads(self.said("on", "--json"))
            jsonschema.validate(found, {"$ref": "#/$defs/desktop on", "$defs": SCHEMA["$defs"]})
            written = found["written"]
            self.assertEqual(written, [str(self.entry), str(self.service), str(self.link)])
        self.assertEqual(self.link.resolve(), self.service)
        self.assertIn("Taken back", self.said("off"))
        self.assertEqual(list(self.home.iterdir()), [], "the folders that were made are gone too")
        self.assertIn("Nothing was written", self.said("off"))
        found = json.loads(self.said("off", "--json"))
        jsonschema.validate(found, {"$ref": "#/$defs/desktop off", "$defs": SCHEMA["$defs"]})

    def test_an_archive_that_a_file_manager_hands_over_is_added_or_told_how(self) -> None:
        odd = self.world.archive("odd.zip", {"odd.zzz": "odd"})
        self.assertIn("There is no archive", self.said("add", str(odd.with_name("gone.zip")), code=2))
        asked = self.said("add", str(odd), code=3)
        self.assertRegex(asked, rf"answer +usufruct add {odd} --to ")

    def test_what_was_there_stays(self) -> None:
        other = self.entry.with_name("weftline.desktop")
        other.parent.mkdir(parents=True)
        other.write_text("[Desktop Entry]\n")
        self.said("on")
        self.said("off")
        self.assertEqual([path for path in self.home.rglob("*") if path.is_file()], [other])

    def test_a_file_of_that_name_that_somebody_else_wrote_is_refused_before_anything_is_written(self) -> None:
        self.service.parent.mkdir(parents=True)
        self.service.write_text("mine")
        self.assertIn("Nothing was changed", self.said("on", code=5))
        self.assertEqual((self.service.read_text(), self.entry.exists()), ("mine", False))

    def test_what_was_changed_since_is_left_and_told(self) -> None:
        self.said("on")
        self.service.write_text(self.service.read_text() + "# slower, please\n")
        self.assertIn("it is not what Usufruct wrote", " ".join(self.said("on", code=5).split()))
        self.assertIn("left, for it was changed", self.said("off", code=1))
        self.assertEqual([path for path in self.home.rglob("*") if not path.is_dir()], [self.service])

    def test_the_entry_calls_the_program_by_its_whole_path_however_that_is_written(self) -> None:
        odd = self.world.folder / 'bin $A "q" 50%\\x'
        odd.mkdir()
        program = odd / "usufruct"
        program.write_text("#!/bin/sh\n")
        program.chmod(stat.S_IRWXU)
        with mock.patch.dict(os.environ, {"PATH": str(odd)}):
            self.assertEqual(desktop._program(), [str(program)])
            entry = configparser.RawConfigParser()
            entry.read_string(desktop._entry())
        line = entry["Desktop Entry"]["exec"]
        # As a reader of entries does: the escapes of a text first, then the quoting of Exec, then its fields.
        text = line.replace("\\\\", "\\")
        word, rest = text[1:].rsplit('"', 1)
        self.assertEqual(rest, " desktop add %F")
        word = re.sub(r"\\([\"`$\\])", r"\1", word)
        self.assertEqual(word.replace("%%", "%"), str(program))

    def test_a_notification_says_what_to_type_and_its_marks_are_no_marks(self) -> None:
        told = self.world.folder / "told"
        sender = self.world.folder / "notify-send"
        sender.write_text(f'#!/bin/sh\nprintf "%s\\n" "$@" > "{told}"\n')
        sender.chmod(stat.S_IRWXU)
        one = mock.Mock(spec=Waiting, path="/d/moon & <b>.zip", state=NEW)
        with mock.patch.dict(os.environ, {"PATH": f"{sender.parent}:/bin:/usr/bin"}):
            watching._notify(one)
        *_, title, words = told.read_text().splitlines()
        self.assertEqual(title, "moon & <b>.zip")
        self.assertEqual(words, "usufruct add '/d/moon &amp; &lt;b&gt;.zip'")

    def test_what_nothing_can_open_is_said_and_it_is_placed_all_the_same(self) -> None:
        pack = self.world.archive("moons.zip", {"Gels/moon.gel": "pale"})
        words = ("add", "--to", str(self.home), "--open", str(pack))
        with mock.patch.dict(os.environ, {"PATH": str(self.world.folder)}):
            done = run_program(*words, home=self.world.folder / "state")
        self.assertIn("Nothing here could open", done.stderr)
        self.assertEqual((done.returncode, [path.name for path in self.home.rglob("*.gel")]), (0, ["moon.gel"]))

    def test_notify_is_for_watch(self) -> None:
        self.assertIn("--watch", run_program("downloads", "--notify", home=self.world.folder / "state").stderr)


class OtherSystemsTest(WorldTest):
    def test_they_are_told_in_words_and_nothing_is_written(self) -> None:
        other = replace(self.world.context, platform=Platform(has_open_desktop=False))
        with self.assertRaisesRegex(MachineError, "no open standard"):
            desktop.turn_on(other)
        self.assertFalse(Path(self.world.context.paths.data / "desktop.json").exists())
