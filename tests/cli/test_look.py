"""`look` beyond the plan: facts, one entry, everything read through, passwords and names from the command line."""

import os
import re
import time
import unittest
from pathlib import Path

from tests.archives.zip_writer import Item, zip_of
from tests.cli.case import ProgramCase
from tests.support import run_program, zip_bytes


class LookTest(ProgramCase):
    has_definitions = False
    where = None  # only file systems on disks keep where a file came from

    def put(self, name: str, content: bytes) -> None:
        (self.folder / name).write_bytes(content)
        os.utime(self.folder / name, (1e9, 1e9))

    def test_the_facts_of_a_download(self) -> None:
        items = [Item(b"run.exe", b"MZ", "moth", 32), Item("\u202egpj.gel".encode(), b"x", flags=0x800)]
        self.put("pack.rar", b"MZ" + bytes(99) + zip_of(items, comment=b"for the play\n")[0])
        said = " ".join(self.run_words("look", "--to", "x", "pack.rar", code=3).stdout.split())
        for words in (
            "zip · 2 entries", "packed not compressed", "with AES-256, 1 file", "called rar, but it is zip",
            "self-extracting", "for the play", "1 program file: run.exe",
            r"1 name that shows as another: \u202egpj",
        ):  # fmt: skip
            self.assertIn(words, said)
        (found,) = self.document("look", "--to", "x", "pack.rar", code=3)["archives"]
        self.assertEqual(found["facts"]["locks"], ["AES-256"])
        self.assertEqual(found["facts"]["careful"]["programs"], ["run.exe"])
        self.assertIn("locked with a password", found["decision"]["question"])

    def test_the_origin_is_told_where_the_file_system_recorded_it(self) -> None:
        self.put("moon.zip", zip_bytes({"moon.gel": "moon"}))
        try:
            os.setxattr(self.folder / "moon.zip", "user.xdg.origin.url", b"https://moon.example/\x1b[31mmoon.zip")
        except (AttributeError, OSError):
            self.skipTest("this file system keeps no extended attributes")
        said = self.run_words("look", "--to", "x", "moon.zip").stdout
        self.assertIn(r"https://moon.example/\x1b[31mmoon.zip", said)
        self.run_words("add", "--to", "x", "moon.zip")
        self.assertIn("downloaded from https://moon.example", self.run_words("show", "moon").stdout)

    def test_one_entry_is_printed_safely(self) -> None:
        inner = zip_bytes({"deep/note.txt": "inside"})
        files = {"a/readme.txt": "h\u00e9llo\x1b[31m\n", "b/readme.txt": "two", "inner.zip": inner, "x.bin": "\0\1"}
        self.put("pack.zip", zip_bytes({**files, "old.txt": "Ночь над гаванью, тихо\n".encode("cp866") * 4}))
        self.assertEqual(self.run_words("look", "pack.zip", "--read", "A/ReadMe.txt").stdout, "h\u00e9llo\\x1b[31m\n")
        self.assertIn("Ночь над гаванью", self.run_words("look", "pack.zip", "--read", "old.txt").stdout)
        self.assertEqual(self.run_words("look", "pack.zip", "--read", "inner.zip/deep/note.txt").stdout, "inside\n")
        document = self.document("look", "pack.zip", "--read", "b/readme.txt")
        self.assertEqual((document["entry"], document["text"], document["cut"]), ("b/readme.txt", "two", False))
        for entry, said in (("readme.txt", "2 files"), ("none", "has no file"), ("x.bin", "is not a text")):
            self.assertIn(said, self.run_words("look", "pack.zip", "--read", entry, code=2).stderr)

    def test_every_entry_is_listed_and_a_copy_of_one_is_opened_but_nothing_that_can_run(self) -> None:
        self.put(
            "pack.zip",
            zip_bytes(
                {
                    "x/page 1.png": "picture",
                    "x/tool.exe": "MZ",
                    "x/odd": b"\x7fELF" + bytes(99),
                    "x/page.html": "<script>",
                    "x/rig.py": "run()",
                    "x/way.jnlp": "<jnlp/>",
                }
            ),
        )
        listed = self.run_words("look", "pack.zip", "--content", "--to", "shelf").stdout
        self.assertRegex(listed, r"2024-\d\d-\d\d \d\d:\d\d +7 B  x/page 1\.png")
        content = self.document("look", "pack.zip", "--content", code=3)
        entries = {one["entry"]: one["bytes"] for one in content["archives"][0]["content"]}
        self.assertEqual(len(entries), 6)
        self.assertEqual(entries["x/odd"], 103)
        opener = self.world.folder / "bin/xdg-open"
        opener.parent.mkdir()
        opener.write_text(f'#!/bin/sh\ncat "$1" > "{self.world.folder}/opened"\n')
        opener.chmod(0o755)
        environment = {"PATH": f"{opener.parent}:{os.environ['PATH']}"}
        done = run_program("look", "pack.zip", "--view", "page 1.png", home=self.home, cwd=self.folder, **environment)
        self.assertEqual(done.returncode, 0, done.stderr)
        opened = self.world.folder / "opened"
        for _ in range(100):  # the desktop's program is not waited for
            if opened.exists() and opened.read_text():
                break
            time.sleep(0.1)
        self.assertEqual(opened.read_text(), "picture")
        copy = Path(done.stdout.strip().rpartition(": ")[2])
        self.assertEqual((copy.name, copy.stat().st_mode & 0o111), ("page 1.png", 0))
        os.utime(copy.parent, (0, 0))
        opened.unlink()
        # What a browser or a language would run is only shown, and copies of yesterday are gone.
        for entry in ("page.html", "rig.py"):
            said = run_program("look", "pack.zip", "--view", entry, home=self.home, cwd=self.folder, **environment)
            self.assertIn("It is not opened", said.stdout)
        self.assertEqual((copy.exists(), len(list(copy.parent.parent.iterdir()))), (False, 2))
        for entry in ("tool.exe", "odd", "way.jnlp"):
            self.assertIn("program file", self.run_words("look", "pack.zip", "--view", entry, code=2).stderr)
        self.assertFalse(opened.exists())

    def test_it_ends_as_add_would_where_the_packing_is_not_known(self) -> None:
        """It ended with 0, and only `add` said that one entry cannot be unpacked."""
        content = bytearray(zip_bytes({"moon.gel": "moon", "sun.gel": "sun", "read me.txt": "read"}))
        for mark, at in ((b"PK\x03\x04", 8), (b"PK\x01\x02", 10)):
            entry = content.index(mark)
            content[entry + at] = 6
        (self.folder / "old.zip").write_bytes(content)
        to = ("--to", str(self.world.folder / "to"))
        for words in (("look", *to), ("look", "--verify"), ("add", "--dry-run", *to), ("add", *to)):
            done = run_program(*words, "old.zip", home=self.home, cwd=self.folder)
            self.assertEqual(done.returncode, 4, words)
            said = " ".join((done.stdout + done.stderr).split())
            self.assertIn("moon.gel in old.zip is packed with implode, which", said)
        self.run_words("look", *to, "old.zip", "--skip", "moon.*")

    def test_reading_it_all_through_places_nothing(self) -> None:
        content = zip_bytes({"a.gel": "a" * 500, "b.gel": "b"}, compression=0)
        self.put("good.zip", content)
        self.put("bad.zip", content.replace(b"aaaa", b"abaa", 1))
        self.put("plain.tar", bytes(10240))
        done = self.run_words("look", "--verify", "good.zip", "bad.zip", "plain.tar", code=1)
        said = done.stdout + done.stderr
        self.assertIn("fine  good.zip  2 files, 501 B read, every checksum holds", said)
        self.assertIn("a.gel in bad.zip (at byte 0) does not match its checksum", said)
        self.assertIn("no checksums", said)
        document = self.document("look", "--verify", "bad.zip", code=4)
        self.assertEqual(document["archives"][0]["error"]["code"], "damaged")

    def test_an_archive_with_an_unsafe_entry_is_not_fine(self) -> None:
        """It was called fine, with exit code 0, since all that was read held its checksums."""
        self.put("sly.zip", zip_bytes({"../up.gel": "x", "a.gel": "a"}))
        done = self.run_words("look", "--verify", "sly.zip", code=4)
        self.assertIn("bad   sly.zip  1 file, 1 B read", done.stdout)
        self.assertIn("sly.zip has an unsafe entry, ../up.gel", done.stderr)
        document = self.document("look", "--verify", "sly.zip", code=4)["archives"][0]
        self.assertEqual((document["unsafe"], document["error"]["code"]), (1, "unsafe"))

    def test_passwords_come_from_a_file_or_from_those_kept(self) -> None:
        self.put("locked.zip", zip_of([Item(b"moon.gel", b"moon", "moth", 32)])[0])
        self.run_words("add", "--to", "out", "locked.zip", code=3)
        (self.folder / "words").write_text("wasp\n")
        self.run_words("add", "--to", "out", "locked.zip", "--password-file", "words", code=4)
        self.run_words("add", "--to", "out", "locked.zip", "--password-file", "none", code=5)
        self.assertFalse((self.folder / "out").exists())
        kept = self.home / "passwords"
        kept.write_text("bee\nmoth\n")
        kept.chmod(0o644)
        self.run_words("add", "--to", "out", "locked.zip")
        self.assertEqual((self.folder / "out/moon.gel").read_text(), "moon")
        if os.name == "posix":
            self.assertEqual(kept.stat().st_mode & 0o777, 0o600)

    def test_what_is_replaced_is_counted_where_not_every_file_is_drawn(self) -> None:
        many = {f"birds/{part}/{n:03}.gel": b"new" for part in range(9) for n in range(40)}
        self.put("many.zip", zip_bytes(many))
        self.put("few.zip", zip_bytes({name: body for name, body in many.items() if name.startswith("birds/3/")}))
        for name in list(many)[130:]:
            path = self.folder / "x" / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(b"mine")
        for archive, words in (
            ("few.zip", "30 more files +90 B +20 replace what is there"),
            ("many.zip", "4 +40 files +120 B +40 replace what is there"),
        ):
            self.assertRegex(self.run_words("look", "--to", "x", archive).stdout, words)

    def test_names_that_may_be_read_in_two_ways_are_asked_about(self) -> None:
        """They were guessed, and a wrong guess was placed without a word."""
        self.put("old.zip", zip_of([Item(b"Engali\x85.gel", b"x")])[0])
        to = ("--to", str(self.world.folder / "to"))
        environment = {"LC_CTYPE": "C", "LC_ALL": ""}
        done = run_program("add", *to, "old.zip", home=self.home, cwd=self.folder, **environment)
        self.assertEqual(done.returncode, 3, done.stdout + done.stderr)
        self.assertIn("Engalià.gel", done.stderr)
        options = re.findall(r"--names (cp\d+)", done.stderr)
        self.assertEqual(len(set(options)), 2)
        self.run_words("add", *to, "old.zip", "--names", options[0])
        self.assertEqual([path.name for path in (self.world.folder / "to").iterdir()], ["Engalià.gel"])

    def test_names_are_read_as_the_user_says(self) -> None:
        self.put("old.zip", zip_of([Item("Läufer.gel".encode("cp850"), b"x")])[0])
        self.run_words("add", "--to", "out", "old.zip", "--names", "cp850")
        self.assertTrue((self.folder / "out/Läufer.gel").exists())
        self.assertIn("is no encoding", self.run_words("look", "old.zip", "--names", "klingon", code=2).stderr)

    def test_the_version_says_what_can_be_read(self) -> None:
        said = self.run_words("--version").stdout
        self.assertIn("reads zip, 7z, rar, tar", said)
        self.assertRegex(said, "libarchive")


if __name__ == "__main__":
    unittest.main()
