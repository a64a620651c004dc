"""What the user answered before being asked."""

from dataclasses import dataclass
from enum import StrEnum

from usufruct.model.applications import Programs


class OnClash(StrEnum):
    """What becomes of a file that is at a destination already and differs."""

    REPLACE = "replace"
    """It is backed up, then replaced."""
    KEEP = "keep"
    """It stays; the entry goes aside."""
    NEWER = "newer"
    """It is replaced if the entry's time is newer, else it stays."""
    EXISTING = "existing"
    """It is replaced; entries with no file on disk go aside."""
    BOTH = "both"
    """It stays; the entry gets a free name beside it."""
    ASK = "ask"
    """Each is asked about."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Choices:
    """The options of one `look` or `add` that decide what goes where."""

    only: tuple[str, ...] = ()
    """Patterns; where given, no other entry takes part."""
    skip: tuple[str, ...] = ()
    """Patterns of entries that take no part."""
    picked: tuple[str, ...] | None = None
    """Paths of the only entries that take part; None: all."""
    into: str | None = None
    """The folder that all content goes to, by its name, and a directory in it."""
    flat: bool = False
    """Without an application: drop every directory that holds nothing but one other."""
    choose: tuple[str, ...] = ()
    """Names of alternatives, or `all`."""
    nested: bool = False
    """Open archives inside the archive."""
    every_format: bool = False
    """Place the less preferred formats too."""
    programs: Programs | None = None
    """Overrides the definition's word on files that can run."""
    on_clash: OnClash = OnClash.REPLACE
    on_clash_of: tuple[tuple[str, OnClash], ...] = ()
    """Entries about which the user was asked, each with what is to become of the file in their way."""
    autostart: bool = False
    """Place files where the system, a login or a shell runs or reads them by itself."""
    skip_unsafe: bool = False
    """Place the rest of an archive that holds unsafe entries."""
