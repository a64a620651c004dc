"""Whole processes, measured in turn: time by the wall, and the most memory they held."""

import os
import platform
import statistics
import subprocess
import sys
import sysconfig
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path

PROGRAM = str(Path(sysconfig.get_path("scripts")) / "usufruct")
"""The installed program."""


_LAUNCH = """
import os, sys, time
start = time.perf_counter()
process = os.fork()
if not process:
    os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
    os.execvp(sys.argv[1], sys.argv[1:])
_, status, usage = os.wait4(process, 0)
print(os.waitstatus_to_exitcode(status), time.perf_counter() - start, usage.ru_maxrss, usage.ru_utime + usage.ru_stime)
"""
"""A process counts the memory of the one that started it until its own program runs: a small one starts them."""


@dataclass(frozen=True)
class Run:
    """One process."""

    seconds: float
    peak: int
    """Bytes resident at most."""
    processor: float = 0.0
    """Seconds of the processor, its own and the system's for it."""


@dataclass
class Pair:
    """Two commands for the same work, run A B A B."""

    name: str
    ours: list[Run] = field(default_factory=list)
    plain: list[Run] = field(default_factory=list)

    @property
    def ratios(self) -> list[float]:
        """Those of neighbouring runs, the least first."""
        return sorted(a.seconds / b.seconds for a, b in zip(self.ours, self.plain, strict=True))

    @property
    def ratio(self) -> float:
        """The median of them."""
        return statistics.median(self.ratios)

    def as_row(self) -> dict[str, object]:
        """The figures by name, seconds and bytes."""
        return {
            "work": self.name,
            "seconds": round(statistics.median(run.seconds for run in self.ours), 3),
            "baseline_seconds": round(statistics.median(run.seconds for run in self.plain), 3),
            "ratio": round(self.ratio, 2),
            "least": round(self.ratios[0], 2),
            "most": round(self.ratios[-1], 2),
            "processor_seconds": round(statistics.median(run.processor for run in self.ours), 3),
            "peak": max(run.peak for run in self.ours),
            "baseline_peak": max(run.peak for run in self.plain),
            "runs": len(self.ours),
        }


def run(command: Sequence[str], **environment: str) -> Run:
    """Run a command to its end; a failure ends the benchmark, for its time would mean nothing."""
    # What the run before has left unwritten would be charged to whichever of the two makes its own bytes durable.
    os.sync()
    done = subprocess.run(
        [sys.executable, "-I", "-S", "-c", _LAUNCH, *command],
        capture_output=True,
        text=True,
        # Without the cache of compiled modules, which a user has, each start would compile all of them.
        env={**os.environ, "PYTHONDONTWRITEBYTECODE": "", **environment},
        check=False,
    )
    code, seconds, peak, processor = done.stdout.split()
    if int(code):
        raise SystemExit(f"{' '.join(command)[:300]}\nended with {code}: {done.stderr[-600:]}")
    return Run(float(seconds), int(peak) * (1 if sys.platform == "darwin" else 1024), float(processor))


def pair(
    name: str, ours: Callable[[int], Run], plain: Callable[[int], Run], *, runs: int = 5, wake: bool = True
) -> Pair:
    """Run both in turn; the first pair only wakes the disk's cache and is not counted."""
    result = Pair(name)
    for number in range(-1 if wake else 0, runs):
        first, second = ours(number), plain(number)
        if number >= 0:
            result.ours.append(first)
            result.plain.append(second)
    return result


def machine() -> dict[str, object]:
    """What the figures were made on."""
    memory = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
    return {
        "python": platform.python_version(),
        "system": platform.platform(),
        "processors": os.cpu_count(),
        "memory": memory,
    }


def table(rows: Sequence[Sequence[str]]) -> str:
    """Rows of cells as a Markdown table, numbers to the right."""
    widths = [max(len(row[column]) for row in rows) for column in range(len(rows[0]))]
    head, *body = [
        [
            cell.ljust(wide) if not column else cell.rjust(wide)
            for column, (cell, wide) in enumerate(zip(row, widths, strict=True))
        ]
        for row in rows
    ]
    rule = ["-" * wide if not column else "-" * (wide - 1) + ":" for column, wide in enumerate(widths)]
    return "\n".join("| " + " | ".join(cells) + " |" for cells in (head, rule, *body))
