"""The real program on one file, under limits of time, memory and disk that fail it."""

import os
import resource
import subprocess
import sys
import tempfile
from dataclasses import dataclass
from pathlib import Path

_SECONDS = 20
"""Of processor time; on a quiet machine every file here takes a quarter of it."""
_MOST_MEMORY = 300 << 20
_ADDRESSES = 4 << 30
"""Bytes of addresses, so that what would take the whole machine ends here."""
_LARGEST_FILE = 2 << 30
_MOST_OUTPUT = 4 << 20
_SOUND = (0, 1, 2, 3, 4, 5)
"""Exit codes that the program has; 5 only for what the machine says."""


@dataclass(frozen=True)
class Ended:
    """How a run of the program ended."""

    code: int
    """Negative: the signal that ended it."""
    seconds: float
    memory: int
    """Bytes, at the most."""
    output: str

    @property
    def fault(self) -> str:
        """What is wrong with it; empty if nothing is."""
        if self.code not in _SOUND:
            return f"it ended with {self.code} after {self.seconds:.1f} s"
        if "Traceback" in self.output or "a fault of its own" in self.output:
            return f"it met a fault of its own: {self.output.strip().splitlines()[-1][:200]}"
        if self.memory > _MOST_MEMORY:
            return f"it took {self.memory >> 20} MB"
        return "it wrote without end" if len(self.output) > _MOST_OUTPUT else ""


def ended(words: list[str], home: Path) -> Ended:
    """Run the program with these words, its own files in `home`."""

    def limit() -> None:
        resource.setrlimit(resource.RLIMIT_CPU, (_SECONDS, _SECONDS))
        resource.setrlimit(resource.RLIMIT_AS, (_ADDRESSES, _ADDRESSES))
        resource.setrlimit(resource.RLIMIT_FSIZE, (_LARGEST_FILE, _LARGEST_FILE))

    environment = {**os.environ, "USUFRUCT_HOME": str(home), "HOME": str(home), "TMPDIR": str(home), "NO_COLOR": "1"}
    with tempfile.TemporaryFile() as out:
        program = subprocess.Popen(
            [sys.executable, "-m", "usufruct", *words],
            stdin=subprocess.DEVNULL, stdout=out, stderr=out, env=environment, preexec_fn=limit,
        )  # fmt: skip
        _, status, used = os.wait4(program.pid, 0)
        program.returncode = os.waitstatus_to_exitcode(status)
        out.seek(0)
        text = out.read(_MOST_OUTPUT + 1).decode("utf-8", "replace")
    return Ended(program.returncode, used.ru_utime + used.ru_stime, used.ru_maxrss << 10, text)
