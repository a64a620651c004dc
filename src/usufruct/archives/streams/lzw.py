"""The LZW of compress (`.Z`), in bounded memory.

A magic number of two bytes and a byte with the largest code width and a reset flag; then codes of 9 to 16 bits, lowest
bit first, in groups of eight. When the width changes or the table is reset, the rest of the group is padding. The
layout is that of compress 4, which is in the public domain; it has neither a checksum nor an end marker.
"""

from collections.abc import Iterator
from typing import IO

from usufruct.archives.reading import BLOCK

_STEP = 1 << 18
"""Packed bytes that are read at once."""
_NARROWEST, _WIDEST = 9, 16
"""Bits of a code."""
_FORGET = 256
"""The code that forgets all but those of single bytes, in streams that have it."""
_MAY_FORGET, _WIDTH = 0x80, 0x1F
"""Of the third byte: whether codes may be forgotten, and how wide they become."""
_TAIL = 32
"""Bytes of its text that a code keeps itself: a longer text leans on another code's, or it could fill the memory."""


def unlzw(file: IO[bytes]) -> Iterator[bytes]:
    """Yield the content of a compress file. Raises EOFError or ValueError if it is invalid."""
    head = file.read(3)
    if len(head) < 3:
        raise EOFError("the packed bytes end too early")
    widest = head[2] & _WIDTH
    if not _NARROWEST <= widest <= _WIDEST:
        raise ValueError(f"its codes would have up to {widest} bits")
    forget = _FORGET if head[2] & _MAY_FORGET else -1
    # Code → the last bytes of its text, and the code of the text before them.
    tails = [bytes((value,)) for value in range(256)]
    leans = [-1] * 256
    if forget >= 0:
        tails.append(b"")
        leans.append(-1)
    first_free, most = len(tails), 1 << widest
    free, width, limit = first_free, _NARROWEST, (1 << _NARROWEST) - 1
    old, text = -1, b""
    plain: list[bytes] = []
    size, at, packed = 0, 0, b""
    while True:
        if len(packed) - at < _WIDEST:
            packed, at = packed[at:], 0
            while len(packed) < _WIDEST and (more := file.read(_STEP)):
                packed += more
            if not packed:
                break
        group = packed[at : at + width]
        at += width
        bits, mask = int.from_bytes(group, "little"), (1 << width) - 1
        for _ in range(len(group) * 8 // width):
            code = bits & mask
            bits >>= width
            if code == forget:
                del tails[first_free:], leans[first_free:]
                free, width, limit, old = first_free, _NARROWEST, (1 << _NARROWEST) - 1, -1
                break
            if code < free:
                text = tails[code]
                if (lean := leans[code]) >= 0:
                    text = _whole(text, lean, tails, leans)
                first = text[:1]
            elif code == free and old >= 0:
                first = text[:1]
                text += first
            else:
                raise ValueError("it holds a code that stands for nothing")
            plain.append(text)
            size += len(text)
            if old < 0:
                if code > 0xFF:
                    raise ValueError("it holds a code that stands for nothing")
            elif free < most:
                if len(tail := tails[old]) < _TAIL:
                    tails.append(tail + first)
                    leans.append(leans[old])
                else:
                    tails.append(first)
                    leans.append(old)
                free += 1
                if free > limit:
                    width += 1
                    limit = most if width == widest else (1 << width) - 1
                    old = code
                    break
            old = code
        if size >= BLOCK:
            yield b"".join(plain)
            plain, size = [], 0
    yield b"".join(plain)


def _whole(tail: bytes, lean: int, tails: list[bytes], leans: list[int]) -> bytes:
    parts = [tail]
    while lean >= 0:
        parts.append(tails[lean])
        lean = leans[lean]
    parts.reverse()
    return b"".join(parts)
