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


def main() -> None:
    """Run the command line and end with its exit code."""
    _refuse_zip()
    # What a command makes of an archive's entries stays until it ends: it need not be looked through again and again.
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
    # The system takes everything back at once; the interpreter would first take it apart piece by piece.
    os._exit(code)


if __name__ == "__main__":
    main()
