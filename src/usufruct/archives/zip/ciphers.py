"""The two ciphers of zip: the classic one, and AES.

The classic one is in chapter 6 of the format's application note, AES in the published specification of its records
"AE-1" and "AE-2".
"""

import hashlib
import hmac
import os
from collections.abc import Iterable, Iterator

from msgspec import Struct

CLASSIC_HEAD = 12
"""Bytes that the classic cipher puts before the data."""
_AES_ROUNDS = 1000
"""Of PBKDF2, as the specification has it."""
_AES_MAC = 10
"""Bytes of the proof behind the content."""

_CRC_TABLE = tuple(
    (lambda value: [value := (value >> 1) ^ (0xEDB88320 if value & 1 else 0) for _ in range(8)][-1])(number)
    for number in range(256)
)
"""CRC-32 of each byte, by the reversed polynomial 0xEDB88320."""


class ClassicCipher:
    """The cipher of the first zips: weak, but still in use. Three running keys, one byte at a time."""

    def __init__(self, password: bytes) -> None:
        self._keys = 0x12345678, 0x23456789, 0x34567890
        self._stir(password)

    def _stir(self, plain: bytes) -> None:
        first, second, third = self._keys
        for byte in plain:
            first = (first >> 8) ^ _CRC_TABLE[(first ^ byte) & 0xFF]
            second = ((second + (first & 0xFF)) * 134775813 + 1) & 0xFFFFFFFF
            third = (third >> 8) ^ _CRC_TABLE[(third ^ (second >> 24)) & 0xFF]
        self._keys = first, second, third

    def decrypt(self, data: bytes) -> bytes:
        """Return the next bytes deciphered; call it in order."""
        table = _CRC_TABLE
        first, second, third = self._keys
        plain = bytearray(len(data))
        for index, byte in enumerate(data):
            pad = (third & 0xFFFF) | 2
            byte ^= ((pad * (pad ^ 1)) >> 8) & 0xFF
            plain[index] = byte
            first = (first >> 8) ^ table[(first ^ byte) & 0xFF]
            second = ((second + (first & 0xFF)) * 134775813 + 1) & 0xFFFFFFFF
            third = (third >> 8) ^ table[(third ^ (second >> 24)) & 0xFF]
        self._keys = first, second, third
        return bytes(plain)


def classic_fits(password: str, head: bytes, check: int) -> bool:
    """Whether the last byte of the deciphered header is as expected; one wrong password in 256 passes."""
    plain = ClassicCipher(password.encode("utf-8")).decrypt(head[:CLASSIC_HEAD])
    return len(plain) == CLASSIC_HEAD and plain[-1] == check


def unlock_classic(password: str, blocks: Iterable[bytes]) -> Iterator[bytes]:
    """Yield the plain bytes after the cipher's header."""
    cipher = ClassicCipher(password.encode("utf-8"))
    left = CLASSIC_HEAD
    for block in blocks:
        plain = cipher.decrypt(block)
        skipped = min(left, len(plain))
        left -= skipped
        if skipped < len(plain):
            yield plain[skipped:]


class AesCipher(Struct, frozen=True):
    """The extra field of an AES entry."""

    has_checksum: bool
    """The entry keeps its CRC-32 beside the cipher's own proof."""
    key_size: int
    """Bytes: 16, 24 or 32."""
    method: int
    """How the plain bytes are packed."""

    @classmethod
    def of(cls, field: bytes) -> "AesCipher | None":
        """Parse the field's bytes; None for an unknown version."""
        if len(field) < 7 or field[2:4] != b"AE" or field[4] not in (1, 2, 3):
            return None
        return cls(field[0] == 1, 8 + 8 * field[4], int.from_bytes(field[5:7], "little"))

    @property
    def salt_size(self) -> int:
        """Return the length of the salt before the data, in bytes."""
        return self.key_size // 2

    @property
    def overhead(self) -> int:
        """Return the packed bytes that are not data: salt, check value, authentication code."""
        return self.salt_size + 2 + _AES_MAC

    def keys(self, password: str, salt: bytes) -> tuple[bytes, bytes, bytes]:
        """Return the cipher's key, the authentication key and the check value of two bytes."""
        size = self.key_size
        made = hashlib.pbkdf2_hmac("sha1", password.encode("utf-8"), salt, _AES_ROUNDS, 2 * size + 2)
        return made[:size], made[size : 2 * size], made[2 * size :]

    def fits(self, password: str, head: bytes) -> bool:
        """Whether the check value after the salt matches the password; one wrong password in 65,536 passes."""
        return self.keys(password, head[: self.salt_size])[2] == head[self.salt_size : self.salt_size + 2]

    def unlock(self, password: str, blocks: Iterable[bytes], packed: int) -> Iterator[bytes]:
        """Yield the plain bytes; ValueError at the end if the authentication code does not match."""
        from Cryptodome.Cipher import AES
        from Cryptodome.Util import Counter

        blocks = iter(blocks)
        head = b""
        while len(head) < self.salt_size + 2:
            head += next(blocks)
        key, proof_key, _ = self.keys(password, head[: self.salt_size])
        cipher = AES.new(key, AES.MODE_CTR, counter=Counter.new(128, little_endian=True, initial_value=1))
        proof = hmac.new(proof_key, digestmod="sha1")
        left = packed - self.overhead
        rest = head[self.salt_size + 2 :]
        stated = b""
        while True:
            data = rest[:left]
            left -= len(data)
            stated += rest[len(data) :]
            if data:
                proof.update(data)
                yield cipher.decrypt(data)
            try:
                rest = next(blocks)
            except StopIteration:
                break
        if left or proof.digest()[:_AES_MAC] != stated[:_AES_MAC]:
            raise ValueError("the cipher's proof does not hold")

    def cipher(self, password: str, blocks: Iterable[bytes]) -> Iterator[bytes]:
        """Yield the encrypted blocks, with a fresh salt."""
        from Cryptodome.Cipher import AES
        from Cryptodome.Util import Counter

        salt = os.urandom(self.salt_size)
        key, proof_key, check = self.keys(password, salt)
        cipher = AES.new(key, AES.MODE_CTR, counter=Counter.new(128, little_endian=True, initial_value=1))
        proof = hmac.new(proof_key, digestmod="sha1")
        yield salt + check
        for block in blocks:
            data = cipher.encrypt(block)
            proof.update(data)
            yield data
        yield proof.digest()[:_AES_MAC]
