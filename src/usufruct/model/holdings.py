"""Holdings: what `add` made, by name."""

from typing import NamedTuple

from msgspec import Struct


class Volume(Struct, frozen=True, kw_only=True):
    """One file of the archives that a holding came from."""

    path: str
    """Absolute."""
    size: int
    digest: bytes
    """BLAKE3 of the file."""


class HeldDrive(NamedTuple):
    """A file system that a holding has files on."""

    base: str
    """Absolute path of the topmost of its directories there."""
    mount: str
    """Where the file system was mounted; empty where nobody recorded it."""
    identity: str
    """What tells it from all others, wherever it is mounted; empty where nothing does."""
    is_beside: bool
    """It was the one that Usufruct's own data are on: both move together to another disk."""


class Holding(Struct, frozen=True, kw_only=True):
    """The set of files that one `add` placed, under one name."""

    number: int
    name: str
    application: str | None
    """None: placed with `--to`."""
    root: str
    """Absolute path that destinations are shown relative to."""
    archive: str
    """Absolute path of the archive's first file, where it was last known to be."""
    archive_size: int
    """Bytes of all its files."""
    archive_digest: bytes
    """BLAKE3 of the archive's file, or of the digests of all its files."""
    format: str
    tidy_name: str
    version: str
    origin: str
    """Where the archive was downloaded from; empty where nobody recorded it."""
    choices: str
    """The options it was added with, as JSON."""
    added: int
    """Nanoseconds since 1970 UTC."""
    files: int
    size: int
    """Bytes of all its files."""
    is_partial: bool = False
    """Some of its files were changed since and stayed when it was removed."""
    is_away: bool = False
    """A drive that it lies on is not there; found by looking, and not on record."""
