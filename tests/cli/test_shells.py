"""Completion in real shells: whatever signs are in a name, it goes in as one word and runs nothing."""

import os
import pty
import select
import shutil
import time
import unittest
from pathlib import Path

from tests.support import WorldTest, program, run_program, zip_bytes

EVIL = "evil $(touch pwned)`touch pwned`;touch pwned & 'x' \"y\" \\ #!*?{a,b}~ <in >out (z).zip"
MARK = "the word is: "


@unittest.skipUnless(hasattr(os, "fork") and os.name == "posix", "needs a pseudo-terminal")
class ShellsTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.home = self.world.paths.data
        self.world.context_with_definitions()
        self.work = self.world.folder / "work"
        self.work.mkdir()
        (self.work / EVIL).write_bytes(zip_bytes({"gels/moon.gel": "m"}))

    def typed(self, words: list[str], start: str, line: str) -> str:
        """What a shell shows once `start` was typed, and then `line` with its Tab, and the words of it are printed."""
        pid, terminal = pty.fork()
        if not pid:
            os.chdir(self.work)
            environment = {
                **os.environ, "USUFRUCT_HOME": str(self.home), "HOME": str(self.work), "TERM": "dumb", "PS1": "> ",
                "PATH": f"{Path(program()[0]).parent}:{os.environ['PATH']}", "LC_ALL": "C.UTF-8", "HISTFILE": "",
            }  # fmt: skip
            os.execvpe(words[0], words, environment)
        try:
            self._read(terminal, " ")  # some prompt
            os.write(terminal, f"{start}; echo rea''dy\n".encode())
            self._read(terminal, "ready")
            os.write(terminal, line.encode())
            self._read(terminal, ".zip")
            # To the beginning of the line: what was completed is printed instead of being carried out.
            os.write(terminal, b"\x01printf 'the word %s: %s#end\\n' is \x05\n")
            return self._read(terminal, "#end")
        finally:
            os.close(terminal)
            os.kill(pid, 9)
            os.waitpid(pid, 0)

    def _read(self, terminal: int, until: str) -> str:
        seen = ""
        end = time.monotonic() + 20
        while time.monotonic() < end:
            if select.select([terminal], [], [], 0.2)[0]:
                seen += os.read(terminal, 65536).decode(errors="replace")
            elif until in seen:
                return seen
        raise AssertionError(f"{until!r} did not come: {seen!r}")

    def script(self, shell: str) -> Path:
        file = self.world.folder / f"script.{shell}"
        file.write_text(run_program("completion", shell, home=self.home).stdout)
        return file

    def complete(self, words: list[str], shell: str, quote: str = "") -> None:
        start = {
            "bash": f"source {self.script('bash')}",
            "zsh": f"autoload -Uz compinit; compinit -u -D; source {self.script('zsh')}; bindkey -e",
            "fish": f"source {self.script('fish')}",
        }[shell]
        shown = self.typed(words, start, f"usufruct look {quote}evil\t").replace("\r\n", "\n")
        self.assertFalse((self.work / "pwned").exists(), shown)
        self.assertIn(EVIL, "".join(shown.splitlines()), shown)

    @unittest.skipUnless(shutil.which("bash"), "bash is not here")
    def test_bash(self) -> None:
        for quote in ("", '"', "'"):
            with self.subTest(quote=quote):
                self.complete(["bash", "--norc", "--noprofile", "-i"], "bash", quote)

    @unittest.skipUnless(shutil.which("zsh"), "zsh is not here")
    def test_zsh(self) -> None:
        self.complete(["zsh", "-f", "-i"], "zsh")

    @unittest.skipUnless(shutil.which("fish"), "fish is not here")
    def test_fish(self) -> None:
        self.complete(["fish", "--no-config", "-i"], "fish")


class PowerShellTest(WorldTest):
    """That shell is not at hand: what its script asks with, and what it is answered."""

    def answered(self, *words: str, start: str = "") -> list[list[str]]:
        asked = {"_USUFRUCT_COMPLETE": "powershell_complete", "COMP_WORDS": "\n".join(words), "COMP_CWORD": start}
        done = run_program(home=self.world.paths.data, cwd=self.world.folder / "downloads", **asked)
        self.assertEqual(done.stderr, "")
        return [line.replace("\t", ",").split(",") for line in done.stdout.splitlines()]

    def test_commands_are_offered_with_what_they_do(self) -> None:
        found = self.answered(start="lo")
        self.assertEqual(found, [["plain", "look", "Show what an archive is and where its files would go."]])

    def test_a_word_in_quotes_is_completed_as_it_is_meant(self) -> None:
        self.world.archive("moon and sun.zip", {"gels/moon.gel": "m"})
        names = [name for _, name, _ in self.answered("add", start="'moon and")]
        self.assertEqual(names, ["moon and sun.zip"])
        inside = self.answered("add", "moon and sun.zip", "--only")
        self.assertEqual([name for _, name, _ in inside], ["gels/moon.gel"])

    def test_the_script_calls_the_program_by_the_variable_it_answers_to(self) -> None:
        script = run_program("completion", "powershell", home=self.world.paths.data).stdout
        self.assertIn('$env:_USUFRUCT_COMPLETE = "powershell_complete"', script)
        self.assertIn("-CommandName usufruct ", script)
        self.assertNotIn("%(", script)


if __name__ == "__main__":
    unittest.main()
