"""What all generations of RAR share: members, their pieces in volumes, locks and checksums.

Sources: the technical note of RAR 5 for its keys; BLAKE2sp is in the BLAKE2 paper, sections 2.4 and 2.10.
"""

import hashlib
import hmac
import zlib
from collections.abc import Callable, Iterator
from functools import lru_cache
from typing import Protocol

from msgspec import Struct, field

from usufruct.archives.rar.ciphers import LONGEST_PASSWORD, third_key
from usufruct.files.sources import JoinedSource, SliceSource, Source
from usufruct.model.entries import EntryKind

BLOCK = 1 << 20
"""Bytes that are read at once."""
AES_BLOCK = 16
"""Bytes of a block of AES, FIPS 197."""


class RarFault(Exception):
    """The headers are inconsistent; the message says how and where."""


class VolumeMissing(RarFault):
    """The headers begin in a volume that is missing."""


class RarRefusal(Exception):
    """The archive uses something that cannot be read; the message names it."""


class WrongKey(Exception):
    """The password does not open a locked header."""


class HeaderLocked(Exception):
    """The headers are locked, and no password was given."""


class Piece(Struct, frozen=True):
    """The packed bytes of a member in one volume."""

    volume: int
    offset: int
    size: int
    checksum: int | None
    """CRC-32 of these packed bytes, where the volume states it."""


class Cipher(Protocol):
    """How a member is locked."""

    def fits(self, password: str) -> bool | None:
        """Whether the password is the right one; None where the format has no check."""
        ...

    def deciphered(self, source: Source, password: str) -> Source:
        """A member's packed bytes, from its locked ones."""
        ...

    def tweaked_checksum(self, password: str, checksum: int) -> int:
        """The CRC-32 as the archive states it for this content."""
        ...

    def tweaked_digest(self, password: str, digest: bytes) -> bytes:
        """The digest as the archive states it for this content."""
        ...


class RarMember(Struct):
    """One file, link or directory of a RAR archive."""

    name: str
    raw: bytes = b""
    """The name's bytes where the archive does not say its encoding."""
    kind: EntryKind = EntryKind.FILE
    size: int = 0
    modified: int | None = None
    mode: int = 0
    target: str = ""
    copy_of: str = ""
    """Name of the earlier member whose content this one has."""
    is_junction: bool = False
    is_stored: bool = True
    is_solid: bool = False
    """Needs the members before it to be unpacked."""
    dictionary: int = 0
    """Bytes, where the archive says it."""
    method: int = 0
    version: int = 0
    checksum: int | None = None
    digest: bytes = b""
    """BLAKE2sp of the content."""
    cipher: Cipher | None = None
    pieces: list[Piece] = field(default_factory=list)
    refusal: str = ""
    """Why its content cannot be read."""
    is_old: bool = False
    """A version of a file that the archive keeps beside the latest; no entry, but what follows may lean on it."""
    row: int = -1
    """In the listing; -1 for one that is no entry of it, or unsafe."""

    @property
    def packed(self) -> int:
        """Return the number of packed bytes in all volumes."""
        return sum(piece.size for piece in self.pieces)


def packed_source(volumes: list[Source], member: RarMember) -> Source:
    """Return a member's packed bytes, joined across the volumes."""
    parts: list[Source] = [SliceSource(volumes[piece.volume], piece.offset, piece.size) for piece in member.pieces]
    return parts[0] if len(parts) == 1 else JoinedSource(parts)


class Deciphered:
    """AES-CBC bytes, deciphered at any offset. See `Source`."""

    def __init__(self, locked: Source, key: bytes, start: bytes) -> None:
        self._locked = locked
        self._key = key
        self._start = start
        self.size = locked.size // AES_BLOCK * AES_BLOCK

    def read_at(self, offset: int, count: int) -> bytes:
        """See `Source`. Each block of 16 needs only the one before it, so any place can be read."""
        from Cryptodome.Cipher import AES

        first = offset // AES_BLOCK * AES_BLOCK
        end = min(self.size, -(-(offset + count) // AES_BLOCK) * AES_BLOCK)
        if end <= first:
            return b""
        before = self._locked.read_at(first - AES_BLOCK, AES_BLOCK) if first else self._start
        locked = self._locked.read_at(first, end - first)
        locked = locked[: len(locked) // AES_BLOCK * AES_BLOCK]
        plain = AES.new(self._key, AES.MODE_CBC, before).decrypt(locked)
        return plain[offset - first : offset - first + count]

    def close(self) -> None:
        """Nothing to let go of."""


def blocks_of(source: Source, size: int) -> Iterator[bytes]:
    """Yield the first `size` bytes of a source in blocks; EOFError if it is shorter."""
    offset = 0
    while offset < size:
        block = source.read_at(offset, min(BLOCK, size - offset))
        if not block:
            raise EOFError("the packed bytes end too early")
        offset += len(block)
        yield block


class Blake2sp:
    """BLAKE2sp: eight BLAKE2s leaves that take 64 bytes in turn, and a root over their digests."""

    def __init__(self) -> None:
        self._leaves = [
            hashlib.blake2s(fanout=8, depth=2, node_offset=leaf, inner_size=32, last_node=leaf == 7)
            for leaf in range(8)
        ]
        self._rest = b""

    def update(self, data: bytes) -> None:
        """Add the next bytes."""
        data = self._rest + data
        whole = len(data) // 512 * 512
        view = memoryview(data)
        for leaf, engine in enumerate(self._leaves):
            engine.update(b"".join(view[at : at + 64] for at in range(leaf * 64, whole, 512)))
        self._rest = data[whole:]

    def digest(self) -> bytes:
        """Return the digest of 32 bytes; nothing may be added afterwards."""
        for leaf, engine in enumerate(self._leaves):
            engine.update(self._rest[leaf * 64 : leaf * 64 + 64])
        root = hashlib.blake2s(fanout=8, depth=2, node_depth=1, inner_size=32, last_node=True)
        for engine in self._leaves:
            root.update(engine.digest())
        return root.digest()


class Rar5Cipher(Struct, frozen=True):
    """The lock of a RAR 5 member or of its headers."""

    rounds: int
    """Power of two."""
    salt: bytes
    start: bytes = b""
    """IV of the data."""
    check: bytes = b""
    """12 bytes, or none."""
    is_tweaked: bool = False
    """Checksums are made with the key, so that they tell nothing of the content."""

    def _keys(self, password: str, extra: int) -> bytes:
        return _fifth_key(password, self.salt, (1 << self.rounds) + extra)

    def fits(self, password: str) -> bool | None:
        """See `Cipher`. A damaged check value is told by its own checksum, and ignored."""
        if len(self.check) != 12 or hashlib.sha256(self.check[:8]).digest()[:4] != self.check[8:]:
            return None
        made = self._keys(password, 32)
        folded = bytes(made[n] ^ made[n + 8] ^ made[n + 16] ^ made[n + 24] for n in range(8))
        return folded == self.check[:8]

    def key(self, password: str) -> bytes:
        """Return the AES-256 key."""
        return self._keys(password, 0)

    def deciphered(self, source: Source, password: str) -> Source:
        """See `Cipher`."""
        return Deciphered(source, self.key(password), self.start)

    def tweaked_checksum(self, password: str, checksum: int) -> int:
        """See `Cipher`."""
        if not self.is_tweaked:
            return checksum
        made = hmac.digest(self._keys(password, 16), checksum.to_bytes(4, "little"), "sha256")
        folded = 0
        for at in range(0, 32, 4):
            folded ^= int.from_bytes(made[at : at + 4], "little")
        return folded

    def tweaked_digest(self, password: str, digest: bytes) -> bytes:
        """See `Cipher`."""
        return hmac.digest(self._keys(password, 16), digest, "sha256") if self.is_tweaked else digest


# Each key costs a hundredth of a second or more, and all members of an archive share a few.
@lru_cache(maxsize=32)
def _fifth_key(password: str, salt: bytes, rounds: int) -> bytes:
    return hashlib.pbkdf2_hmac("sha256", password.encode("utf-8"), salt, rounds, 32)


@lru_cache(maxsize=32)
def _third_key(password: str, salt: bytes) -> tuple[bytes, bytes]:
    return third_key(password, salt)


def forget_keys() -> None:
    """Clear all cached keys: no password or key outlives its archive."""
    _fifth_key.cache_clear()
    _third_key.cache_clear()


class Rar4Cipher(Struct, frozen=True):
    """The lock of a RAR 3 or 4 member or header. It has no check value: the checksum reveals a wrong password."""

    salt: bytes

    def fits(self, password: str) -> bool | None:
        """See `Cipher`."""
        return False if len(password) > LONGEST_PASSWORD else None

    def tweaked_checksum(self, password: str, checksum: int) -> int:
        """See `Cipher`."""
        return checksum

    def tweaked_digest(self, password: str, digest: bytes) -> bytes:
        """See `Cipher`."""
        return digest

    def cipher(self, password: str) -> tuple[bytes, bytes]:
        """Return the AES-128 key and the initialisation vector."""
        return _third_key(password, self.salt)

    def deciphered(self, source: Source, password: str) -> Source:
        """See `Cipher`."""
        return Deciphered(source, *self.cipher(password))


class Onward:
    """Blocks that are produced on demand, as a source that is read forwards. See `Source`."""

    def __init__(self, blocks: Iterator[bytes], size: int = 0) -> None:
        self._blocks = blocks
        self._rest = b""
        self.size = size

    def read_at(self, offset: int, count: int) -> bytes:
        """The next bytes, wherever they are asked for."""
        while not self._rest:
            block = next(self._blocks, None)
            if block is None:
                return b""
            self._rest = block
        block, self._rest = self._rest[:count], self._rest[count:]
        return block

    def close(self) -> None:
        """Nothing to let go of."""


def checked(
    member: RarMember, password: str | None, blocks: Iterator[bytes], fail: Callable[[str], Exception]
) -> Iterator[bytes]:
    """Yield a member's content; ends well only if size and checksum or digest are as stated."""
    total = checksum = 0
    digest = Blake2sp() if member.digest else None
    for block in blocks:
        total += len(block)
        if total > member.size:
            raise fail(f"unpacks to more than its stated {member.size} bytes")
        checksum = zlib.crc32(block, checksum)
        if digest:
            digest.update(block)
        yield block
    if total != member.size:
        raise fail(f"unpacks to {total} bytes, not its stated {member.size}")
    made = digest.digest() if digest else b""
    if member.cipher and password is not None:
        checksum = member.cipher.tweaked_checksum(password, checksum)
        made = member.cipher.tweaked_digest(password, made) if digest else made
    if (member.checksum is not None and checksum != member.checksum) or made != member.digest:
        raise fail("does not match its checksum")
