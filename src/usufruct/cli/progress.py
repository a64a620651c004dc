"""Show the progress of a change that takes longer than a moment."""

import sys
import time
from types import TracebackType

from usufruct.cli.cells import cells
from usufruct.cli.screen import clear_over, echo, echo_over, is_plain, is_quiet, shortened, size_words, styled, width
from usufruct.files.printable import printable
from usufruct.model.progress import Progress

_SOON = 1.0
"""Seconds before anything is shown."""
_KNOWN = 2.0
"""Seconds after which a rate says something."""
_OFTEN, _SELDOM = 0.1, 10.0
"""Seconds between two moments that are shown: at a terminal, and elsewhere."""
_LEAST_BAR, _MOST_BAR = 8, 40
"""Columns of a bar that says something, and of one that is long enough."""


class Watching:
    """Shows progress on standard error: a bar at a terminal, elsewhere a line now and then. Used with `with`."""

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

    def __enter__(self) -> "Watching":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.pause()

    def pause(self) -> None:
        """Remove the bar, because something else will be shown."""
        clear_over()

    def __call__(self, progress: Progress) -> None:
        """Show this moment, if it is time to."""
        if progress.about != self._about:
            self._about, self._number = progress.about, self._number + 1
        if (progress.about, progress.phase) != self._part:
            self._part, self._since = (progress.about, progress.phase), time.monotonic()
        now = time.monotonic()
        if is_quiet() or now - self._begun < _SOON or now - self._shown < (_OFTEN if self._is_terminal else _SELDOM):
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
        columns = width(err=True) - 1
        told = self._told(progress)
        words = shortened(words, max(_LEAST_BAR, columns - len(told) - _LEAST_BAR - 4))
        told = shortened(told, max(0, columns - cells(words) - 2))
        room = min(_MOST_BAR, columns - cells(words) - len(told) - 4)
        done = room * min(progress.size, progress.of_size) // max(1, progress.of_size)
        bar = f"{styled('━' * done, 'place')}{styled('─' * (room - done), 'quiet')}" if room >= _LEAST_BAR else ""
        echo_over("  ".join(filter(None, (words, bar, told))), width=columns)

    def _told(self, progress: Progress) -> str:
        """Say how far it is, and once that is known, how fast it is and how long it will take."""
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
