"""Output never fails: encodings without our signs, names of every script, colours as the environment says, quiet."""

import json
import os
import shutil
import subprocess
import unittest

from wcwidth import wcwidth

from tests.cli.terminal import Terminal
from tests.support import WorldTest, program, run_program, zip_bytes
from usufruct.cli.cells import cells, cut, escaped, left, lines_of, right, spelled

NAMES = ("Grüße aus Łódź.gel", "幽霊の提灯.gel", "луна.gel", "mo\u0301on 🌙.gel", "“quoted”–dash.gel")
ENCODINGS = ("utf-8", "cp1252", "cp437", "cp850", "latin-1", "ascii", "cp932")


class CellsTest(unittest.TestCase):
    def test_signs_of_the_far_east_take_two_cells_and_marks_none(self) -> None:
        for text, count in (("", 0), ("owl", 3), ("é", 1), ("e\u0301", 1), ("幽霊", 4), ("🌙", 2)):
            self.assertEqual(cells(text), count, text)

    def test_signs_of_one_cell_need_no_tables_and_are_as_these_say(self) -> None:
        for number in range(0xA0, 0x3000):
            self.assertEqual(cells(chr(number)), max(0, wcwidth(chr(number))), hex(number))

    def test_a_text_is_cut_to_cells_and_never_within_a_sign_and_its_mark(self) -> None:
        for text, room, expected in (
            ("owls", 4, "owls"), ("owlets", 4, "owl…"), ("幽霊の提灯", 6, "幽霊…"), ("幽霊の提灯", 5, "幽霊…"),
            ("幽霊", 4, "幽霊"), ("ae\u0301iou", 3, "ae\u0301…"), ("owl", 0, "…"),
        ):  # fmt: skip
            self.assertEqual(cut(text, room), expected, (text, room))
            self.assertLessEqual(cells(cut(text, room)), max(room, 1))

    def test_filling_counts_cells(self) -> None:
        self.assertEqual((left("幽霊", 6), right("幽霊", 6), left("owl", 2)), ("幽霊  ", "  幽霊", "owl"))

    def test_lines_are_broken_by_cells(self) -> None:
        text = "a lantern of ghosts 幽霊の提灯 and 月の光がとても明るい夜に歩く and the end"
        for room in (10, 17, 40):
            lines = lines_of(text, room)
            self.assertTrue(all(cells(line) <= room for line in lines), lines)
            self.assertEqual("".join(lines).replace(" ", ""), text.replace(" ", ""))
        self.assertEqual(lines_of("", 10), [])

    def test_what_an_encoding_cannot_spell_is_written_otherwise(self) -> None:
        for text, encoding, expected in (
            ("owl … →", "ascii", "owl ... ->"), ("Grüße", "ascii", "Grusse"), ("Łódź", "cp1252", "Lódz"),
            ("└─ “x”", "cp1252", "`- “x”"), ("└─ x", "cp437", "└─ x"), ("幽霊", "cp1252", "??"),
            ("幽霊", "cp932", "幽霊"), ("e\u0301", "ascii", "e"), ("x", "no-such-encoding", "x"),
            ("é", "no-such-encoding", "e"),
        ):  # fmt: skip
            self.assertEqual(spelled(text, encoding), expected, (text, encoding))

    def test_json_says_the_same_in_every_encoding(self) -> None:
        text = json.dumps(dict.fromkeys(NAMES, "🌙"), ensure_ascii=False)
        for encoding in ENCODINGS:
            self.assertEqual(json.loads(escaped(text, encoding).encode(encoding)), json.loads(text))


class OutputTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.folder = self.world.folder / "downloads"
        self.home = self.world.folder / "state"
        self.target = self.world.folder / "target"
        (self.folder / "Łowy 幽霊.zip").write_bytes(zip_bytes({f"夜/{name}": b"x" for name in NAMES}))

    def said(self, *words: str, code: int = 0, **environment: str) -> bytes:
        done = subprocess.run(
            [*program(), *words],
            capture_output=True,
            cwd=self.folder,
            env={**os.environ, "USUFRUCT_HOME": str(self.home), "COLUMNS": "100", **environment},
            check=False,
            stdin=subprocess.DEVNULL,
        )
        self.assertEqual(done.returncode, code, done.stdout + done.stderr)
        self.assertNotIn(b"fault of its own", done.stdout + done.stderr)
        return done.stdout

    def test_every_command_ends_as_it_should_in_every_encoding(self) -> None:
        to = ("--to", str(self.target))
        whole = json.loads(self.said("look", "--json", *to, "Łowy 幽霊.zip"))
        for encoding in ("utf-8", "cp437", "ascii"):
            with self.subTest(encoding):
                spelled_in = {"PYTHONIOENCODING": encoding, "PYTHONUTF8": "0"}
                text = self.said("look", *to, "Łowy 幽霊.zip", **spelled_in).decode(encoding)
                self.assertIn("owy", text)
                self.assertIn("└─" if encoding in ("utf-8",) else "-", text)
                document = json.loads(self.said("look", "--json", *to, "Łowy 幽霊.zip", **spelled_in))
                self.assertEqual(document, whole)
                self.said("add", *to, "--as", "夜", "Łowy 幽霊.zip", **spelled_in)
                self.said("list", **spelled_in)
                self.said("show", "夜", **spelled_in)
                self.said("add", "nicht da …", code=2, **spelled_in)
                self.said("remove", "夜", **spelled_in)

    def test_options_of_all_commands_may_stand_anywhere(self) -> None:
        for words in (("--json", "list"), ("list", "--json"), ("-q", "list", "--json"), ("list", "-q", "--json")):
            self.assertEqual(json.loads(self.said(*words)), {"holdings": [], "elsewhere": []})
        self.assertEqual(self.said("app", "list", "-q"), b"")
        for words in (("-y", "list"), ("list", "--yes")):  # nothing there asks
            self.assertIn(b"Nothing has been added", self.said(*words))
        self.assertIn(b"; ", self.said("app", "list", "--plain"))

    def test_no_summary_of_a_command_is_cut(self) -> None:
        for group in ((), ("app",), ("carry",), ("settings",), ("desktop",)):
            listed = self.said(*group, "--help", COLUMNS="80").decode().partition("Commands:")[2]
            self.assertNotIn("...", listed, group)

    def test_columns_stand_below_one_another_by_cells(self) -> None:
        lines = self.said("look", "--to", str(self.target), "Łowy 幽霊.zip").decode().splitlines()
        sizes = {cells(line[: line.rindex("1 B")]) for line in lines if line.endswith("1 B") and "gel" in line}
        self.assertEqual(len(sizes), 1, lines)

    def test_a_narrow_page_breaks_no_script_and_no_manual(self) -> None:
        """`COLUMNS=40 usufruct completion bash > file` once gave a script with its comments in pieces."""
        for words in (("completion", "bash"), ("completion", "fish"), ("manual",)):
            self.assertEqual(self.said(*words, COLUMNS="40"), self.said(*words))

    def test_colours_as_the_environment_says(self) -> None:
        words = ("look", "--to", str(self.target), "Łowy 幽霊.zip")
        for environment, has in (
            ({}, False),
            ({"FORCE_COLOR": "1"}, True),
            ({"CLICOLOR_FORCE": "1"}, True),
            ({"FORCE_COLOR": "0"}, False),
            ({"FORCE_COLOR": "1", "NO_COLOR": "1"}, False),
        ):
            self.assertEqual(b"\x1b[" in self.said(*words, **environment), has, environment)

    def test_plain_draws_nothing_and_shows_one_thing_a_line(self) -> None:
        to = ("--to", str(self.target))
        for words, environment in ((("--plain",), {}), ((), {"USUFRUCT_OUTPUT": "plain"})):
            said = self.said(*words, "look", *to, "Łowy 幽霊.zip", **environment).decode()
            self.assertFalse(set("└├│─") & set(said))
            self.assertIn("\n  夜/幽霊の提灯.gel, 1 B\n", said)
        self.said("settings", "set", "output", "plain")
        self.said("add", *to, "--as", "moon", "Łowy 幽霊.zip")
        lines = self.said("list", FORCE_COLOR="1").decode().splitlines()
        self.assertRegex(lines[1], "^moon; 5 files; 5 B; ")
        self.assertNotIn("█", self.said("list", "--sizes").decode())
        self.said("settings", "set", "output", "drawn")
        self.assertIn("└─", self.said("show", "moon").decode())
        # Into a pipe a bar once filled a line of 65,536 columns.
        self.assertLess(max(map(len, self.said("list", "--sizes").decode().splitlines())), 130)

    def test_what_is_longer_than_the_screen_goes_to_the_pager(self) -> None:
        pager = self.world.folder / "pager"
        pager.write_text("#!/bin/sh\nsed 's/^/> /'\n", encoding="utf-8")
        pager.chmod(0o755)
        (self.folder / "many.zip").write_bytes(zip_bytes({f"m/{number}.gel": b"x" for number in range(90)}))
        to = ("--to", str(self.target))
        env = {"USUFRUCT_HOME": str(self.home), "PAGER": str(pager)}
        for words, is_paged in (
            (("look", "--full", *to, "many.zip"), True),
            (("look", *to, "Łowy 幽霊.zip"), False),
            (("look", "--full", "--json", *to, "many.zip"), False),
        ):
            with Terminal(*words, cwd=self.folder, env=env) as terminal:
                terminal.ends()
                self.assertEqual("> " in terminal.shown, is_paged, terminal.shown[:300])
        for none in ("cat", " "):
            with Terminal("look", "--full", *to, "many.zip", cwd=self.folder, env={**env, "PAGER": none}) as terminal:
                self.assertEqual(terminal.ends(), 0)
                self.assertIn("89.gel", terminal.shown)

    def test_real_pagers_show_text_and_no_codes(self) -> None:
        (self.folder / "many.zip").write_bytes(zip_bytes({f"m/{number}.gel": b"x" for number in range(90)}))
        env = {"USUFRUCT_HOME": str(self.home), "NO_COLOR": "", "LESS": "", "LESSCHARSET": "utf-8"}
        for pager, has in (("less", True), ("more", False)):
            if not shutil.which(pager):
                continue
            words = ("look", "--full", "--to", str(self.target), "many.zip")
            with self.subTest(pager), Terminal(*words, cwd=self.folder, env={**env, "PAGER": pager}) as terminal:
                # `less`, left as it is, once showed the codes of colours as `ESC[1m`.
                self.assertNotIn("ESC[", terminal.sees("10.gel"))
                self.assertEqual("\x1b[1mmany.zip" in terminal.raw, has)
                terminal.types("q")
                self.assertEqual(terminal.ends(), 0)

    def test_quiet_shows_errors_and_json_only(self) -> None:
        to = ("--to", str(self.target))
        self.assertEqual(self.said("-q", "add", *to, "--as", "moon", "Łowy 幽霊.zip"), b"")
        self.assertEqual(self.said("--quiet", "list"), b"")
        self.assertEqual(len(json.loads(self.said("-q", "list", "--json"))["holdings"]), 1)
        done = run_program("-q", "show", "sun", home=self.home)
        self.assertIn("no holding called sun", done.stderr)


if __name__ == "__main__":
    unittest.main()
