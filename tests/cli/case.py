"""The installed program as it is typed: in a folder of the test's, with a record of its own."""

import json
import subprocess
from typing import Any

from tests.support import WorldTest, run_program, zip_bytes


class ProgramCase(WorldTest):
    """Commands are typed in `folder`; `home` holds the record, and the sample definitions unless there are none."""

    has_definitions = True

    def setUp(self) -> None:
        super().setUp()
        self.home = self.world.paths.data
        self.folder = self.downloads = self.world.folder / "downloads"
        self.environment: dict[str, str] = {}
        if self.has_definitions:
            self.world.context_with_definitions()

    def run_words(self, *words: str, code: int = 0, **environment: str) -> "subprocess.CompletedProcess[str]":
        """Run a command that has to end with this code."""
        done = run_program(*words, home=self.home, cwd=self.folder, **{**self.environment, **environment})
        self.assertEqual(done.returncode, code, f"{words}\n{done.stdout}\n{done.stderr}")
        self.assertNotIn("Traceback", done.stderr)
        return done

    def document(self, *words: str, code: int = 0) -> Any:
        """What a command prints as JSON."""
        return json.loads(self.run_words(*words, "--json", code=code).stdout)

    def write(self, name: str, files: dict[str, str | bytes]) -> None:
        """A zip in the downloads folder."""
        (self.downloads / name).write_bytes(zip_bytes(files))
