"""`python -m usufruct`, and what the console command calls."""

import atexit
import gc
import os
import sys

_NEW = 100_000
"""Values made before those among them that refer to one another in circles are looked for."""


def _open_what_is_closed() -> None:
    """Give streams that whoever started us had closed a place to go; else files of ours would take their numbers."""
    for number in range(3):
        try:
            os.fstat(number)
        except OSError:
            os.open(os.devnull, os.O_RDWR)
    for name in ("stdin", "stdout", "stderr"):
        if getattr(sys, name) is None:
            setattr(sys, name, open(os.devnull, "r" if name == "stdin" else "w"))  # noqa: SIM115, PTH123 - open to the end


def _refuse_zip() -> None:
    """From within a zip nothing that lies beside the code could be read, nor another process be begun."""
    here = os.path.dirname(os.path.abspath(__file__))  # noqa: PTH100, PTH120 - nothing else is loaded yet
    if not os.path.isdir(here):  # noqa: PTH112
        sys.stderr.write(
            "usufruct: Usufruct cannot run from within a zip file.\n"
            "Nothing was changed. Install it: `pip install usufruct`, or `pipx install usufruct`.\n"
        )
        sys.exit(5)


def _name_files_in_utf8() -> None:
    """Begin again with names of files as UTF-8, where the locale has an older encoding that cannot spell them all.

    File systems keep bytes. What is shown stays in the locale's encoding, and words typed in it mean the same.
    """
    if sys.flags.utf8_mode or sys.getfilesystemencoding().lower() == "utf-8":
        return
    words = [_as_utf8(raw, word) for raw, word in zip(_typed(), sys.argv[1:], strict=True)]
    around = {**os.environ, "PYTHONUTF8": "1"}
    around.setdefault("PYTHONIOENCODING", f"{sys.stdout.encoding}:surrogateescape")
    os.execve(sys.executable, [os.fsencode(sys.executable), b"-X", b"utf8", b"-m", b"usufruct", *words], around)


def _typed() -> list[bytes]:
    """The words as bytes: some encodings do not give back what they were read from."""
    count = len(sys.argv) - 1
    try:
        with open("/proc/self/cmdline", "rb") as file:  # noqa: PTH123 - nothing else is loaded yet
            return file.read().split(b"\0")[:-1][-count:] if count else []
    except OSError:
        return [word.encode(sys.getfilesystemencoding(), "surrogateescape") for word in sys.argv[1:]]


def _as_utf8(raw: bytes, word: str) -> bytes:
    try:
        raw.decode("utf-8")
    except UnicodeDecodeError:
        return raw if os.path.lexists(raw) else word.encode("utf-8", "surrogateescape")
    return raw


def main() -> None:
    """Run the command line and end with its exit code."""
    _refuse_zip()
    _name_files_in_utf8()
    # A command keeps its objects until it ends, so the collector need not scan them repeatedly.
    _open_what_is_closed()
    gc.set_threshold(_NEW, 100, 100)
    from usufruct.cli.main import run

    code = run(sys.argv[1:])
    atexit._run_exitfuncs()
    try:
        sys.stdout.flush()
        sys.stderr.flush()
    except OSError:
        sys.exit(code)
    # Let the system free everything at once; the interpreter would free each object.
    os._exit(code)


if __name__ == "__main__":
    main()
