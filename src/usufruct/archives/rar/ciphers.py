"""The ciphers of the generations before AES, and the key of the third one.

Source: XADMaster (XADRAR15CryptHandle.m, XADRAR20CryptHandle.m, XADRARAESHandle.m, RARBug.c, LGPL).
"""

import hashlib
import struct
from collections.abc import Iterable, Iterator

_POLYNOMIAL = 0xEDB88320
"""Of CRC-32, reversed: 0xEDB88320."""


def _checksums() -> tuple[int, ...]:
    found = []
    for value in range(256):
        for _ in range(8):
            value = value >> 1 ^ (_POLYNOMIAL if value & 1 else 0)
        found.append(value)
    return tuple(found)


_CHECKSUMS = _checksums()
"""CRC-32 of each byte, as the ciphers mix it in."""
_LONGEST = 127
"""Bytes of a password that count."""


def first_deciphered(blocks: Iterable[bytes], password: bytes) -> Iterator[bytes]:
    """Plain bytes of what RAR 1.5 locked: a stream of bytes from four words of the password."""
    checksum = 0xFFFFFFFF
    first = second = third = fourth = 0
    for byte in password:
        checksum = checksum >> 8 ^ _CHECKSUMS[(checksum ^ byte) & 0xFF]
        third ^= byte ^ _CHECKSUMS[byte]
        fourth += byte + (_CHECKSUMS[byte] >> 16)
    first, second, third, fourth = checksum & 0xFFFF, checksum >> 16, third & 0xFFFF, fourth & 0xFFFF
    for block in blocks:
        plain = bytearray(block)
        for at, byte in enumerate(block):
            first = first + 0x1234 & 0xFFFF
            mixed = _CHECKSUMS[first >> 1 & 0xFF]
            second = (second ^ mixed) & 0xFFFF
            third = third - (mixed >> 16) & 0xFFFF
            first ^= third
            fourth = (fourth >> 1 | fourth << 15 & 0xFFFF) ^ second
            fourth = fourth >> 1 | fourth << 15 & 0xFFFF
            first ^= fourth
            plain[at] = byte ^ first >> 8
        yield bytes(plain)


_WORDS = struct.Struct("<4L")
"""A block of the second cipher."""
_ROUNDS = 32
"""Of the second cipher."""
_FIRST_KEY = (0xD3A3B879, 0x3F6D12F7, 0x7515A235, 0xA4E7F123)
"""What the second cipher's key begins as, from the source named above."""
_FIRST_TABLE = bytes.fromhex(
    "d713952349c5c0cdf91c107730dd022ae801b1e90e58db19dfc3f45a57ef9989ffc793465c42f60dd8283e1dd9e656064718abc4"
    "6571da7b5d5ba3b2ca432ceb6bfa4bea31a77dd353729d9020c18f249e7cf7bb59d68d2f79e43d82d5c2aefb616e36e57339985e"
    "69f3d437d1f53f0ba4c81f9c51b0e3154c638bbc7f11f833cf78bdd208e22948b7cb87a5a63c62077a269baa45acfcee27863b80"
    "ec1bf050830355ce914f9a8e9fdcc9854a401481e0b98a67adb62b22fe52c697e7b43a0a761a660c328416bf886fa2b32d04946c"
    "a1384e7ef2de0faf921721f1b5be4de1002ea9ba445fed4135d0fda80912643474b8a0606d251e6a8c689605cc757054"
)
"""What the second cipher's table begins as, from the source named above."""


class SecondCipher:
    """What RAR 2 locked: blocks of 16 bytes in 32 rounds, where each block changes the key of the next."""

    def __init__(self, password: bytes) -> None:
        password = password[:_LONGEST]
        self._key = list(_FIRST_KEY)
        self._set_table(password)
        padded = password + bytes(-len(password) % 16)
        for at in range(0, len(password), 16):
            self._turn(padded[at : at + 16], is_locking=True)

    def deciphered(self, blocks: Iterable[bytes]) -> Iterator[bytes]:
        """Plain bytes of locked ones; what is less than a block at the end is left out."""
        rest = b""
        for block in blocks:
            data = rest + block
            whole = len(data) // 16 * 16
            rest = data[whole:]
            yield b"".join([self._turn(data[at : at + 16], is_locking=False) for at in range(0, whole, 16)])

    def _set_table(self, password: bytes) -> None:
        table = bytearray(_FIRST_TABLE)
        padded = password + b"\0"
        for turn in range(256):
            for at in range(0, len(password), 2):
                low = _CHECKSUMS[padded[at] - turn & 0xFF] & 0xFF
                high = _CHECKSUMS[padded[at + 1] + turn & 0xFF] & 0xFF
                step = 1
                while low != high:
                    other = low + at + step & 0xFF
                    table[low], table[other] = table[other], table[low]
                    low = low + 1 & 0xFF
                    step += 1
        self._tables = [[value << shift for value in table] for shift in (0, 8, 16, 24)]

    def _turn(self, block: bytes, *, is_locking: bool) -> bytes:
        key = self._key
        zero, one, two, three = self._tables
        a, b, c, d = (word ^ part for word, part in zip(_WORDS.unpack(block), key, strict=True))
        for turn in range(_ROUNDS) if is_locking else range(_ROUNDS - 1, -1, -1):
            part = key[turn & 3]
            mixed = (c + (d << 11 & 0xFFFFFFFF | d >> 21)) ^ part
            a ^= zero[mixed & 255] | one[mixed >> 8 & 255] | two[mixed >> 16 & 255] | three[mixed >> 24 & 255]
            mixed = (d ^ (c << 17 & 0xFFFFFFFF | c >> 15)) + part
            b ^= zero[mixed & 255] | one[mixed >> 8 & 255] | two[mixed >> 16 & 255] | three[mixed >> 24 & 255]
            a, b, c, d = c, d, a, b
        made = _WORDS.pack(c ^ key[0], d ^ key[1], a ^ key[2], b ^ key[3])
        locked = made if is_locking else block
        for at in range(0, 16, 4):
            for place in range(4):
                key[place] ^= _CHECKSUMS[locked[at + place]]
        return made


# --- the key of the third generation -----------------------------------------------------------------------

_TURNS = 0x40000
"""0x40000 rounds of SHA-1 make the third key."""
_PARTS = 16
"""Each of them gives a byte of the initial vector."""
_SHA_BLOCK = 64
"""Bytes of a block of SHA-1, FIPS 180-4."""


def third_key(password: str, salt: bytes, *, harms_long: bool) -> tuple[bytes, bytes]:
    """AES key and first block of what RAR 3 locked.

    With `harms_long`, as most packers are, its SHA-1 writes over what it is given: of a password with salt that is
    longer than a block, the part that it takes directly is left changed, for all turns that follow.
    """
    seed = password[:_LONGEST].encode("utf-16-le") + salt
    if harms_long and len(seed) > _SHA_BLOCK:
        return _long_key(bytearray(seed))
    made = hashlib.sha1()
    start = bytearray()
    each = _TURNS // _PARTS
    for part in range(_PARTS):
        first = part * each
        made.update(seed + first.to_bytes(3, "little"))
        start.append(made.digest()[19])
        made.update(b"".join(seed + turn.to_bytes(3, "little") for turn in range(first + 1, first + each)))
    return _swapped(made.digest()), bytes(start)


def _long_key(seed: bytearray) -> tuple[bytes, bytes]:
    made = hashlib.sha1()
    start = bytearray()
    taken, size = 0, len(seed)
    for turn in range(_TURNS):
        made.update(seed)
        # Blocks that are whole in the seed itself are worked on where they lie.
        for at in range(_SHA_BLOCK - taken % _SHA_BLOCK, size - _SHA_BLOCK + 1, _SHA_BLOCK):
            seed[at : at + _SHA_BLOCK] = _worked_on(seed[at : at + _SHA_BLOCK])
        made.update(turn.to_bytes(3, "little"))
        taken += size + 3
        if turn % (_TURNS // _PARTS) == 0:
            start.append(made.digest()[19])
    return _swapped(made.digest()), bytes(start)


def _swapped(digest: bytes) -> bytes:
    return b"".join(digest[at : at + 4][::-1] for at in range(0, 16, 4))


def _schedule(block: bytes) -> bytes:
    """The last sixteen words that SHA-1 spreads a block to, the lowest byte first."""
    words = list(struct.unpack(">16L", block))
    for _ in range(_SHA_BLOCK):
        mixed = words[-3] ^ words[-8] ^ words[-14] ^ words[-16]
        words.append(mixed << 1 & 0xFFFFFFFF | mixed >> 31)
    return struct.pack("<16L", *words[-16:])


_spread: list[list[int]] = []
"""Place and byte → its share of the schedule, which is the XOR of all shares; made when it is first needed."""


def _worked_on(block: bytes | bytearray) -> bytes:
    if not _spread:
        for place in range(_SHA_BLOCK):
            shares = [0]
            for bit in range(8):
                alone = bytes(place) + bytes((1 << bit,)) + bytes(_SHA_BLOCK - 1 - place)
                share = int.from_bytes(_schedule(alone), "little")
                shares += [share ^ other for other in shares]
            _spread.append(shares)
    mixed = 0
    for shares, byte in zip(_spread, block, strict=True):
        mixed ^= shares[byte]
    return mixed.to_bytes(_SHA_BLOCK, "little")
