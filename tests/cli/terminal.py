"""The real program at a pseudo-terminal: keys are sent, and what comes back is read as a person would see it."""

import os
import re
import select
import subprocess
import time
from pathlib import Path

from tests.support import program

DOWN, ENTER, SPACE, CONTROL_A, CONTROL_C = "\x1b[B", "\r", " ", "\x01", "\x03"
_STEERING = re.compile(r"\x1b\[[0-?]*[ -/]*[@-~]|\x1b\][^\x07]*\x07|\x1b[=>78]|\r")
_PATIENCE = 30.0
"""Seconds that are waited for a text, on a machine that does much else."""


class Terminal:
    """One command at a terminal of 50 lines. Use it as a context."""

    def __init__(self, *words: str, cwd: Path, env: dict[str, str], columns: int = 120) -> None:
        import fcntl
        import pty
        import struct
        import termios

        self._ours, theirs = pty.openpty()
        fcntl.ioctl(theirs, termios.TIOCSWINSZ, struct.pack("HHHH", 50, columns, 0, 0))
        every = {**os.environ, "TERM": "xterm", "PROMPT_TOOLKIT_NO_CPR": "1", "NO_COLOR": "1", "PAGER": "cat", **env}
        self._process = subprocess.Popen(
            [*program(), *words],
            stdin=theirs,
            stdout=theirs,
            stderr=theirs,
            cwd=cwd,
            env=every,
            start_new_session=True,
            preexec_fn=_take_terminal,
        )
        os.close(theirs)
        self.shown = ""
        self.raw = ""
        """The same with all that steers the terminal."""
        self._read = 0

    def __enter__(self) -> "Terminal":
        return self

    def __exit__(self, *_: object) -> None:
        self._process.kill()
        self._process.wait()
        os.close(self._ours)

    def sees(self, text: str) -> str:
        """Wait until a text is shown behind what was seen before; gives all that came up to it."""
        until = time.monotonic() + _PATIENCE
        while (at := self.shown.find(text, self._read)) < 0:
            if time.monotonic() > until or not self._more(until):
                raise AssertionError(f"{text!r} was not shown, but:\n{self.shown[self._read :]}")
        found, self._read = self.shown[self._read : at + len(text)], at + len(text)
        return found

    def types(self, *keys: str) -> None:
        """Send keys, one after the other."""
        for key in keys:
            os.write(self._ours, key.encode())
            time.sleep(0.05)

    def ends(self) -> int:
        """Wait for the end; gives the exit code."""
        until = time.monotonic() + _PATIENCE
        while self._more(until):
            pass
        return self._process.wait(max(0.1, until - time.monotonic()))

    def _more(self, until: float) -> bool:
        ready, _, _ = select.select([self._ours], [], [], max(0.0, until - time.monotonic()))
        try:
            block = os.read(self._ours, 1 << 16) if ready else b""
        except OSError:  # the other end is closed
            block = b""
        self.raw += block.decode("utf-8", "replace")
        self.shown += _STEERING.sub("", block.decode("utf-8", "replace"))
        return bool(block)


def _take_terminal() -> None:
    """Let the terminal be the one that the process is controlled from, so that its keys interrupt it."""
    import fcntl
    import termios

    fcntl.ioctl(0, termios.TIOCSCTTY, 0)
