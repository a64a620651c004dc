"""Which ledgers have noted backups. Every command looks, so that a lost ledger is reported.

Notes lie beside the backups, in one file for each ledger, named by the ledger's identity.
"""

import os

_LONGEST = 16 << 10
"""Bytes of the longest note, its path quoted."""


def directory_of_notes(top: str) -> str:
    """Where the notes about the backups below a directory are."""
    return f"{top}/paths"


SETTLED = ".settled"
"""Behind the name of notes of which nobody needs to be told any more."""


def is_noted_elsewhere(top: str, ledger: str, last: int) -> bool:
    """Whether another ledger noted backups below a directory, or this one after its change `last`; not if settled.

    Backups without any note could be anybody's: they belong to a ledger that is not empty.
    """
    names = names_in_directory(directory_of_notes(top))
    return newest_change(top, ledger) > last or bool(others(top, ledger)) or (not last and not names)


def others(top: str, ledger: str) -> list[str]:
    """The other ledgers that noted backups below a directory, without those that were settled."""
    return [name for name in names_in_directory(directory_of_notes(top)) if name.isalnum() and name != ledger]


def newest_change(top: str, ledger: str) -> int:
    """The number of the last change about which a ledger noted anything below a directory; 0 if there is none."""
    try:
        with open(f"{directory_of_notes(top)}/{ledger}", "rb") as notes:
            begin = max(0, os.fstat(notes.fileno()).st_size - _LONGEST)
            notes.seek(begin)
            lines = notes.read().split(b"\n")[bool(begin) : -1]
    except OSError:
        return 0
    numbers = [fields[1] for line in lines if len(fields := line.split(b" ")) == 3 and fields[1].isdigit()]
    return max(map(int, numbers), default=0)


def names_in_directory(directory: str) -> list[str]:
    """The names in a directory, sorted; none if it does not exist."""
    try:
        return sorted(os.listdir(directory))
    except (FileNotFoundError, NotADirectoryError):
        return []
