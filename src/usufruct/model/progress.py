"""How far a change has come, as it is told to whoever watches."""

from collections.abc import Callable
from typing import NamedTuple


class Progress(NamedTuple):
    """One moment of a change."""

    about: str
    """The holding."""
    phase: str
    """What is being done: `unpacking`, `switching`, `giving back`."""
    files: int
    of_files: int
    size: int
    """Bytes done."""
    of_size: int


Watch = Callable[[Progress], None]


def unwatched(progress: Progress) -> None:
    """Tell nobody."""
