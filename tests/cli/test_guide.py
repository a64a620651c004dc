"""The guide: every command on its pages does, on the sample data, what the page says of it."""

import os
import re
import shlex
import subprocess
import tempfile
import unittest
from pathlib import Path

from tests.support import IN_MEMORY, program
from tests.warm import can_run_warm, run_warm
from usufruct.actions.demonstration import prepare_demo

GUIDE = Path(__file__).parents[2] / "docs" / "guide"
_BLOCK = re.compile(r"^```sh\n(.*?)^```", re.MULTILINE | re.DOTALL)
_SHELL = re.compile(r"[|<>$;&*?~#`]")
"""What a shell makes something else of."""
_ENDS = re.compile(r"\s+# ends with (\d+)$")


def _run(command: str, folder: Path, environment: dict[str, str]) -> "subprocess.CompletedProcess[str]":
    if can_run_warm(()) and command.startswith("usufruct ") and not _SHELL.search(command):
        return run_warm(shlex.split(command)[1:], str(folder), environment)
    return subprocess.run(
        ["sh", "-c", command],
        cwd=folder, env=environment, capture_output=True, text=True, check=False, stdin=subprocess.DEVNULL,
    )  # fmt: skip


class GuideTest(unittest.TestCase):
    def test_every_page_as_it_stands(self) -> None:
        pages = sorted(page for page in GUIDE.glob("*.md") if page.name != "README.md")
        self.assertGreaterEqual(len(pages), 10)
        for page in pages:
            with self.subTest(page=page.name):
                self.run_page(page)

    def run_page(self, page: Path) -> None:
        commands = "".join(_BLOCK.findall(page.read_text(encoding="utf-8"))).splitlines()
        self.assertTrue(any(command.startswith("usufruct ") for command in commands))
        with tempfile.TemporaryDirectory(dir=IN_MEMORY) as name:
            folder = Path(name).resolve()
            prepare_demo(folder)
            environment = {
                **os.environ,
                "HOME": str(folder),
                "USUFRUCT_HOME": str(folder / "usufruct"),
                "PATH": f"{Path(program()[0]).parent}{os.pathsep}{os.environ['PATH']}",
            }
            for command in commands:
                expected = int(found[1]) if (found := _ENDS.search(command)) else 0
                if command.startswith("export "):
                    name, _, value = command.removeprefix("export ").partition("=")
                    environment[name] = value.strip('"').replace("$PWD", str(folder))
                    continue
                done = _run(command.removesuffix(found[0] if found else ""), folder, environment)
                self.assertEqual(done.returncode, expected, f"{command}\n{done.stdout}{done.stderr}")

    def test_every_page_is_in_the_list(self) -> None:
        listed = set(re.findall(r"\(([a-z-]+\.md)\)", (GUIDE / "README.md").read_text(encoding="utf-8")))
        self.assertEqual(listed, {page.name for page in GUIDE.glob("*.md")} - {"README.md"})


if __name__ == "__main__":
    unittest.main()
