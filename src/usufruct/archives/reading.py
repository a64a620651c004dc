"""The protocol that every format's reader follows, and shared helpers."""

from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Protocol

from blake3 import blake3
from msgspec import Struct, field

from usufruct.archives.allowance import Allowance, Limits
from usufruct.archives.passwords import Passwords
from usufruct.model.entries import Listing
from usufruct.model.facts import Facts
from usufruct.model.progress import Watch, unwatched

BLOCK = 1 << 20
"""Most bytes that a reader gives at once, but for entries that are unpacked in one go."""
WHOLE = 16 << 20
"""Bytes of an entry up to which that may be done."""


class Access(Struct, frozen=True, kw_only=True):
    """The user's settings for opening archives."""

    passwords: Passwords = field(default_factory=Passwords)
    names: str | None = None
    """Encoding of names that do not say their own; None: guessed."""
    limits: Limits = field(default_factory=Limits)
    spool: str | None = None
    """A directory in which the plain bytes of a packed stream may be kept while it is open; None: nowhere."""
    rescues: bool = False
    """Of an archive that is damaged, take what came whole."""
    watch: Watch = unwatched
    """Hears of what is unpacked only to get at what lies behind it."""


class Archive(Protocol):
    """An open archive. Whoever opened it closes it."""

    path: str
    """Absolute path of the file, or of the first of several parts."""
    name: str
    """The file's name, for messages."""
    format: str
    """`zip`, `tar`, `tar.gz` and so on."""
    size: int
    """Bytes of the file, or of all parts."""
    extent: tuple[int, int]
    """From where to where in the file it reaches, as far as it was understood; all of several parts."""
    listing: Listing
    """The entries, in the archive's order."""
    facts: Facts
    allowance: Allowance
    """What the download that it is, or lies in, may still demand."""

    @property
    def is_divisible(self) -> bool:
        """Each entry can be read by itself, and several threads can read at once."""
        ...

    def unlock(self) -> None:
        """Check that locked entries can be read, before anything is staged.

        Does nothing if nothing is locked. Raises PasswordNeeded or WrongPassword.
        """
        ...

    def refuse_unreadable(self, rows: Iterable[int]) -> None:
        """Raise UnreadableArchive for the first of these whose compression or cipher is listed as unknown."""
        ...

    def stream(self, rows: Sequence[int]) -> Iterator[tuple[int, Iterator[bytes]]]:
        """Yield the content of these files, in the archive's fastest order.

        Blocks are at most `BLOCK` bytes, or `WHOLE` if there is only one. Read each content to its end before the next;
        the end is reached only if its checksum is right. Raises DamagedArchive or UnreadableArchive, which name the
        entry.
        """
        ...

    def close(self) -> None:
        """Close the file; may be repeated."""
        ...


def digests_of(archive: Archive, rows: Sequence[int]) -> dict[int, bytes]:
    """Return the BLAKE3 digests of these files' content, 32 bytes each."""
    digests = {}
    for row, blocks in archive.stream(rows):
        digest = blake3()
        for block in blocks:
            digest.update(block)
        digests[row] = digest.digest()
    return digests


def read_through(archive: Archive, rows: Sequence[int], tell: Callable[[int, int], None]) -> None:
    """Read these files to their ends without keeping anything; `tell` gets each row with its size in bytes."""
    for row, blocks in archive.stream(rows):
        tell(row, sum(map(len, blocks)))
