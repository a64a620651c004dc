"""The cipher of 7z: AES-256; the key is derived from the password in many rounds.

The layout of its properties is that of the public domain LZMA SDK.
"""

import hashlib
from collections.abc import Iterator
from functools import lru_cache
from typing import Protocol

from usufruct.archives.seven.folders import SevenFault

BLOCK = 16
"""Bytes of a block of AES, FIPS 197."""
_MOST_ROUNDS = 24
"""Power of two: keys of more rounds would take years to make."""
_NO_ROUNDS = 0x3F
"""The stated power of two that means no rounds at all."""
_STEP = 1 << 12


class CbcCipher(Protocol):
    """AES in CBC mode."""

    def encrypt(self, plaintext: bytes) -> bytes:
        """Encrypt whole blocks."""
        ...

    def decrypt(self, ciphertext: bytes) -> bytes:
        """Decrypt whole blocks."""
        ...


def cipher_of(properties: bytes, password: str) -> CbcCipher:
    """Return the cipher that a method's properties describe, for one direction only."""
    from Cryptodome.Cipher import AES

    if len(properties) < 2:
        raise SevenFault("it is locked in an unknown way")
    rounds = properties[0] & 0x3F
    salt_size = (properties[0] >> 7) + (properties[1] >> 4)
    first_size = (properties[0] >> 6 & 1) + (properties[1] & 15)
    salt, first = properties[2 : 2 + salt_size], properties[2 + salt_size : 2 + salt_size + first_size]
    if rounds > _MOST_ROUNDS and rounds != _NO_ROUNDS:
        raise SevenFault("its key is made in more rounds than is sane")
    return AES.new(_key(password, salt, rounds), AES.MODE_CBC, first.ljust(BLOCK, b"\0"))


def deciphered(blocks: Iterator[bytes], properties: bytes, password: str) -> Iterator[bytes]:
    """Yield the plain bytes; an incomplete block at the end is left out."""
    cipher, rest = cipher_of(properties, password), b""
    for block in blocks:
        data = rest + block
        whole = len(data) // BLOCK * BLOCK
        rest = data[whole:]
        if whole:
            yield cipher.decrypt(data[:whole])


# A key takes a tenth of a second or more, and all folders of an archive share one.
@lru_cache(maxsize=8)
def _key(password: str, salt: bytes, rounds: int) -> bytes:
    seed = salt + password.encode("utf-16-le")
    if rounds == _NO_ROUNDS:
        return seed[:32].ljust(32, b"\0")
    made = hashlib.sha256()
    for first in range(0, 1 << rounds, _STEP):
        last = min(first + _STEP, 1 << rounds)
        made.update(b"".join(seed + number.to_bytes(8, "little") for number in range(first, last)))
    return made.digest()


def forget_keys() -> None:
    """Clear all cached keys: no password or key outlives its archive."""
    _key.cache_clear()
