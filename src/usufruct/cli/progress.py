"""How far a change has come, shown once it takes longer than a moment."""

import sys
import time
from types import TracebackType
from typing import Any

from usufruct.cli.screen import echo, is_plain, size_words
from usufruct.files.printable import printable
from usufruct.model.progress import Progress

_SOON = 1.0
"""Seconds before anything is shown."""
_KNOWN = 2.0
"""Seconds after which a rate says something."""
_OFTEN, _SELDOM = 0.1, 10.0
"""Seconds between two moments that are shown: at a terminal, and elsewhere."""


class Watching:
    """Shows progress on standard error: a bar at a terminal, elsewhere a plain line now and then. For `with`."""

    def __init__(self, count: int = 1) -> None:
        self._count = count
        """Archives or holdings in all."""
        self._begun = self._shown = time.monotonic()
        self._is_terminal = sys.stderr.isatty() and not is_plain()
        self._about = ""
        self._part = ("", "")
        self._since = self._begun
        """When the part that is shown began."""
        self._number = 0
        self._bar: Any = None
        self._task: Any = None

    def __enter__(self) -> "Watching":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.pause()

    def pause(self) -> None:
        """Take the bar away, for something else is to be shown."""
        if self._bar:
            self._bar.stop()
            self._bar = None

    def __call__(self, progress: Progress) -> None:
        """Show this moment, if it is time to."""
        if progress.about != self._about:
            self._about, self._number = progress.about, self._number + 1
        if (progress.about, progress.phase) != self._part:
            self._part, self._since = (progress.about, progress.phase), time.monotonic()
        now = time.monotonic()
        if now - self._begun < _SOON or now - self._shown < (_OFTEN if self._is_terminal else _SELDOM):
            return
        self._shown = now
        which = f"{self._number} of {self._count}: " if self._count > 1 else ""
        words = f"{which}{printable(progress.about)}, {progress.phase}"
        if self._is_terminal:
            self._draw(words, progress)
        else:
            files = f"{progress.files:,} of {progress.of_files:,} files"
            echo(f"{words}: {files}, {size_words(progress.size)} of {size_words(progress.of_size)}", err=True)

    def _draw(self, words: str, progress: Progress) -> None:
        if self._bar is None:
            # Only here: most changes are done before anything is shown.
            from rich.console import Console
            from rich.progress import BarColumn, TextColumn
            from rich.progress import Progress as Bar

            columns = (
                TextColumn("{task.description}", markup=False),
                BarColumn(style="bright_black", complete_style="cyan", finished_style="cyan", pulse_style="cyan"),
                TextColumn("{task.fields[told]}", markup=False),
            )
            self._bar = Bar(*columns, console=Console(stderr=True, highlight=False), transient=True)
            self._task = self._bar.add_task(words, total=progress.of_size, told="")
            self._bar.start()
        self._bar.update(
            self._task,
            description=words,
            total=progress.of_size,
            completed=progress.size,
            told=self._told(progress),
        )

    def _told(self, progress: Progress) -> str:
        """How far it is, and once that is known how fast and how long still."""
        parts = [f"{size_words(progress.size)} of {size_words(progress.of_size)}"]
        if progress.of_files > 1:
            parts.append(f"{progress.files:,} of {progress.of_files:,} files done")
        seconds = time.monotonic() - self._since
        if progress.size and seconds > _KNOWN:
            rate = progress.size / seconds
            parts.append(f"{size_words(round(rate))}/s")
            if left := round((progress.of_size - progress.size) / rate):
                parts.append(f"{left // 60}:{left % 60:02} left")
        return ", ".join(parts)
