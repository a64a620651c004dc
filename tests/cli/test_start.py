"""What a command imports: each call pays for it before anything happens, and a Tab most of all."""

import os
import subprocess
import sys
import unittest

from tests.support import WorldTest, zip_bytes

_RUN = """
import sys
from usufruct.cli.main import run
try:
    run(sys.argv[1:])
finally:
    sys.stderr.write("\\nmodules " + " ".join(sys.modules))
"""
HEAVY = frozenset(
    "asyncio dataclasses email filelock http isal libarchive logging multiprocessing packaging prompt_toolkit py7zr "
    "questionary send2trash tarfile tomlkit watchdog xml zipfile".split()
)
"""What costs as much as all of a small command; each may be imported where it is needed and nowhere else."""


class StartTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.context_with_definitions()
        self.world.add_files("Dusk.zip", {"gels/moon.gel": "m"})
        (self.world.folder / "downloads" / "Dawn.zip").write_bytes(zip_bytes({"gels/sun.gel": "s"}))

    def imported(self, *words: str, tab: bool = False) -> tuple[int, set[str]]:
        """How many of our own modules a command line needs, and which of the heavy ones."""
        line = {"COMP_WORDS": "usufruct " + " ".join(words), "COMP_CWORD": str(len(words))}
        asked = {"_USUFRUCT_COMPLETE": "bash_complete", **line} if tab else {}
        done = subprocess.run(
            [sys.executable, "-c", _RUN, *(() if tab else words)],
            cwd=self.world.folder / "downloads",
            env={**os.environ, "USUFRUCT_HOME": str(self.world.paths.data), **asked},
            capture_output=True,
            text=True,
            check=False,
        )
        said, _, modules = done.stderr.rpartition("\nmodules ")
        self.assertEqual(said.strip(), "")
        names = set(modules.split())
        if "_colorize" in names:
            # From Python 3.14 on its logging brings them.
            names.discard("dataclasses")
        return sum(name.partition(".")[0] == "usufruct" for name in names), HEAVY & names

    def test_a_tab_imports_what_it_offers_and_not_what_the_command_would_do(self) -> None:
        for words, most in (("re",), 14), (("remove", "D"), 42), (("show", "D"), 42), (("add", "Da"), 60):
            with self.subTest(words=words):
                ours, heavy = self.imported(*words, tab=True)
                self.assertLessEqual(ours, most)
                self.assertEqual(heavy, set())

    def test_a_command_imports_what_it_needs(self) -> None:
        for words, most, may in (
            (("--help",), 14, ""),
            (("list",), 53, ""),
            (("whose", "Dusk.zip"), 38, ""),
            (("history",), 39, ""),
            (("show", "Dusk"), 50, ""),
            (("check",), 58, ""),
            (("downloads",), 106, "logging"),
            (("look", "Dawn.zip"), 142, "isal logging"),
            (("add", "Dawn.zip"), 183, "dataclasses filelock isal logging"),
            (("remove", "Dusk"), 101, "dataclasses filelock logging"),
        ):
            with self.subTest(words=words):
                ours, heavy = self.imported(*words)
                self.assertLessEqual(ours, most)
                self.assertLessEqual(heavy, set(may.split()))


if __name__ == "__main__":
    unittest.main()
