"""Packers for tests, as plain as can be: matches, filters and text as RAR 3 packs them, and literals as RAR 5 does."""

import functools
import operator
import random
import zlib
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from usufruct.archives.rar.text import TextModel

_SIZES_3 = (299, 60, 17, 28)
_SIZES_5 = (306, 64, 16, 44)
_LENGTH_BITS = (0,) * 8 + (1,) * 4 + (2,) * 4 + (3,) * 4 + (4,) * 4 + (5,) * 4
_SHORT_BITS = (2, 2, 3, 4, 5, 6, 6, 6)
_FAR_BITS = (0, 0, *(bits for bits in range(17) for _ in range(2)), *(16,) * 12, *(18,) * 12)


@dataclass(frozen=True)
class Match:
    length: int
    distance: int
    is_short: bool = False


@dataclass(frozen=True)
class Recent:
    """A match at one of the last four distances."""

    number: int
    length: int


@dataclass(frozen=True)
class Again:
    """The last match once more."""


@dataclass(frozen=True)
class Change:
    """A filter over a stretch that begins so many bytes behind this place; with its program where that is new."""

    after: int
    size: int
    program: bytes = b""
    registers: tuple[tuple[int, int], ...] = ()
    number: int = 0
    """0 forgets the programs that came before; else the program of this number, counted from 1."""


Token = int | Match | Recent | Again | Change


class _Bits:
    def __init__(self) -> None:
        self.value = self.count = 0

    def put(self, value: int, count: int) -> None:
        self.value, self.count = self.value << count | value, self.count + count

    def bytes(self) -> bytes:
        fill = -self.count % 8
        return (self.value << fill).to_bytes((self.count + fill) // 8, "big")


def meant(tokens: Iterable[Token], before: bytes = b"") -> bytes:
    """What tokens stand for, behind what came before them."""
    out, recent, last = bytearray(before), [0] * 4, 0
    for token in tokens:
        if isinstance(token, int):
            out.append(token)
        elif isinstance(token, Match | Recent | Again):
            if isinstance(token, Match):
                recent, last = [token.distance, *recent[:3]], token.length
            elif isinstance(token, Recent):
                recent.insert(0, recent.pop(token.number))
                last = token.length
            for _ in range(last):
                out.append(out[-recent[0]])
    return bytes(out[len(before) :])


def tokens_of(content: bytes, window: int = 1 << 22, longest: int = 250) -> list[Token]:
    """Content as literals and matches, each found at the last place where three bytes were the same."""
    seen: dict[bytes, int] = {}
    tokens: list[Token] = []
    at = 0
    while at < len(content):
        key = content[at : at + 3]
        found = seen.get(key)
        seen[key] = at
        length = 0
        if found is not None and at - found <= window and len(key) == 3:
            while length < longest and at + length < len(content) and content[found + length] == content[at + length]:
                length += 1
        distance = at - (found or 0)
        # Far matches are longer than what is written for them.
        if length > 2 + (distance >= 0x2000) + (distance >= 0x40000):
            tokens.append(Match(length, distance))
            at += length
        else:
            tokens.append(content[at])
            at += 1
    return tokens


def _slot(value: int, bits: Sequence[int]) -> tuple[int, int, int]:
    """Which symbol stands for a value, the value of its further bits, and how many they are."""
    base = 0
    for slot, count in enumerate(bits):
        if value < base + (1 << count):
            return slot, value - base, count
        base += 1 << count
    raise ValueError(value)


_Step = tuple[int | None, int, int]
"""Number of the code (None: plain bits), symbol or value, bits where it is plain."""


def _steps3(tokens: Iterable[Token]) -> list[_Step]:
    steps: list[_Step] = []
    for token in tokens:
        if isinstance(token, int):
            steps.append((0, token, 0))
        elif isinstance(token, Again):
            steps.append((0, 258, 0))
        elif isinstance(token, Recent):
            slot, rest, count = _slot(token.length - 2, _LENGTH_BITS)
            steps += [(0, 259 + token.number, 0), (3, slot, 0), (None, rest, count)]
        elif isinstance(token, Change):
            steps += [(0, 257, 0), *((None, byte, 8) for byte in filter_code(token))]
        elif token.is_short:
            slot, rest, count = _slot(token.distance - 1, _SHORT_BITS)
            steps += [(0, 263 + slot, 0), (None, rest, count)]
        else:
            longer = (token.distance >= 0x2000) + (token.distance >= 0x40000)
            slot, rest, count = _slot(token.length - 3 - longer, _LENGTH_BITS)
            steps += [(0, 271 + slot, 0), (None, rest, count)]
            slot, rest, count = _slot(token.distance - 1, _FAR_BITS)
            steps.append((1, slot, 0))
            if slot < 10:
                steps.append((None, rest, count))
            else:
                steps += [(None, rest >> 4, count - 4), (2, rest & 15, 0)]
    return steps


def _code(used: Sequence[int]) -> dict[int, tuple[int, int]]:
    """Symbols with their bits, of two lengths at most, so that no bits stand for nothing; shorter ones first."""
    width = max(1, (len(used) - 1).bit_length())
    shorter = (1 << width) - len(used)
    code, place = {}, 0
    for number, symbol in enumerate(used):
        if number == shorter:
            place <<= 1
        code[symbol] = (place, width - (number < shorter))
        place += 1
    return code


def _codes(steps: Iterable[_Step], sizes: Sequence[int]) -> list[dict[int, tuple[int, int]]]:
    """For each code its symbols with their bits."""
    codes = []
    for number in range(len(sizes)):
        used = sorted({symbol for code, symbol, _ in steps if code == number})
        if len(used) == 1:
            used = sorted({*used, (used[0] + 1) % sizes[number]})
        codes.append(_code(used) if used else {})
    return codes


_FOR_LENGTHS = _code(range(20))


def _put_lengths(
    bits: _Bits, codes: Sequence[dict[int, tuple[int, int]]], sizes: Sequence[int], before: list[int]
) -> None:
    for symbol in range(20):
        bits.put(_FOR_LENGTHS[symbol][1], 4)
    for at, length in enumerate(_lengths(codes, sizes)):
        bits.put(*_FOR_LENGTHS[length - before[at] & 15])


def _lengths(codes: Sequence[dict[int, tuple[int, int]]], sizes: Sequence[int]) -> list[int]:
    return [code.get(symbol, (0, 0))[1] for code, size in zip(codes, sizes, strict=True) for symbol in range(size)]


def _put_steps(bits: _Bits, steps: Iterable[_Step], codes: Sequence[dict[int, tuple[int, int]]]) -> None:
    for code, symbol, count in steps:
        if code is None:
            bits.put(symbol, count)
        else:
            bits.put(*codes[code][symbol])


def packed3(blocks: Sequence[Iterable[Token]], *, keeps: bool = False) -> bytes:
    """A member of RAR 3 in blocks with codes of their own; `keeps`: each counts its lengths from those before."""
    out = b""
    before = [0] * sum(_SIZES_3)
    for number, tokens in enumerate(blocks):
        steps = [*_steps3(tokens), (0, 256, 0)]
        codes = _codes(steps, _SIZES_3)
        bits = _Bits()
        bits.put(0, 1)
        bits.put(1 if keeps and number else 0, 1)
        _put_lengths(bits, codes, _SIZES_3, before)
        before = _lengths(codes, _SIZES_3) if keeps else before
        _put_steps(bits, steps, codes)
        # Behind the end of a block: the same file in another block, or the next file with codes of its own.
        bits.put(*((1, 1) if number < len(blocks) - 1 else (1, 2)))
        out += bits.bytes()
    return out


def packed3_in_turn(members: Sequence[Sequence[Token]]) -> list[bytes]:
    """Members of a solid stream that all go on with the codes of the first."""
    every = [step for tokens in members for step in _steps3(tokens)]
    codes = _codes([*every, (0, 256, 0)], _SIZES_3)
    made = []
    for number, tokens in enumerate(members):
        bits = _Bits()
        if not number:
            bits.put(0, 2)
            _put_lengths(bits, codes, _SIZES_3, [0] * sum(_SIZES_3))
        _put_steps(bits, [*_steps3(tokens), (0, 256, 0)], codes)
        bits.put(0, 2)
        made.append(bits.bytes())
    return made


def packed5(tokens: Iterable[int | Match]) -> bytes:
    """A member of RAR 5 in one block: literals, and matches of up to 9 bytes up to four bytes away."""
    steps: list[_Step] = []
    for token in tokens:
        if isinstance(token, int):
            steps.append((0, token, 0))
        else:
            steps += [(0, 262 + token.length - 2, 0), (1, token.distance - 1, 0)]
    codes = _codes(steps, _SIZES_5)
    bits = _Bits()
    _put_lengths(bits, codes, _SIZES_5, [0] * sum(_SIZES_5))
    _put_steps(bits, steps, codes)
    body = bits.bytes()
    sizes = len(body).to_bytes(3, "little")
    flags = 0x80 | 0x40 | 2 << 3 | (bits.count - 1) % 8
    check = 0x5A ^ flags ^ sizes[0] ^ sizes[1] ^ sizes[2]
    return bytes((flags, check)) + sizes + body


# --- filters -------------------------------------------------------------------------------------------------


def _put_number(bits: _Bits, value: int) -> None:
    if value < 16:
        bits.put(value, 6)
    elif value < 1 << 16:
        bits.put(2 << 16 | value, 18)
    else:
        bits.put(3 << 32 | value, 34)


def filter_code(change: Change) -> bytes:
    """The bytes that tell a filter."""
    bits = _Bits()
    flags = 0xA0 | (0x10 if change.registers else 0)
    _put_number(bits, change.number)
    _put_number(bits, change.after)
    _put_number(bits, change.size)
    if change.registers:
        bits.put(sum(1 << number for number, _ in change.registers), 7)
        for _, value in sorted(change.registers):
            _put_number(bits, value)
    if change.program:
        _put_number(bits, len(change.program))
        for byte in change.program:
            bits.put(byte, 8)
    code = bits.bytes()
    if len(code) <= 6:
        return bytes((flags | len(code) - 1,)) + code
    return bytes((flags | 7,)) + len(code).to_bytes(2, "big") + code


def program_of(size: int, checksum: int) -> bytes:
    """Bytes of this length and CRC-32, the first of which is the sum of the others as each program's is."""
    table = [zlib.crc32(bytes((byte,)), 0xFFFF_FFFF) ^ 0xFFFF_FFFF for byte in range(256)]
    of_top = {entry >> 24: byte for byte, entry in enumerate(table)}
    chance = random.Random(size)
    while True:
        # A second byte above 0x7F would say that data comes with the program.
        head = bytes((chance.randrange(256), chance.randrange(128))) + chance.randbytes(size - 6)
        # The four bytes that lead from the checksum of the head to the one that is wanted, the last one first.
        state, wanted, steps = zlib.crc32(head) ^ 0xFFFF_FFFF, checksum ^ 0xFFFF_FFFF, []
        for _ in range(4):
            steps.append(of_top[wanted >> 24])
            wanted = (wanted ^ table[steps[-1]]) << 8 & 0xFFFF_FFFF
        tail = bytearray()
        for step in reversed(steps):
            tail.append(step ^ state & 0xFF)
            state = state >> 8 ^ table[step]
        code = head + bytes(tail)
        if not functools.reduce(operator.xor, code):
            assert zlib.crc32(code) == checksum
            return code


# --- text ----------------------------------------------------------------------------------------------------


class TextPacker:
    """Writes text by the model that reads it, which must not be asked what it can be told: where a symbol lies."""

    def __init__(self, order: int = 6, megabytes: int = 1) -> None:
        self._head = bytes((0x80 | 0x20 | order - 1, megabytes - 1))
        self._model = TextModel(order, megabytes << 20)
        self._model.coder = self
        self._begin()

    def _begin(self) -> None:
        self._low, self._range, self._out = 0, 0xFFFF_FFFF, bytearray()

    def threshold(self, total: int) -> int:
        """See `SymbolCoder`: the place that leads to the symbol that is to be written."""
        self._range //= total
        states = self._model.least.states
        if len(states) == 1:
            if states[0].symbol == self._wanted:
                return 0
            self._masked = {states[0].symbol}
            return total - 1
        place = 0
        for state in states:
            if state.symbol == self._wanted:
                return place
            if state.symbol not in self._masked:
                place += state.count
        self._masked |= {state.symbol for state in states}
        return place

    def narrow(self, start: int, size: int) -> None:
        """See `SymbolCoder`."""
        self._low, self._range = self._low + start * self._range & 0xFFFF_FFFF, self._range * size
        while True:
            if (self._low ^ self._low + self._range) & 0xFFFF_FFFF >= 1 << 24:
                if self._range >= 1 << 15:
                    return
                self._range = -self._low & 0x7FFF
            self._out.append(self._low >> 24)
            self._low, self._range = self._low << 8 & 0xFFFF_FFFF, self._range << 8 & 0xFFFF_FFFF

    def put(self, symbols: Iterable[int]) -> None:
        """Write symbols as they are."""
        for symbol in symbols:
            self._wanted, self._masked = symbol, set[int]()
            assert self._model.symbol() == symbol

    def text(self, content: bytes) -> None:
        """Write content; the sign itself is written as the sign and what stands for it."""
        for byte in content:
            self.put((2, 1) if byte == 2 else (byte,))

    def block(self) -> bytes:
        """What was written, as a block of its own; the next one goes on with the model."""
        for shift in (24, 16, 8, 0):
            self._out.append(self._low >> shift & 0xFF)
        made, self._head = self._head + bytes(self._out), b"\x80"
        self._begin()
        return made
