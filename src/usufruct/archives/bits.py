"""Read packed bytes bit by bit, highest bit first.

A decoder copies `acc`, `have` and `words` into local variables while it runs, and writes them back when it stops: a
call for every symbol would take longer than the symbol itself.
"""

import sys
from array import array
from collections.abc import Iterable, Iterator
from itertools import chain

MASKS = tuple((1 << count) - 1 for count in range(256))
"""The lowest bits, by how many."""
_WORD = 4
_BEYOND = 4
"""Words of zeros that may be looked at behind the end: no symbol with what belongs to it is longer."""


class PackedFault(Exception):
    """The packed bytes are invalid; the message says how."""


class Bits:
    """Reads bits from blocks of packed bytes. After the end it supplies a few zeros, then raises PackedFault."""

    __slots__ = ("acc", "have", "words")

    def __init__(self, blocks: Iterable[bytes]) -> None:
        self.acc = 0
        """The lowest `have` bits are those that come next; what stands above is over."""
        self.have = 0
        self.words = chain.from_iterable(_words(blocks))
        """What follows, 32 bits at once."""

    def take(self, count: int) -> int:
        """Return the next bits as a number, 32 at most."""
        while self.have < count:
            self.refill()
        self.have -= count
        return self.acc >> self.have & MASKS[count]

    def refill(self) -> None:
        """Load 32 more bits."""
        word = next(self.words, None)
        if word is None:
            raise PackedFault("the packed bytes end too early")
        self.acc = (self.acc & MASKS[self.have]) << 32 | word
        self.have += 32

    def is_over(self, least: int) -> bool:
        """Whether fewer than `least` bytes follow; consumes nothing."""
        while self.have < 8 * least + 32 * _BEYOND:
            word = next(self.words, None)
            if word is None:
                return True
            self.acc = (self.acc & MASKS[self.have]) << 32 | word
            self.have += 32
        return False

    def to_byte(self) -> None:
        """Skip the rest of the current byte."""
        self.have -= self.have % 8


def as_words(data: bytes) -> "array[int]":
    """Return the bytes as words of 32 bits; the last is padded with zeros."""
    words = array("I" if array("I").itemsize == _WORD else "L")
    words.frombytes(data + bytes(-len(data) % _WORD))
    if sys.byteorder == "little":
        words.byteswap()
    return words


def _words(blocks: Iterable[bytes]) -> Iterator["array[int]"]:
    rest = b""
    for block in blocks:
        data = rest + block if rest else block
        whole = len(data) // _WORD * _WORD
        rest = data[whole:]
        yield as_words(data[:whole])
    yield as_words(rest + bytes(_WORD * _BEYOND))
