"""What a carry file holds: the form of its `carry.json`, validated as it is read."""

from typing import Any

import msgspec

CARRY_VERSION = 1


class CarriedFile(msgspec.Struct, frozen=True):
    """One file of a holding's archives."""

    name: str
    bytes: int
    blake3: str
    """Hexadecimal."""
    path: str
    """Where it was, `~` for the home directory."""
    inside: str = ""
    """Where it lies in the carry file; empty where it is not with it."""


class CarriedHolding(msgspec.Struct, frozen=True):
    """One holding: all that it takes to add it again."""

    name: str
    application: str | None
    root: str
    """`~` for the home directory."""
    choices: dict[str, Any]
    archives: list[CarriedFile]
    origin: str = ""
    added: str = ""
    """ISO 8601; for people."""


class Carried(msgspec.Struct, frozen=True):
    """The whole of `carry.json`. Holdings come in an order in which adding them gives the same layers."""

    carry: int
    """The form's version."""
    made: str
    """ISO 8601."""
    settings: dict[str, Any]
    applications: list[str]
    holdings: list[CarriedHolding]
