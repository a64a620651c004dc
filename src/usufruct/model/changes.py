"""Changes: what the history is made of."""

from dataclasses import dataclass
from enum import StrEnum


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


@dataclass(frozen=True, slots=True, kw_only=True)
class Change:
    """One entry of the history."""

    number: int
    kind: ChangeKind
    phase: Phase
    started: int
    """Nanoseconds since 1970 UTC."""
    about: str
    """Names of the holdings concerned."""
    finished: int | None = None
    is_undo: bool = False
    """It took the change before it back."""
