"""Files that can run: by their names, their modes and their content; and places where files are run by themselves."""

import gzip
import io
import os
import tarfile
import unittest
import zipfile
from pathlib import Path
from unittest import mock

from msgspec.structs import replace

from tests.support import WorldTest, tar_bytes, zip_bytes
from usufruct.errors import DecisionNeeded
from usufruct.model.applications import Arrange, Folder, Programs
from usufruct.planning.junk import begins_program, can_run
from usufruct.planning.self_starting import self_starting_names, starts_by_itself

ELF = b"\x7fELF" + bytes(200)
CONTENT = {
    "Gels/elf.gel": ELF,
    "Gels/script.gel": b"#!/bin/sh\nrm -rf ~\n",
    "Gels/mach.gel": bytes.fromhex("cffaedfe") + bytes(60),
    "Gels/windows.gel": b"MZ\x90\0" + bytes(200),
}
INNOCENT = {"Gels/moon.gel": "moon", "Gels/heading.gel": "#! not a script", "Gels/MZ.gel": "MZ is a name"}


class ProgramsTest(WorldTest):
    def put(self, name: str, content: bytes) -> Path:
        path = self.world.folder / "downloads" / name
        path.write_bytes(content)
        return path

    def test_by_name(self) -> None:
        for name in ("x.so.1", "x.so.1.2.3", "a.service", "a.TIMER", "a.pyw", "a.jse", "a.xll", "a.msc", "a.exe"):
            self.assertTrue(can_run(name, is_marked=False), name)
        for name in ("moon.gel", "x.1", "notes.so.txt", "a.png"):
            self.assertFalse(can_run(name, is_marked=False), name)

    def test_by_mode_where_the_type_is_no_everyday_one(self) -> None:
        self.assertTrue(can_run("rescan", is_marked=True))
        self.assertTrue(can_run("rescan.v2", is_marked=True))
        self.assertFalse(can_run("moon.png", is_marked=True))

    def test_the_mark_of_one_entry_counts_for_no_other(self) -> None:
        path = self.put("owl.zip", zip_bytes({"Owl/rig.toml": "rig", "Owl/wing": "w"}))
        with zipfile.ZipFile(path, "a") as archive:
            marked = zipfile.ZipInfo("Owl/rescan")
            marked.create_system, marked.external_attr = 3, 0o100755 << 16
            archive.writestr(marked, "rescan")
        error = self.world.add(path).error
        assert isinstance(error, DecisionNeeded)
        self.assertIn("Owl/rescan is a program file", error.message)

    def test_by_content_before_anything_is_placed(self) -> None:
        for kind, made in (("zip", zip_bytes), ("tar", tar_bytes)):
            for name, content in CONTENT.items():
                with self.subTest(kind, name=name):
                    archive = self.put(f"pack.{kind}", made({**INNOCENT, name: content}))
                    added = self.world.add(archive)
                    self.assertEqual(added.state, "refused")
                    assert isinstance(added.error, DecisionNeeded)
                    self.assertIn(f"{name} is a program file", added.error.message)
                    self.assertEqual(self.world.contents(), {})

    def test_a_marker_file_is_never_left_out_and_a_description_that_starts_nothing_is_no_program(self) -> None:
        """A theme lost its `metadata.desktop`, which marks it, and was placed without it."""
        theme = Folder(name="themes", path="Themes", arrange=Arrange.PIECES, mark=("metadata.desktop",))
        application = replace(self.world.applications[0], folders=(theme,), programs=Programs.REFUSE)
        idle, active = "[Desktop Entry]\nName=Moon\n", "[Desktop Entry]\nExec=moon\n"
        files = {"metadata.desktop": active, "parts/idle.desktop": idle, "parts/active.desktop": active, "run.sh": "#!"}
        archive = self.put("moon.zip", zip_bytes({f"moon/{name}": content for name, content in files.items()}))
        self.world.applications = (application,)
        added = self.world.add(archive)
        self.assertEqual(added.state, "added", added.error)
        self.assertEqual(
            set(self.world.contents()), {f"Themes/moon/{name}" for name in ("metadata.desktop", "parts/idle.desktop")}
        )

    def test_refused_they_are_left_out_and_allowed_they_come(self) -> None:
        archive = self.put("pack.zip", zip_bytes({**INNOCENT, "Gels/elf.gel": ELF}))
        self.assertEqual(self.world.add(archive, programs=Programs.REFUSE).state, "added")
        self.assertEqual(set(self.world.contents()), set(INNOCENT))
        self.world.remove("pack")
        self.assertEqual(self.world.add(archive, programs=Programs.ALLOW).state, "added")
        self.assertEqual(len(self.world.contents()), 4)

    def test_what_was_too_much_to_look_at_is_found_as_it_is_placed(self) -> None:
        # Packed as a whole and large, so that it is unpacked only once it is added.
        buffer = io.BytesIO()
        with tarfile.open(fileobj=buffer, mode="w:xz") as tar:
            for name, content in (("Gels/large.gel", bytes(65 << 20)), ("Gels/elf.gel", ELF)):
                info = tarfile.TarInfo(name)
                info.size = len(content)
                tar.addfile(info, io.BytesIO(content))
        archive = self.put("pack.tar.xz", buffer.getvalue())
        before = self.world.tree()
        added = self.world.add(archive)
        self.assertEqual(added.state, "refused")
        self.assertIn("Gels/elf.gel is a program file", str(added.error))
        self.assertEqual(self.world.tree(), before)
        self.assertEqual(self.world.add(archive, programs=Programs.REFUSE).state, "added")
        self.assertEqual(set(self.world.contents()), {"Gels/large.gel"})

    def test_a_program_behind_a_first_stream_of_two_bytes_is_seen(self) -> None:
        """Only the first block that came was looked at, and a packer may make that as short as it likes."""
        content = b"\x7fELF" + bytes(200)
        packed = gzip.compress(content[:2]) + gzip.compress(content[2:])
        path = self.world.folder / "downloads" / "moon.gel.gz"
        path.write_bytes(packed)
        self.assertIn("program file", str(self.world.add(path).error))
        self.assertEqual(self.world.contents(), {})

    def test_only_what_begins_like_a_program_is_one(self) -> None:
        self.assertTrue(begins_program(b"#! /usr/bin/env python3"))
        for head in (b"#!", b"#! heading", b"MZ", b"MZ" + b"text " * 40, b"", b"PK\x03\x04"):
            self.assertFalse(begins_program(head), head)


class SelfStartingTest(WorldTest):
    def test_places_that_systems_logins_and_shells_read_by_themselves(self) -> None:
        for path in (
            "/home/ada/.ssh", "/home/ada/.config/autostart", "/home/ada/.config/systemd/user", "/etc/cron.d",
            "/Users/ada/Library/LaunchAgents", "/home/ada/x/.git/hooks", "/home/ada/.config/fish/conf.d",
            "/home/ada/.config/sway/config.d", "/home/ada/.local/lib/python3.11/site-packages/x", "/usr/local/bin",
            "C:/Users/ada/AppData/Roaming/Microsoft/Windows/Start Menu/Programs/Startup",
            "C:\\Windows\\System32\\drivers",
        ):  # fmt: skip
            self.assertTrue(starts_by_itself(path), path)
        for path in (
            "/home/ada/etc", "/home/ada/Lanternbox/Gels", "/home/ada/.config", "/home/ada/.local/share/fonts",
            "/home/ada/.config/fish/themes", "/home/ada/usr/bin/x", "/home/ada/tools",
        ):  # fmt: skip
            self.assertFalse(starts_by_itself(path), path)
        self.assertTrue(starts_by_itself("/home/ada/tools", {"/home/ada/tools"}))
        names = [
            ".bashrc",
            "bashrc",
            ".Profile",
            "a.gel",
            "usercustomize.py",
            ".tmux.conf",
            ".lessfilter",
            "config.fish",
        ]
        self.assertEqual(set(names) - set(self_starting_names(names)), {"bashrc", "a.gel"})

    def test_what_the_path_names_is_such_a_place_too(self) -> None:
        tools = self.world.folder / "tools"
        tools.mkdir()
        archive = self.world.archive("tools.zip", {"ls": "evil"})
        with mock.patch.dict(os.environ, {"PATH": f"{tools}{os.pathsep}relative"}):
            self.assertIn("tools/ls is for a folder", str(self.world.add(archive, to=str(tools)).error))
        self.assertEqual(self.world.add(archive, to=str(tools)).state, "added")

    def test_it_is_a_question_also_without_an_application(self) -> None:
        home = self.world.folder / "home"
        (home / ".ssh").mkdir(parents=True)
        archive = self.world.archive("keys.zip", {"authorized_keys": "evil"})
        added = self.world.add(archive, to=str(home / ".ssh"))
        assert isinstance(added.error, DecisionNeeded)
        self.assertIn(".ssh/authorized_keys is for a folder whose files", added.error.message)
        answers = [option.answer for decision in added.examined.decisions for option in decision.options]
        self.assertEqual(answers, [("--autostart", "allow")])
        self.assertEqual(os.listdir(home / ".ssh"), [])
        shell = self.world.archive("shell.zip", {"x/.bashrc": "evil", "x/a.txt": "a"})
        self.assertIn(".bashrc is for a folder", str(self.world.add(shell, to=str(home)).error))
        self.assertEqual(self.world.add(shell, to=str(home), autostart=True).state, "added")


if __name__ == "__main__":
    unittest.main()
