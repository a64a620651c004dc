"""What the user answered before being asked."""

from enum import StrEnum

from msgspec import Struct
from msgspec.structs import replace

from usufruct.model.applications import Programs


class OnClash(StrEnum):
    """What becomes of a file that is at a destination already and differs."""

    REPLACE = "replace"
    """It is backed up, then replaced."""
    KEEP = "keep"
    """It stays; the entry is skipped."""
    NEWER = "newer"
    """It is replaced if the entry's time is newer, else it stays."""
    EXISTING = "existing"
    """It is replaced; entries with no file on disk are skipped."""
    BOTH = "both"
    """It stays; the entry gets a free name beside it."""
    ASK = "ask"
    """Each is asked about."""


class Choices(Struct, frozen=True, kw_only=True):
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
    claim: bool = False
    """Files that are there already with the same content become the holding's own."""
    autostart: bool = False
    """Place files where the system, a login or a shell runs or reads them by itself."""
    skip_unsafe: bool = False
    """Place the rest of an archive that holds unsafe entries."""
    taken_out: tuple[str, ...] = ()
    """Entries that were taken out of the holding again: they stay out until they are named."""
    again: tuple[str, ...] = ()
    """Patterns that name such entries; of no use once they are placed."""


def combined(old: Choices, new: Choices) -> Choices:
    """What an archive is added by once it is added again with other choices.

    What the earlier left out and the new one takes comes, so that the two together leave out only what both do. An
    alternative or a folder that is named anew takes the place of the earlier.
    """
    both = replace(
        old,
        only=tuple(dict.fromkeys((*old.only, *new.only))) if old.only and new.only else (),
        skip=tuple(pattern for pattern in old.skip if pattern in new.skip),
        picked=tuple(dict.fromkeys((*old.picked, *new.picked))) if old.picked and new.picked else None,
        choose=new.choose or old.choose,
        into=new.into or old.into,
        flat=old.flat or new.flat,
        nested=old.nested or new.nested,
        every_format=old.every_format or new.every_format,
        claim=old.claim or new.claim,
        programs=new.programs or old.programs,
        autostart=old.autostart or new.autostart,
        skip_unsafe=old.skip_unsafe or new.skip_unsafe,
        again=new.only or new.picked or () if old.taken_out else (),
    )
    # Another choice for conflicts is no reason to add anything again.
    return both if both == old else replace(both, on_clash=new.on_clash, on_clash_of=new.on_clash_of)
