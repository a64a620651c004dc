"""Changes: what the history is made of."""

from enum import StrEnum

from msgspec import Struct


class ChangeKind(StrEnum):
    """What a change does."""

    ADD = "add"
    REMOVE = "remove"
    UPDATE = "update"
    REPAIR = "repair"
    FORGET = "forget"


class Phase(StrEnum):
    """How far a change has come."""

    STAGING = "staging"
    """Nothing but the staging directory was touched."""
    SWITCHING = "switching"
    """The intent is in the ledger; files are being switched in. Recovery reverses it."""
    DONE = "done"
    REVERSED = "reversed"


class Change(Struct, frozen=True, kw_only=True):
    """One entry of the history."""

    number: int
    kind: ChangeKind
    phase: Phase
    started: int
    """Nanoseconds since 1970 UTC."""
    about: str
    """Names of the holdings concerned."""
    finished: int | None = None
    root: int = 0
    """The change that this one undoes or redoes; 0: it is a change of its own."""
    command: int = 0
    """The first change of the command that made it: what one command did counts as one."""
    brought: int | None = None
    """Number of the holding that came by it."""
    took: int | None = None
    """Number of the holding that went by it."""
    is_partial: bool = False
    """That holding came or went only in part."""
    is_named_part: bool = False
    """The user said which part."""
