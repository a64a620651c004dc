"""Derive the key of a member or header that RAR 3 or 4 locked.

Source: published analyses of the format: SHA-1 over the password, the salt and a counter, 2^18 times.
"""

import hashlib

_ROUNDS = 1 << 18
_EVERY = _ROUNDS // 16
"""Rounds after which one byte of the first block is taken."""
LONGEST_PASSWORD = 28
"""Characters. Packers of that time changed longer ones while they hashed them, in a way that is not published."""


def third_key(password: str, salt: bytes) -> tuple[bytes, bytes]:
    """Return the AES-128 key and the initialisation vector of 16 bytes."""
    seed = password.encode("utf-16-le") + salt
    digest = hashlib.sha1(usedforsecurity=False)
    before = bytearray()
    for begin in range(0, _ROUNDS, _EVERY):
        digest.update(seed + begin.to_bytes(3, "little"))
        before.append(digest.digest()[19])
        digest.update(b"".join(seed + count.to_bytes(3, "little") for count in range(begin + 1, begin + _EVERY)))
    key = digest.digest()[:16]
    # The format stores the key's four words in the other byte order.
    return b"".join(key[at : at + 4][::-1] for at in range(0, 16, 4)), bytes(before)
