"""The passwords that Usufruct knows: those of this command's file, and those that the user keeps with it."""

import stat
import sys
from collections.abc import Callable
from pathlib import Path

from usufruct.archives.passwords import Passwords
from usufruct.errors import MachineError
from usufruct.files.state_places import StatePlaces


def known_passwords(places: StatePlaces, given: Path | None, ask: Callable[[str, int], str | None] | None) -> Passwords:
    """Passwords of the file `given` (`-`: standard input) first, then the kept ones, then what a person answers."""
    words = lines_of(given) if given else ()
    return Passwords((*words, *_kept(places.passwords)), ask, given=bool(given))


def lines_of(file: Path) -> tuple[str, ...]:
    """The passwords in a file, one a line; MachineError where it cannot be read."""
    try:
        text = sys.stdin.read() if str(file) == "-" else file.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise MachineError(
            f"The password file {file} cannot be read: {error}.",
            remedy="Name a UTF-8 text file with one password a line, or - for standard input.",
            path=str(file),
        ) from error
    return tuple(line for line in text.splitlines() if line)


def _kept(file: Path) -> tuple[str, ...]:
    """The passwords that the user keeps; a file that others could read is closed to them first."""
    try:
        found = file.stat()
    except OSError:
        return ()
    if stat.S_IMODE(found.st_mode) & 0o077:
        file.chmod(0o600)
    return lines_of(file)
