"""The carry file: the form of its `carry.json`, and reading one that may come from anyone."""

import json
import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import msgspec
from msgspec import Struct

from usufruct.actions.request import choices_from_text
from usufruct.actions.volumes import is_still
from usufruct.archives.opening import open_archive
from usufruct.archives.reading import Archive
from usufruct.errors import DamagedArchive, WrongUsage
from usufruct.files.shells import quoted
from usufruct.model.entries import EntryKind
from usufruct.model.holdings import Volume
from usufruct.planning.names import fault_in_name

CARRY_VERSION = 1
DOCUMENT = "carry.json"
OF_THIS_MACHINE = frozenset({"store", "downloads"})
"""Settings that name folders, which another machine has elsewhere."""
_LARGEST_DOCUMENT = 64 << 20
_LARGEST_DEFINITION = 1 << 20


class CarriedFile(Struct, frozen=True):
    """One file of a holding's archives."""

    name: str
    bytes: int
    blake3: str
    """Hexadecimal."""
    path: str
    """Where it was, `~` for the home directory."""
    inside: str = ""
    """Where it lies in the carry file; empty where it is not with it."""


class CarriedHolding(Struct, frozen=True):
    """One holding, with everything that is needed to add it again."""

    name: str
    application: str | None
    root: str
    """`~` for the home directory."""
    choices: dict[str, Any]
    archives: list[CarriedFile]
    origin: str = ""
    added: str = ""
    """ISO 8601; for people."""


class Carried(Struct, frozen=True):
    """The whole `carry.json`. Holdings are in an order in which adding them gives the same layers."""

    carry: int
    """The form's version."""
    made: str
    """ISO 8601."""
    settings: dict[str, Any]
    applications: list[str]
    holdings: list[CarriedHolding]


def is_content_at(path: str, size: int, digest: bytes) -> bool:
    """Whether a path is a file with this content."""
    try:
        return os.path.isfile(path) and is_still(Volume(path=path, size=size, digest=digest))
    except OSError:
        return False


def fault_in_holding(holding: CarriedHolding) -> str:
    """Say why a holding of a carry file cannot be used; empty if it can."""
    if fault := fault_in_name(holding.name):
        return f"its name cannot be used: {fault}"
    try:
        choices_from_text(json.dumps(holding.choices))
        is_whole = all(len(bytes.fromhex(file.blake3)) == 32 for file in holding.archives)
    except (msgspec.MsgspecError, ValueError, RecursionError) as error:
        return f"what is said of it cannot be read: {error}"
    return "" if is_whole and holding.archives else "what is said of its archives cannot be read"


class CarryFile:
    """A carry file that is open for reading."""

    def __init__(self, archive: Archive, rows: dict[str, int]) -> None:
        self.archive = archive
        self._rows = rows
        """Path below the folder that holds all → row."""

    def document(self) -> Carried:
        """Return its document; DamagedArchive if that cannot be used, WrongUsage if a newer version wrote it."""
        try:
            document = msgspec.json.decode(self._text(DOCUMENT, _LARGEST_DOCUMENT).encode("utf-8"), type=Carried)
        except (msgspec.MsgspecError, ValueError, RecursionError) as error:
            raise self.unusable(f"{DOCUMENT}: {error}") from error
        if document.carry > CARRY_VERSION:
            raise WrongUsage(
                f"{self.archive.name} was made by a newer Usufruct.",
                remedy="Update Usufruct here.",
                path=self.archive.path,
            )
        return document

    def definition(self, name: str) -> str:
        """Return the text of a definition."""
        return self._text(f"apps/{name}.toml", _LARGEST_DEFINITION)

    def name_in(self, inside: str) -> str:
        """Return the file name of an entry; DamagedArchive if there is none."""
        return self.archive.listing.names[self._row(inside)]

    def blocks(self, file: CarriedFile) -> Iterator[bytes]:
        """Yield the content of an archive in it, block by block; it may turn out to be another one."""
        row = self._row(file.inside)
        if self.archive.listing.sizes[row] != file.bytes:
            raise self.another(file)
        return (block for _, blocks in self.archive.stream([row]) for block in blocks)

    def modified(self, file: CarriedFile) -> int | None:
        """Return when an archive in it was last modified; None if that is not known."""
        return self.archive.listing.modified(self._row(file.inside))

    def another(self, file: CarriedFile) -> DamagedArchive:
        """Return the error for an archive in it that is not the one on its list."""
        return self.unusable(f"{file.inside} is not the archive it should be")

    def unusable(self, why: str) -> DamagedArchive:
        """Return the error for a file that cannot be carried in."""
        return DamagedArchive(
            f"{self.archive.name} cannot be carried in: {why}.",
            remedy="Carry out again on the other machine.",
            path=self.archive.path,
        )

    def _row(self, inside: str) -> int:
        if inside not in self._rows:
            raise self.unusable(f"it has no {inside}")
        return self._rows[inside]

    def _text(self, inside: str, most: int) -> str:
        row = self._row(inside)
        # An entry never unpacks to more than its stated size.
        if self.archive.listing.sizes[row] > most:
            raise self.unusable(f"{inside} is far too large")
        try:
            return b"".join(block for _, blocks in self.archive.stream([row]) for block in blocks).decode("utf-8")
        except UnicodeDecodeError as error:
            raise self.unusable(f"{inside} is no text") from error


@contextmanager
def opened_carry_file(file: Path) -> Iterator[CarryFile]:
    """Open a carry file. Raises the errors of opening archives, and WrongUsage if it is another archive."""
    archive = open_archive(file)
    try:
        listing = archive.listing
        paths = {listing.path(row): row for row, kind in enumerate(listing.kinds) if kind == EntryKind.FILE}
        tops = {path.partition("/")[0] for path in paths if path.partition("/")[2] == DOCUMENT}
        if len(tops) != 1:
            raise WrongUsage(
                f"{file.name} is not a file that `usufruct carry out` made.",
                remedy=f"`usufruct look {quoted(str(file))}` says what it is.",
                path=str(file),
            )
        top = f"{tops.pop()}/"
        yield CarryFile(archive, {path[len(top) :]: row for path, row in paths.items() if path.startswith(top)})
    finally:
        archive.close()
