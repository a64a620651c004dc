"""The program in a process that has read its modules already: what it does is the same, and it starts at once.

Where the start itself matters, such as the language of the terminal, a fresh process is begun.
"""

import multiprocessing
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterable
from pathlib import Path

from tests import systems

_AT_THE_START = ("LC_", "LANG", "PYTHON")
"""Beginnings of the names of what Python itself looks at while it starts."""
_SOURCE = Path(__file__).parent.parent / "src"
_READ_BEFORE = [".".join(file.relative_to(_SOURCE).with_suffix("").parts) for file in sorted(_SOURCE.rglob("[!_]*.py"))]


def can_run_warm(changed: Iterable[str]) -> bool:
    """Whether a warm process serves, for these names of environment variables of its own."""
    is_here = "forkserver" in multiprocessing.get_all_start_methods() and not systems.current()
    return is_here and not any(name.startswith(_AT_THE_START) for name in changed)


def run_warm(words: list[str], cwd: str, environment: dict[str, str]) -> "subprocess.CompletedProcess[str]":
    """Run the program with these words; gives its exit code, and what it wrote to both streams."""
    server = multiprocessing.get_context("forkserver")
    server.set_forkserver_preload(["tests.warm", "usufruct.__main__", *_READ_BEFORE])
    with tempfile.TemporaryDirectory(prefix="said-") as folder:
        streams = [f"{folder}/{name}" for name in ("out", "err")]
        process = server.Process(target=_program, args=(words, cwd, environment, streams))
        process.start()
        process.join()
        assert process.exitcode is not None
        out, err = (Path(file).read_text(encoding="utf-8") if Path(file).exists() else "" for file in streams)
        return subprocess.CompletedProcess(words, process.exitcode, out, err)


def _program(words: list[str], cwd: str, environment: dict[str, str], streams: list[str]) -> None:
    os.environ.clear()
    os.environ.update(environment)
    time.tzset()
    os.chdir(cwd)
    sys.argv = ["usufruct", *words]
    files = [os.open(os.devnull, os.O_RDONLY), *(os.open(file, os.O_WRONLY | os.O_CREAT) for file in streams)]
    for number, file in enumerate(files):
        os.dup2(file, number)
        os.close(file)
    sys.stdin, sys.stdout, sys.stderr = (
        os.fdopen(number, mode, encoding="utf-8", closefd=False) for number, mode in enumerate("rww")
    )
    from usufruct.__main__ import main

    main()
