"""Packed streams of RAR's methods, made from given symbols: every corner of a format can be written, sane or not.

A stream is a list of tokens: an int is a byte of content, the others are below. `tokens_of` finds matches in content,
as a simple packer would.
"""

import functools
import heapq
import struct
import zlib
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from Cryptodome.Cipher import AES

from usufruct.archives.rar.ciphers import SecondCipher, first_deciphered
from usufruct.archives.rar.common import Rar4Cipher
from usufruct.archives.rar.text import TextModel


@dataclass(frozen=True)
class Match:
    distance: int
    length: int


@dataclass(frozen=True)
class Recent:
    """A match at one of the four latest distances, the last one first."""

    which: int
    length: int


@dataclass(frozen=True)
class Again:
    """The last match once more."""


@dataclass(frozen=True)
class Change:
    """A filter over `size` bytes from `after` bytes ahead on. RAR 5: `kind` and channels; RAR 3: `program` as well."""

    kind: int
    after: int
    size: int
    channels: int = 1
    program: bytes = b""
    registers: tuple[tuple[int, int], ...] = ()


@dataclass(frozen=True)
class Raw:
    """Symbols as they are: pairs of a code's name and a symbol, or of bits' count and value."""

    parts: tuple[tuple[str | int, int], ...]


Token = int | Match | Recent | Again | Change | Raw


class BitWriter:
    def __init__(self) -> None:
        self._value = self.count = 0
        self._done = bytearray()

    def put(self, value: int, count: int) -> None:
        self._value = self._value << count | value
        self.count += count
        if self.count % 8 == 0 and self.count - 8 * len(self._done) > 1 << 12:
            self._flush()

    def _flush(self) -> None:
        left = self.count - 8 * len(self._done)
        self._done += self._value.to_bytes(left // 8, "big")
        self._value = 0

    def to_byte(self) -> None:
        self.put(0, -self.count % 8)

    def bytes(self) -> bytes:
        self.to_byte()
        self._flush()
        return bytes(self._done)


def code_lengths(counts: Counter[int], size: int, longest: int = 15) -> list[int]:
    """The lengths of a prefix code for symbols that occur so often; at least two symbols have one."""
    weights = {symbol: counts.get(symbol, 0) for symbol in counts} or {0: 1}
    for symbol in (0, 1):
        if len(weights) < 2:
            weights.setdefault(symbol, 1)
    while True:
        heap = [(weight or 1, symbol, (symbol,)) for symbol, weight in sorted(weights.items())]
        heapq.heapify(heap)
        lengths = dict.fromkeys(weights, 0)
        while len(heap) > 1:
            one, other = heapq.heappop(heap), heapq.heappop(heap)
            for symbol in (*one[2], *other[2]):
                lengths[symbol] += 1
            heapq.heappush(heap, (one[0] + other[0], one[1], one[2] + other[2]))
        if max(lengths.values()) <= longest:
            return [lengths.get(symbol, 0) for symbol in range(size)]
        weights = {symbol: (weight + 1) // 2 for symbol, weight in weights.items()}


def codes(lengths: Sequence[int]) -> dict[int, tuple[int, int]]:
    """Symbol → its code and the code's bits."""
    found, code, before = {}, 0, 0
    for symbol in sorted((s for s, length in enumerate(lengths) if length), key=lambda s: (lengths[s], s)):
        code <<= lengths[symbol] - before
        before = lengths[symbol]
        found[symbol] = code, before
        code += 1
    return found


def put_lengths(bits: BitWriter, lengths: Sequence[int], before: Sequence[int], *, has_long_runs: bool) -> None:
    """A block's codes: differences to those before, runs of zeros and of the same length shortened."""
    count = 20 if has_long_runs else 19
    for _ in range(count):
        bits.put(5, 4)
    table = codes([5] * count)
    at = 0
    while at < len(lengths):
        run = 1
        while at + run < len(lengths) and lengths[at + run] == lengths[at]:
            run += 1
        if at and lengths[at] == lengths[at - 1] and run >= 3:
            run = min(run, 10 if has_long_runs else 6)
            bits.put(*table[16])
            bits.put(run - 3, 3 if has_long_runs else 2)
        elif not lengths[at] and run >= 11:
            run = min(run, 138)
            bits.put(*table[19 if has_long_runs else 18])
            bits.put(run - 11, 7)
        else:
            run = 1
            bits.put(*table[lengths[at] - before[at] & 15])
        at += run


def tokens_of(content: bytes, *, window: int = 1 << 17, longest: int = 250, least: int = 4) -> list[Token]:
    """Content as bytes and matches; the nearest match that is longest among a few."""
    tokens: list[Token] = []
    places: dict[bytes, list[int]] = {}
    at, size = 0, len(content)
    while at < size:
        key = content[at : at + least]
        best, distance = 0, 0
        for place in reversed(places.get(key, ())):
            if at - place > window:
                break
            length, most = least, min(longest, size - at)
            while length < most and content[place + length] == content[at + length]:
                length += 1
            # A far match must be longer to be worth it, and to be one that every method can say.
            if length > best and length >= least + (at - place >= 0x2000) + (at - place >= 0x40000):
                best, distance = length, at - place
        if best:
            tokens.append(Match(distance, best))
        else:
            tokens.append(content[at])
            best = 1
        known = places.setdefault(key, [])
        known.append(at)
        del known[:-8]
        for passed in range(at + 1, at + best, 3):
            later = places.setdefault(content[passed : passed + least], [])
            later.append(passed)
            del later[:-8]
        at += best
    return tokens


# --- the fifth generation ------------------------------------------------------------------------------------


def _slot5(value: int) -> tuple[int, int, int]:
    """Symbol of a distance less one (or of a length, with four steps for each power); extra bits and their value."""
    if value < 4:
        return value, 0, 0
    more = value.bit_length() - 2
    return 2 * (more + 1) + (value >> more & 1), more, value & (1 << more) - 1


def _length5(length: int) -> tuple[int, int, int]:
    value = length - 2
    if value < 8:
        return value, 0, 0
    more = value.bit_length() - 3
    return 4 * (more + 1) + (value >> more & 3), more, value & (1 << more) - 1


def _parts5(token: Token) -> list[tuple[str | int, int]]:
    if isinstance(token, int):
        return [("main", token)]
    if isinstance(token, Raw):
        return list(token.parts)
    if isinstance(token, Again):
        return [("main", 257)]
    if isinstance(token, Recent):
        symbol, more, value = _length5(token.length)
        return [("main", 258 + token.which), ("length", symbol), (more, value)]
    if isinstance(token, Change):
        number: list[tuple[str | int, int]] = []
        for field in (token.after, token.size):
            count = max(1, (field.bit_length() + 7) // 8)
            number += [(2, count - 1), *((8, field >> 8 * place & 0xFF) for place in range(count))]
        return [("main", 256), *number, (3, token.kind), *([(5, token.channels - 1)] if token.kind == 0 else [])]
    distance = token.distance
    symbol, more, value = _length5(token.length - (distance > 0x100) - (distance > 0x2000) - (distance > 0x40000))
    parts: list[tuple[str | int, int]] = [("main", 262 + symbol), (more, value)]
    symbol, more, value = _slot5(distance - 1)
    parts.append(("distance", symbol))
    if more >= 4:
        return [*parts, (more - 4, value >> 4), ("low", value & 15)]
    return [*parts, (more, value)]


def packed5(blocks: Sequence[Sequence[Token]], *, is_far: bool = False, keeps_codes: bool = False) -> bytes:
    """A RAR 5 member of these blocks; with `keeps_codes` only the first brings any."""
    names = {"main": 306, "distance": 80 if is_far else 64, "low": 16, "length": 44}
    parts = [[part for token in block for part in _parts5(token)] for block in blocks]
    shared = _tables([part for block in parts for part in block], names) if keeps_codes else None
    out = b""
    for number, block in enumerate(parts):
        tables = shared or _tables(block, names)
        bits = BitWriter()
        brings = not (keeps_codes and number)
        if brings:
            lengths = [length for name in names for length in tables[name]]
            put_lengths(bits, lengths, [0] * len(lengths), has_long_runs=True)
        _put(bits, block, tables)
        out += block5(bits, brings=brings, is_last=number == len(blocks) - 1)
    return out


def block5(bits: BitWriter, *, brings: bool, is_last: bool) -> bytes:
    """One block with its header."""
    used = (bits.count - 1) % 8
    data = bits.bytes()
    count = max(1, (len(data).bit_length() + 7) // 8)
    flags = used | count - 1 << 3 | (0x40 if is_last else 0) | (0x80 if brings else 0)
    sizes = len(data).to_bytes(count, "little")
    check = 0x5A ^ flags
    for byte in sizes:
        check ^= byte
    return bytes((flags, check)) + sizes + data


def _tables(parts: Iterable[tuple[str | int, int]], names: dict[str, int]) -> dict[str, list[int]]:
    counts: dict[str, Counter[int]] = {name: Counter() for name in names}
    for name, value in parts:
        if isinstance(name, str):
            counts[name][value] += 1
    return {name: code_lengths(counts[name], size) for name, size in names.items()}


def _put(bits: BitWriter, parts: Iterable[tuple[str | int, int]], tables: dict[str, list[int]]) -> None:
    table = {name: codes(lengths) for name, lengths in tables.items()}
    for name, value in parts:
        if isinstance(name, str):
            bits.put(*table[name][value])
        else:
            bits.put(value, name)


# --- the second and third generation -------------------------------------------------------------------------

_LENGTH_BITS = [0] * 8 + [bits for bits in range(1, 6) for _ in range(4)]
_DISTANCE_BITS = [0, 0, *(bits for bits in range(17) for _ in range(2)), *[16] * 12]
_FAR_BITS = [*_DISTANCE_BITS, *[18] * 12]
_SHORT_BITS = [2, 2, 3, 4, 5, 6, 6, 6]


def _slot(value: int, bits: Sequence[int]) -> tuple[int, int, int]:
    base = 0
    for symbol, more in enumerate(bits):
        if value < base + (1 << more):
            return symbol, more, value - base
        base += 1 << more
    raise ValueError(value)


def _parts(token: Token, *, is_third: bool) -> list[tuple[str | int, int]]:
    matches, short, recent, again = (271, 263, 259, 258) if is_third else (270, 261, 257, 256)
    if isinstance(token, int):
        return [("main", token)]
    if isinstance(token, Raw):
        return list(token.parts)
    if isinstance(token, Again):
        return [("main", again)]
    if isinstance(token, Change):
        code = filter_code(token)
        return [("main", 257), *((8, byte) for byte in code)]
    if isinstance(token, Recent):
        symbol, more, value = _slot(token.length - 2, _LENGTH_BITS)
        return [("main", recent + token.which), ("length", symbol), (more, value)]
    distance, length = token.distance, token.length
    if length == 2:
        symbol, more, value = _slot(distance - 1, _SHORT_BITS)
        return [("main", short + symbol), (more, value)]
    symbol, more, value = _slot(length - 3 - (distance >= 0x2000) - (distance >= 0x40000), _LENGTH_BITS)
    parts: list[tuple[str | int, int]] = [("main", matches + symbol), (more, value)]
    symbol, more, value = _slot(distance - 1, _FAR_BITS if is_third else _DISTANCE_BITS)
    parts.append(("distance", symbol))
    if is_third and more >= 4:
        return [*parts, (more - 4, value >> 4), ("low", value & 15)]
    return [*parts, (more, value)]


def packed3(blocks: Sequence[Sequence[Token]], *, keeps_codes: bool = False, has_end: bool = True) -> bytes:
    """A RAR 3 member of these blocks of matches. With `keeps_codes` its codes hold for the next member."""
    bits = BitWriter()
    for number, block in enumerate(blocks):
        bits.to_byte()
        put_block3(bits, block, number == len(blocks) - 1, keeps_codes=keeps_codes, has_end=has_end)
    return bits.bytes()


NAMES3 = {"main": 299, "distance": 60, "low": 17, "length": 28}


def put_block3(
    bits: BitWriter, block: Sequence[Token], is_last: bool, *, keeps_codes: bool = False, has_end: bool = True
) -> None:
    parts = [part for token in block for part in _parts(token, is_third=True)]
    tables = _tables([*parts, ("main", 256)], NAMES3)
    bits.put(0, 1)
    bits.put(0, 1)
    lengths = [length for name in NAMES3 for length in tables[name]]
    put_lengths(bits, lengths, [0] * len(lengths), has_long_runs=True)
    _put(bits, parts, tables)
    if has_end or not is_last:
        end = [(1, 0), (1, 0 if keeps_codes else 1)] if is_last else [(1, 1)]
        _put(bits, [("main", 256), *end], tables)


def continued3(block: Sequence[Token], like: Sequence[Token]) -> bytes:
    """A member that uses the codes of the member before, whose tokens were `like`."""
    before = [part for token in like for part in _parts(token, is_third=True)]
    tables = _tables([*before, ("main", 256)], NAMES3)
    bits = BitWriter()
    _put(bits, [part for token in block for part in _parts(token, is_third=True)], tables)
    _put(bits, [("main", 256), (1, 0), (1, 1)], tables)
    return bits.bytes()


def filter_code(change: Change) -> bytes:
    """What stands for a filter of the third generation: its flags, its length and its fields."""
    fields = BitWriter()
    flags = 0x20 | (0x80 if change.program or change.kind else 0) | (0x10 if change.registers else 0)
    if flags & 0x80:
        _number(fields, change.kind)
    _number(fields, change.after)
    _number(fields, change.size)
    if change.registers:
        mask = 0
        for place, _ in change.registers:
            mask |= 1 << place
        fields.put(mask, 7)
        for _, value in change.registers:
            _number(fields, value)
    if change.program:
        _number(fields, len(change.program))
        for byte in change.program:
            fields.put(byte, 8)
    data = fields.bytes()
    if len(data) <= 6:
        return bytes((flags | len(data) - 1,)) + data
    if len(data) < 7 + 256:
        return bytes((flags | 6, len(data) - 7)) + data
    return bytes((flags | 7,)) + struct.pack(">H", len(data)) + data


def _number(bits: BitWriter, value: int) -> None:
    if value < 16:
        bits.put(0, 2)
        bits.put(value, 4)
    elif value < 256:
        bits.put(1, 2)
        bits.put(value, 8)
    elif value < 1 << 16:
        bits.put(2, 2)
        bits.put(value, 16)
    else:
        bits.put(3, 2)
        bits.put(value, 32)


NAMES2 = {"main": 298, "distance": 48, "length": 28}


def packed2(blocks: Sequence[Sequence[Token]]) -> bytes:
    """A RAR 2 member of these blocks of matches."""
    bits = BitWriter()
    for number, block in enumerate(blocks):
        parts = [part for token in block for part in _parts(token, is_third=False)]
        tables = _tables([*parts, ("main", 269)], NAMES2)
        bits.put(0, 2)
        lengths = [length for name in NAMES2 for length in tables[name]]
        put_lengths(bits, lengths, [0] * len(lengths), has_long_runs=False)
        _put(bits, parts, tables)
        if number < len(blocks) - 1:
            _put(bits, [("main", 269)], tables)
    return bits.bytes() + bytes(4)


def sound2(values: Sequence[int], channels: int) -> bytes:
    """A RAR 2 member of sound: what each sample differs from its guess, for each channel in turn."""
    bits = BitWriter()
    bits.put(1, 1)
    bits.put(0, 1)
    bits.put(channels - 1, 2)
    tables = [code_lengths(Counter(values[channel::channels]), 257) for channel in range(channels)]
    lengths = [length for table in tables for length in table]
    put_lengths(bits, lengths, [0] * len(lengths), has_long_runs=False)
    table = [codes(each) for each in tables]
    for at, value in enumerate(values):
        bits.put(*table[at % channels][value])
    return bits.bytes() + bytes(4)


# --- the first generation ------------------------------------------------------------------------------------

_SORTED_LENGTHS = (
    ((2, 2), (3, 1), (4, 2), (5, 2), (6, 4), (7, 5), (8, 4), (9, 4), (10, 8), (12, 224)),
    ((3, 5), (4, 2), (5, 2), (6, 4), (7, 5), (8, 4), (9, 4), (10, 8), (11, 2), (12, 220)),
)
_SORTED_PLACES = (
    ((4, 8), (5, 8), (6, 8), (7, 9), (12, 224)),
    ((5, 4), (6, 40), (7, 16), (8, 16), (9, 4), (11, 47), (12, 130)),
    ((5, 2), (6, 5), (7, 46), (8, 64), (9, 116), (10, 24)),
    ((6, 2), (7, 14), (8, 202), (9, 33), (10, 6)),
    ((8, 255), (9, 2)),
)
_SHORT_CODES = {
    (0, 0): "0 101 1101 1110 11110 111110 1111110 11111110 11111111 1100 1000 10010 100110 100111",
    (1, 0): "0 1010 1101 1110 11110 111110 1111110 11111110 11111111 1100 1000 10010 100110 100111 1011",
    (0, 1): "00 010 011 101 1101 1110 11110 111110 111111 1100 1000 10010 100110 100111",
    (1, 1): "00 010 011 1010 1101 1110 11110 111110 111111 1100 1000 10010 100110 100111 1011",
}


@functools.cache
def _of_runs(runs: tuple[tuple[int, int], ...]) -> dict[int, tuple[int, int]]:
    return codes([length for length, count in runs for _ in range(count)])


class _Sorted:
    """A table that is sorted by use: each value's low byte counts how often it was met."""

    def __init__(self, values: Iterable[int], most: int) -> None:
        self.entries = [value << 8 for value in values]
        self.starts = [0] * 256
        self.most = most

    def put(self, value: int) -> int:
        """The place of a value, which is met."""
        place = next(at for at, entry in enumerate(self.entries) if entry >> 8 == value)
        if self.entries[place] & 0xFF >= self.most:
            self.reset()
        entry = self.entries[place]
        front = self.starts[entry & 0xFF]
        self.starts[entry & 0xFF] += 1
        self.entries[place] = self.entries[front]
        self.entries[front] = entry + 1
        return place

    def reset(self) -> None:
        for at, entry in enumerate(self.entries):
            self.entries[at] = entry & ~0xFF | 7 - at // 32
        self.starts = [224, 192, 160, 128, 96, 64, 32, *[0] * 249]


class FirstWriter:
    """Writes members of RAR 1.5 one after the other, as a solid stream."""

    def __init__(self) -> None:
        self.flag_table = _Sorted([-value & 0xFF for value in range(256)], 0xFF)
        self.byte_table = _Sorted(range(256), 0xA1)
        self.far_table = _Sorted(range(256), 0xFF)
        self.far_table.reset()
        self.near = list(range(256))
        self.byte_mean, self.short_mean, self.length_mean, self.place_mean, self.near_mean = 0x3500, 0, 0, 0, 0
        self.far_from, self.byte_weight, self.match_weight = 0x2001, 0x80, 0x80
        self.recent = [0, 0, 0, 0]
        self.has_far = 0

    def member(self, tokens: Sequence[Token]) -> bytes:
        self.pieces: list[tuple[int, int]] = []
        self.flags: list[int] = []
        self.flags_at = -1
        self.only_bytes = False
        self.bytes_met = self.repeats = 0
        for token in tokens:
            if isinstance(token, int):
                self._byte(token)
            elif isinstance(token, Again):
                self._short(9)
                self.repeats += 1
            elif isinstance(token, Recent):
                distance = self.recent[token.which]
                self._short(10 + token.which)
                length = token.length - (distance > 256) - (distance >= self.far_from)
                self._add(_of_runs(_SORTED_LENGTHS[0])[length - 2])
                self._remember(distance)
            elif isinstance(token, Match) and token.distance <= 256 and token.length <= 10:
                self._near(token)
            elif isinstance(token, Match) and token.distance >= 0x8000:
                if not self.has_far:
                    self._short(10)
                    self._add(_of_runs(_SORTED_LENGTHS[0])[0x101 - 2])
                    self.has_far = 1
                self._short(14)
                self._add(_of_runs(_SORTED_LENGTHS[1])[token.length - 5])
                self._add((token.distance - 0x8000, 15))
            elif isinstance(token, Match):
                self._long(token)
        while self.flags:
            self._flag(0)
        bits = BitWriter()
        for value, count in self.pieces:
            bits.put(value, count)
        return bits.bytes() + bytes(8)

    def _add(self, piece: tuple[int, int]) -> None:
        self.pieces.append(piece)

    def _flag(self, flag: int) -> None:
        if not self.flags:
            self.flags_at = len(self.pieces)
            self.pieces.append((0, 0))
        self.flags.append(flag)
        if len(self.flags) == 8:
            value = int("".join(map(str, self.flags)), 2)
            self.pieces[self.flags_at] = _of_runs(_SORTED_PLACES[2])[self.flag_table.put(value)]
            self.flags = []

    def _expected(self, *, is_match: bool) -> None:
        if self.only_bytes:
            if is_match:
                self._leave_bytes()
            else:
                return
        if is_match == (self.match_weight > self.byte_weight):
            self._flag(1)
        else:
            self._flag(0)
            self._flag(1)

    def _leave_bytes(self) -> None:
        self._place(0)
        self._add((1, 1))
        self.only_bytes = False
        self.bytes_met = 0

    def _place(self, place: int) -> None:
        mean = self.byte_mean
        which = sum(mean >= limit for limit in (0xE00, 0x3600, 0x5E00, 0x7600))
        self._add(_of_runs(_SORTED_PLACES[which])[place])

    def _byte(self, value: int) -> None:
        self._expected(is_match=False)
        was_only = self.only_bytes
        if not was_only:
            self.bytes_met += 1
            if self.bytes_met > 16 and not self.flags:
                self.only_bytes = True
        place = self.byte_table.put(value)
        self._place(place + 1 if was_only else place)
        self.byte_mean += place
        self.byte_mean -= self.byte_mean >> 8
        self.byte_weight += 16
        if self.byte_weight > 255:
            self.byte_weight = 0x90
            self.match_weight >>= 1

    def _long(self, token: Match) -> None:
        self._expected(is_match=True)
        self.bytes_met = 0
        self.match_weight += 16
        if self.match_weight > 255:
            self.match_weight = 0x90
            self.byte_weight >>= 1
        distance = token.distance
        length = token.length - 3 - (distance >= self.far_from) - 8 * (distance <= 256)
        if self.length_mean >= 64:
            self._add(_of_runs(_SORTED_LENGTHS[self.length_mean >= 122])[length])
        elif length < 8:
            self._add((1, length + 1))
        else:
            self._add((length, 16))
        place = self.far_table.put(distance >> 7)
        which = (self.place_mean >= 0x700) + (self.place_mean >= 0x2900)
        self._add(_of_runs(_SORTED_PLACES[which])[place])
        self._add((distance & 127, 7))
        far_from = self.far_from
        is_low = self.near_mean > 0xB0 or (self.byte_mean >= 0x2A00 and self.length_mean < 0x40)
        self.far_from = 0x7F00 if is_low else 0x2001
        self.length_mean += length
        self.length_mean -= self.length_mean >> 5
        self.place_mean += place
        self.place_mean -= self.place_mean >> 8
        if length not in (1, 4):
            if length == 0 and distance <= far_from:
                self.near_mean += 1
                self.near_mean -= self.near_mean >> 8
            elif self.near_mean:
                self.near_mean -= 1
        self._remember(distance)

    def _short(self, kind: int) -> None:
        if self.only_bytes:
            self._leave_bytes()
        self._flag(0)
        self._flag(0)
        self.bytes_met = 0
        if self.repeats == 2:
            self._add((0, 1))
            self.repeats = 0
        code = _SHORT_CODES[self.has_far, self.short_mean >= 37].split()[kind]
        self._add((int(code, 2), len(code)))
        if kind != 9:
            self.repeats = 0

    def _near(self, token: Match) -> None:
        kind = token.length - 2
        self._short(kind)
        self.short_mean += kind
        self.short_mean -= self.short_mean >> 4
        place = self.near.index(token.distance - 1)
        self._add(_of_runs(_SORTED_PLACES[2])[place])
        if place:
            self.near[place], self.near[place - 1] = self.near[place - 1], self.near[place]
        self._remember(token.distance)

    def _remember(self, distance: int) -> None:
        self.recent = [distance, *self.recent[:3]]


# --- the text model ------------------------------------------------------------------------------------------


class TextWriter(TextModel):
    """The other side of the text model: learns by the same code, and finds each byte's share where the reader would."""

    def __init__(self, order: int, size: int, *, escape: int = 2) -> None:
        super().__init__(order, size)
        self._flags = bytes((0x80 | 0x20 | 0x40 | (order - 1 if order <= 16 else 15 + (order - 16) // 3),))
        self._flags += bytes((max(size >> 20, 1) - 1, escape & 0xFF))
        self._escape = escape
        self._out = bytearray()
        self._bottom, self._span = 0, 0xFFFFFFFF

    def put(self, content: bytes) -> None:
        """Bytes of content."""
        for byte in content:
            self.symbol(byte)
            if byte == self._escape:
                self.symbol(1)

    def sign(self, *symbols: int) -> None:
        """The sign that what follows is none of the content."""
        for symbol in (self._escape, *symbols):
            self.symbol(symbol)

    def block(self) -> bytes:
        """The block, its head before it."""
        return self._flags + self.coded()

    def coded(self) -> bytes:
        """The coder's bytes, up to where it can be begun anew."""
        for shift in (24, 16, 8, 0):
            self._out.append(self._bottom >> shift & 0xFF)
        out, self._out = bytes(self._out), bytearray()
        self._bottom, self._span = 0, 0xFFFFFFFF
        return out

    def _share(self, begin: int, size: int, total: int) -> None:
        self._span //= total
        self._bottom = self._bottom + begin * self._span & 0xFFFFFFFF
        self._span *= size
        while True:
            if self._bottom ^ self._bottom + self._span >= 1 << 24:
                if self._span >= 0x8000:
                    return
                self._span = -self._bottom & 0x7FFF
            self._out.append(self._bottom >> 24)
            self._bottom = self._bottom << 8 & 0xFFFFFFFF
            self._span <<= 8

    def symbol(self, symbol: int) -> None:
        context = self._minimum
        begin, count = self._first[context], self._states[context]
        known = self._symbols[begin : begin + count]
        if count == 1:
            is_met = self._binary_symbol(context, symbol)
        elif symbol in known:
            at = known.index(symbol)
            total, frequency = self._sums[context], self._frequencies[begin + at]
            self._share(sum(self._frequencies[begin : begin + at]), frequency, total)
            self._was_sure = int(not at and 2 * frequency > total)
            self._run += self._was_sure
            self._met(context, begin + at, may_swap=bool(at))
            is_met = True
        else:
            self._was_sure = 0
            self._high_flag = 8 if self._symbols[self._found] >= 0x40 else 0
            reach = sum(self._frequencies[begin : begin + count])
            self._share(reach, self._sums[context] - reach, self._sums[context])
            is_met = False
        if not is_met:
            self._symbol_below(symbol)
        successor = self._next[self._found]
        if not self._order_fall and successor > 0:
            self._minimum = self._maximum = successor
        elif self._update(symbol, successor):
            self._maximum = self._minimum
        else:
            self._restart()

    def _met(self, context: int, state: int, *, may_swap: bool) -> None:
        self._sums[context] += 4
        self._frequencies[state] += 4
        if may_swap:
            if self._frequencies[state] <= self._frequencies[state - 1]:
                self._found = state
                return
            self._swap(state)
            state -= 1
        self._found = state
        if self._frequencies[state] > 124:
            self._found = self._rescale(context, state, self._order_fall)

    def _binary_symbol(self, context: int, symbol: int) -> bool:
        state = self._first[context]
        below = self._states[self._below[context]]
        self._high_flag = 8 if self._symbols[self._found] >= 0x40 else 0
        place = (
            64 * self._frequencies[state]
            + self._was_sure
            + (0 if below == 1 else 2 if below == 2 else 4 if below < 12 else 6)
            + self._high_flag
            + (16 if self._symbols[state] >= 0x40 else 0)
            + (self._run >> 26 & 0x20)
        )
        chance = self._binary[place]
        if self._symbols[state] == symbol:
            self._share(0, chance, 0x4000)
            self._binary[place] = chance + 128 - (chance + 32 >> 7)
            self._frequencies[state] += self._frequencies[state] < 128
            self._was_sure = 1
            self._run += 1
            self._found = state
            return True
        self._share(chance, 0x4000 - chance, 0x4000)
        self._binary[place] = chance - (chance + 32 >> 7)
        self._first_escape = (25, 14, 9, 7, 5, 5, 4, 4, 4, 3, 3, 3, 2, 2, 2, 2)[self._binary[place] >> 10]
        self._was_sure = 0
        return False

    def _symbol_below(self, symbol: int) -> None:
        while True:
            masked = self._states[self._minimum]
            begin = self._first[self._minimum]
            known = self._symbols[begin : begin + masked]
            while self._states[self._minimum] == masked:
                self._order_fall += 1
                self._minimum = self._below[self._minimum]
            context = self._minimum
            begin, count = self._first[context], self._states[context]
            left = [state for state in range(begin, begin + count) if self._symbols[state] not in known]
            see, escaping = -1, 1
            if count != 256:
                fresh = count - masked
                row = fresh - 1
                if row > 2:
                    row, step, width = 3, 3, 1
                    while fresh - 1 >= step + width:
                        step, width, row = step + width, row - 1, row + 1
                see = 16 * row + (fresh < self._states[self._below[context]] - count) + self._high_flag
                see += 2 * (self._sums[context] < 11 * count) + 4 * (masked > fresh)
                seen = self._see_sums[see]
                escaping = seen >> self._see_shifts[see]
                self._see_sums[see] = seen - escaping & 0xFFFF
                escaping = escaping or 1
            total = sum(self._frequencies[state] for state in left)
            reach = 0
            for state in left:
                if self._symbols[state] == symbol:
                    self._share(reach, self._frequencies[state], total + escaping)
                    if see >= 0 and self._see_shifts[see] < 7:
                        self._see_counts[see] -= 1
                        if not self._see_counts[see]:
                            self._see_sums[see] = 2 * self._see_sums[see] & 0xFFFF
                            self._see_counts[see] = 3 << self._see_shifts[see] & 0xFF
                            self._see_shifts[see] += 1
                    self._met(context, state, may_swap=False)
                    self._run = self._first_run
                    return
                reach += self._frequencies[state]
            self._share(total, escaping, total + escaping)
            if see >= 0:
                self._see_sums[see] = self._see_sums[see] + total + escaping & 0xFFFF


_TABLE = [zlib.crc32(bytes((value,)), 0xFFFFFFFF) ^ 0xFFFFFFFF for value in range(256)]
_BY_HEAD = {entry >> 24: value for value, entry in enumerate(_TABLE)}


@functools.cache
def program_of(size: int, checksum: int) -> bytes:
    """Bytes that are taken for a filter's program: of this length and CRC-32, and with the sum it must begin with."""
    for attempt in range(1 << 16):
        body = bytes((attempt & 0xFF,)) + attempt.to_bytes(size - 5, "big")
        program = body + _tail_for(zlib.crc32(body), checksum)
        sums = 0
        for byte in program:
            sums ^= byte
        if not sums:
            return program
    raise AssertionError("no such program")


def _tail_for(before: int, checksum: int) -> bytes:
    """Four bytes behind what has one CRC-32 that give another: the table walked backwards."""
    table = _TABLE
    wanted, found = checksum ^ 0xFFFFFFFF, []
    for _ in range(4):
        at = _BY_HEAD[wanted >> 24]
        found.append(at)
        wanted = (wanted ^ table[at]) << 8 & 0xFFFFFFFF
    state, out = before ^ 0xFFFFFFFF, bytearray()
    for at in reversed(found):
        out.append((state ^ at) & 0xFF)
        state = state >> 8 ^ table[at]
    return bytes(out)


def text3(content: bytes, *, order: int = 6, megabytes: int = 1) -> bytes:
    """A RAR 3 member of one block by the text model."""
    writer = TextWriter(order, megabytes << 20)
    writer.put(content)
    writer.sign(2)
    return writer.block()


# --- archives of the generations before the fifth ----------------------------------------------------------------


@dataclass(frozen=True)
class Packed:
    """A member with its packed bytes as they are to be written."""

    name: str
    content: bytes
    data: bytes
    version: int = 29
    method: int = 0x33
    is_solid: bool = False
    flags: int = 0


def archive4(members: Sequence[Packed], *, is_solid: bool = False, volume: int = 0, password: str = "") -> list[bytes]:
    """The volumes of a RAR 4 archive; of one volume without `volume`, the bytes of content in each."""
    volumes: list[bytes] = []
    flags = (8 if is_solid else 0) | (0x111 if volume else 0)
    out = _head4(flags)
    room = volume
    for member in members:
        data, is_first = _locked4(member, password), True
        while True:
            part = data[:room] if volume else data
            data = data[len(part) :]
            split = (0 if is_first else 1) | (2 if data else 0) | (0x10 if member.is_solid else 0) | member.flags
            out += _file4(member, part, split | 0x8000, zlib.crc32(part if data else member.content), password)
            room -= len(part)
            if not data:
                break
            volumes.append(out + _block4(0x7B, 0x4001, b""))
            out, room, is_first = _head4(flags & ~0x100), volume, False
    return [*volumes, out + _block4(0x7B, 0x4000, b"")]


SALT = b"eightbit"


def _locked4(member: Packed, password: str) -> bytes:
    if not password:
        return member.data
    if member.version < 20:
        return b"".join(first_deciphered([member.data], password.encode()))  # it is its own opposite
    data = member.data + bytes(-len(member.data) % 16)
    if member.version < 29:
        cipher = SecondCipher(password.encode())
        return b"".join(cipher._turn(data[at : at + 16], is_locking=True) for at in range(0, len(data), 16))
    key, start = Rar4Cipher(SALT).cipher(password)
    return AES.new(key, AES.MODE_CBC, start).encrypt(data)


def _head4(flags: int) -> bytes:
    return b"Rar!\x1a\x07\x00" + _block4(0x73, flags, bytes(6))


def _file4(member: Packed, part: bytes, flags: int, checksum: int, password: str) -> bytes:
    name = member.name.encode()
    fields = struct.pack(
        "<2LB2L2BHL",
        *(len(part), len(member.content), 3, checksum, 0x5A21_0000, member.version, member.method, len(name), 0o100644),
    )
    if password:
        flags |= 4 | (0x400 if member.version >= 29 else 0)
        name += SALT if member.version >= 29 else b""
    return _block4(0x74, flags, fields + name) + part


def _block4(kind: int, flags: int, body: bytes) -> bytes:
    covered = struct.pack("<BHH", kind, flags, 7 + len(body)) + body
    return struct.pack("<H", zlib.crc32(covered) & 0xFFFF) + covered
