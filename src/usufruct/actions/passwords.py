"""The passwords that Usufruct knows: from the command's file, and those that the user keeps with it."""

import stat
import sys
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from usufruct.archives.passwords import Passwords
from usufruct.errors import MachineError, UsufructError
from usufruct.files.small_texts import LARGEST, small_file
from usufruct.files.state_paths import StatePaths


def known_passwords(
    paths: StatePaths,
    given: Path | None,
    ask: Callable[[str, int], str | None] | None,
    on_fault: Callable[[UsufructError], None],
) -> Passwords:
    """Return passwords from the file `given` (`-`: standard input) first, then the kept ones, then what a person types.

    `on_fault` is told if kept ones cannot be read; they are left out.
    """
    words = lines_of(given) if given else ()
    try:
        kept = _kept(paths.passwords)
    except MachineError as fault:
        on_fault(fault)
        kept = ()
    return Passwords((*words, *kept), ask, given=bool(given))


def lines_of(file: Path) -> tuple[str, ...]:
    """Return the passwords in a file, or from a pipe that someone writes into, one per line.

    Raises MachineError if they cannot be read.
    """
    return _read(file, may_be_pipe=True)


def _read(file: Path, *, may_be_pipe: bool) -> tuple[str, ...]:
    try:
        is_input = str(file) == "-"
        text = sys.stdin.read(LARGEST) if is_input else small_file(file, may_be_pipe=may_be_pipe).decode("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise MachineError(
            f"The password file {file} cannot be read: {getattr(error, 'strerror', None) or error}.",
            remedy="Name a UTF-8 text file with one password a line, or - for standard input.",
            path=str(file),
        ) from error
    return tuple(line for line in text.splitlines() if line)


def _kept(file: Path) -> tuple[str, ...]:
    """Return the passwords that the user keeps; if others could read the file, it is made private first."""
    try:
        found = file.stat()
    except OSError:
        return ()
    if stat.S_IMODE(found.st_mode) & 0o077 and stat.S_ISREG(found.st_mode):
        with suppress(OSError):
            file.chmod(0o600)
    return _read(file, may_be_pipe=False)
