"""The method of the third generation, which packers of RAR 2.9 to 4 use: matches, or the text model, block by block.

Sources: libarchive (archive_read_support_format_rar.c, BSD licence) and XADMaster (XADRAR30Handle.m, LGPL).
"""

import zlib
from collections.abc import Callable, Iterator
from functools import partial
from itertools import pairwise

from usufruct.archives.bits import MASKS, Bits, PackedFault
from usufruct.archives.prefix_codes import Code
from usufruct.archives.rar import filters
from usufruct.archives.rar.common import RarRefusal, blocks_of
from usufruct.archives.rar.history import Filter, History
from usufruct.archives.rar.lengths import read_lengths
from usufruct.archives.rar.text import TextModel, enough_for
from usufruct.files.sources import Source

DICTIONARY = 4 << 20
"""Bytes of the window."""
_MAIN, _DISTANCES, _LOW, _LENGTHS = 299, 60, 17, 28
"""Symbols of each code."""
_LENGTH_BITS = (0,) * 8 + tuple(bits for bits in range(1, 6) for _ in range(4))
"""Bits behind each symbol of a length."""
_DISTANCE_BITS = (0, 0, *(bits for bits in range(17) for _ in range(2)), *(16,) * 12, *(18,) * 12)[:_DISTANCES]
"""Bits behind each symbol of a distance."""
SHORT = tuple(zip((1, 5, 9, 17, 33, 65, 129, 193), (2, 2, 3, 4, 5, 6, 6, 6), strict=True))
"""Least distance of a match of two bytes, and bits that say how much more."""


def sums_of(bits: tuple[int, ...], first: int) -> list[tuple[int, int]]:
    """The least value of each symbol, when each stands for as many as its bits can tell; and its bits."""
    found = []
    for count in bits:
        found.append((first, count))
        first += 1 << count
    return found


LENGTH_OF = sums_of(_LENGTH_BITS, 0)
"""Least length of a match, and bits that say how much more, as in the generation before."""
_DISTANCE_OF = sums_of(_DISTANCE_BITS, 1)
"""The distance that each symbol begins at."""
_LOW_OF = list(range(16))
"""The low four bits of a distance, by symbol."""
_REPEATED_LOW = 16
"""The symbol for the lowest bits of a distance being those of the one before."""
_LOW_REPEATS = 15
"""How often the low bits stay after the symbol 16."""
_LONGEST_PROGRAM = 0x10000
"""Bytes of the program of a filter, as readers bound it."""
_MOST_PROGRAMS = 1024
"""Of one archive, as readers bound it."""
_LARGEST_FILTERED = 0x3C000
"""0x3C000 bytes: what a filter's memory has for content."""
_GLOBAL_PLACE = 0x3C000
"""What a register of the packer's machine begins with."""
_PROGRAMS = {
    (53, 0xAD576887): "calls",
    (57, 0x3CD7E57E): "calls and jumps",
    (120, 0x3769893F): "itanium",
    (29, 0x0E06077D): "delta",
    (149, 0x1C2C5DC8): "picture",
    (216, 0xBC85E701): "sound",
}
"""Bytes and CRC-32 of a filter's program → what it does. Every packer writes the same few."""


_BEYOND = 1 << 16
"""Bytes behind a file's end that are unpacked before its end is taken as left out."""


class Unpacker29:
    """Unpacks the files of one stream, in order."""

    def __init__(self, total: int | None = None, may_take: Callable[[int], None] = lambda _: None) -> None:
        """`total` is the bytes of content of the whole stream, where they are known; `may_take` raises for memory."""
        self.history = History(DICTIONARY)
        self._total = total
        self._may_take = may_take
        self._before = [0] * (_MAIN + _DISTANCES + _LOW + _LENGTHS)
        self._codes: tuple[Code, Code, Code, Code] | None = None
        self._model: TextModel | None = None
        self._is_text = False
        self._escape = 2
        self._has_codes = False
        """The codes of the file before hold for the next one."""
        self._recent = [0, 0, 0, 0]
        self._length = self._low = self._low_repeats = 0
        self._programs: list[str] = []
        self._sizes: list[int] = []
        """Program → how much it changed last."""
        self._program = 0

    def file(self, packed: Source, size: int) -> Iterator[bytes]:
        """The content of the next file, of `size` bytes; PackedFault if it cannot be unpacked."""
        history = self.history
        begin = history.begin_file()
        end = begin + size
        bits = Bits(blocks_of(packed, packed.size))
        try:
            if not self._has_codes:
                self._read_codes(bits)
            while not (self._run_text if self._is_text else self._run)(bits, history.until(end)):
                yield from history.ready(begin, end)
                if history.position > end + _BEYOND:
                    break
        except PackedFault:
            # Some packers end the last file without saying so: then what follows stands for nothing.
            if history.position < end:
                raise
        yield from history.ready(begin, end)
        history.end_file(end)

    def _run(self, bits: Bits, until: int) -> bool:
        """Unpack until `out` is so long, or a little longer, or codes change; True at the file's end."""
        assert self._codes, "codes are read before anything else"
        main, distances, low, lengths = self._codes
        symbols, widths, size, mask = main.symbols, main.lengths, main.bits, main.mask
        far_symbols, far_widths, far_size, far_mask = (
            distances.symbols, distances.lengths, distances.bits, distances.mask
        )  # fmt: skip
        out = self.history.out
        append = out.append
        first, second, third, fourth = self._recent
        length, lowest, repeats = self._length, self._low, self._low_repeats
        acc, have, words = bits.acc, bits.have, bits.words
        try:
            while True:
                if have < size:
                    acc = (acc & MASKS[have]) << 32 | next(words)
                    have += 32
                    if len(out) >= until:
                        return False
                index = acc >> (have - size) & mask
                have -= widths[index]
                symbol = symbols[index]
                if symbol < 256:
                    append(symbol)
                    continue
                if have < 32:
                    # Enough for a length's bits and a distance's code.
                    acc = (acc & MASKS[have]) << 32 | next(words)
                    have += 32
                if symbol >= 271:
                    length, more = LENGTH_OF[symbol - 271]
                    length += 3
                    if more:
                        have -= more
                        length += acc >> have & MASKS[more]
                    index = acc >> (have - far_size) & far_mask
                    have -= far_widths[index]
                    distance, more = _DISTANCE_OF[far_symbols[index]]
                    if more:
                        if have < 32:
                            acc = (acc & MASKS[have]) << 32 | next(words)
                            have += 32
                        if more >= 4:
                            if more > 4:
                                have -= more - 4
                                distance += (acc >> have & MASKS[more - 4]) << 4
                            if repeats:
                                repeats -= 1
                            else:
                                index = acc >> (have - low.bits) & low.mask
                                have -= low.lengths[index]
                                index = low.symbols[index]
                                if index == _REPEATED_LOW:
                                    repeats = _LOW_REPEATS
                                else:
                                    lowest = _LOW_OF[index]
                            distance += lowest
                        else:
                            have -= more
                            distance += acc >> have & MASKS[more]
                    if distance >= 0x2000:
                        length += 1
                        if distance >= 0x40000:
                            length += 1
                    first, second, third, fourth = distance, first, second, third
                elif symbol >= 263:
                    distance, more = SHORT[symbol - 263]
                    have -= more
                    distance += acc >> have & MASKS[more]
                    length = 2
                    first, second, third, fourth = distance, first, second, third
                elif symbol >= 259:
                    if symbol == 260:
                        first, second = second, first
                    elif symbol == 261:
                        first, second, third = third, first, second
                    elif symbol == 262:
                        first, second, third, fourth = fourth, first, second, third
                    distance = first
                    index = acc >> (have - lengths.bits) & lengths.mask
                    have -= lengths.lengths[index]
                    length, more = LENGTH_OF[lengths.symbols[index]]
                    length += 2
                    if more:
                        have -= more
                        length += acc >> have & MASKS[more]
                elif symbol == 258:
                    distance = first
                    if not length:
                        continue
                else:
                    bits.acc, bits.have = acc, have
                    if symbol == 257:
                        self._read_filter(partial(bits.take, 8))
                        acc, have = bits.acc, bits.have
                        continue
                    if bits.take(1):
                        self._read_codes(bits)
                        # They begin anew with each table.
                        lowest, repeats = self._low, self._low_repeats
                        acc, have = bits.acc, bits.have
                        return False
                    self._has_codes = not bits.take(1)
                    acc, have = bits.acc, bits.have
                    return True
                start = len(out) - distance
                if start < 0 or not distance:
                    raise PackedFault("a match reaches back behind the begin")
                if distance >= length:
                    out += out[start : start + length]
                else:
                    out += (out[start:] * (length // distance + 1))[:length]
        except StopIteration:
            raise PackedFault("the packed bytes end too early") from None
        except IndexError:
            raise PackedFault("a code stands for nothing") from None
        finally:
            bits.acc, bits.have = acc, have
            self._recent = [first, second, third, fourth]
            self._length, self._low, self._low_repeats = length, lowest, repeats

    def _run_text(self, bits: Bits, until: int) -> bool:
        """The same by the text model."""
        out, model = self.history.out, self._model
        assert model, "a model is made before anything else"
        while len(out) < until:
            if not model.decode(bits, out, until - len(out), self._escape):
                return False
            code = self._text_symbol(bits)
            if code == 0:
                self._read_codes(bits)
                return False
            if code == 2:
                self._has_codes = False
                return True
            if code == 3:
                self._read_filter(partial(self._text_symbol, bits))
            elif code == 4:
                distance = self._text_symbol(bits) << 16 | self._text_symbol(bits) << 8 | self._text_symbol(bits)
                self.history.repeat(distance + 2, self._text_symbol(bits) + 32)
            elif code == 5:
                self.history.repeat(1, self._text_symbol(bits) + 4)
            else:
                out.append(self._escape)
        return False

    def _text_symbol(self, bits: Bits) -> int:
        assert self._model, "a model is made before anything else"
        found = bytearray()
        self._model.decode(bits, found, 1, -1)
        return found[0]

    def _read_codes(self, bits: Bits) -> None:
        bits.to_byte()
        self._has_codes = False
        self._is_text = bool(bits.take(1))
        if self._is_text:
            self._read_model(bits)
            return
        self._low = self._low_repeats = 0
        if not bits.take(1):
            self._before = [0] * len(self._before)
        lengths = self._before = read_lengths(bits, self._before, has_long_runs=True)
        begins = (0, _MAIN, _MAIN + _DISTANCES, _MAIN + _DISTANCES + _LOW, len(lengths))
        main, distances, low, others = (Code(lengths[at:end]) for at, end in pairwise(begins))
        self._codes = main, distances, low, others
        self._has_codes = True

    def _read_model(self, bits: Bits) -> None:
        flags = bits.take(7)
        megabytes = bits.take(8) + 1 if flags & 0x20 else 0
        if flags & 0x40:
            self._escape = bits.take(8)
        if megabytes:
            order = (flags & 0x1F) + 1
            if order > 16:
                order = 16 + (order - 16) * 3
            if order < 2:
                raise PackedFault("the text model knows no context")
            size = megabytes << 20
            if self._total is not None:
                size = min(size, enough_for(self._total, order))
            self._may_take(size)
            self._model = None  # its memory first
            self._model = TextModel(order, size)
        elif not self._model:
            raise PackedFault("it goes on with a text model that was not begun")
        self._model.start_coder(bits)

    # --- filters -----------------------------------------------------------------------------------------

    def _read_filter(self, byte: Callable[[], int]) -> None:
        flags = byte()
        size = (flags & 7) + 1
        if size == 7:
            size = byte() + 7
        elif size == 8:
            size = byte() << 8 | byte()
        fields = Bits([bytes(byte() for _ in range(size))])
        number = self._program
        if flags & 0x80:
            number = _number(fields)
            if number:
                number -= 1
            else:
                self._programs.clear()
                self._sizes.clear()
            if number > len(self._programs) or number >= _MOST_PROGRAMS:
                raise PackedFault("a filter names a program that was not given")
            self._program = number
        is_new = number == len(self._programs)
        if number > len(self._programs):
            raise PackedFault("a filter names a program that was not given")
        start = self.history.position + _number(fields) + (258 if flags & 0x40 else 0)
        changed = _number(fields) if flags & 0x20 else (0 if is_new else self._sizes[number])
        registers = [0, 0, 0, _GLOBAL_PLACE, changed, 0, 0]
        if flags & 0x10:
            mask = fields.take(7)
            for place in range(7):
                if mask >> place & 1:
                    registers[place] = _number(fields)
        if is_new:
            self._programs.append(_read_program(fields))
            self._sizes.append(0)
        self._sizes[number] = changed
        if changed > _LARGEST_FILTERED or registers[4] != changed:
            raise PackedFault("a filter changes more than any packer lets it")
        self.history.add_filter(Filter(start, changed, _change(self._programs[number], registers)))


def _number(fields: Bits) -> int:
    kind = fields.take(2)
    if kind == 0:
        return fields.take(4)
    if kind == 1:
        value = fields.take(8)
        return value if value >= 16 else 0xFFFFFF00 | value << 4 | fields.take(4)
    return fields.take(16 if kind == 2 else 32)


def _read_program(fields: Bits) -> str:
    """What a filter's program does; RarRefusal if it is none that is known."""
    size = _number(fields)
    if not size or size > _LONGEST_PROGRAM:
        raise PackedFault("a filter's program has an impossible length")
    program = bytes(fields.take(8) for _ in range(size))
    check = 0
    for byte in program[1:]:
        check ^= byte
    if check != program[0]:
        raise PackedFault("a filter's program does not match its checksum")
    checksum = zlib.crc32(program)
    if (size, checksum) not in _PROGRAMS:
        raise RarRefusal(
            f"it is changed by a filter program that is not known (of {size} bytes, with the checksum {checksum:08x})"
        )
    return _PROGRAMS[size, checksum]


def _change(kind: str, registers: list[int]) -> Callable[[bytes, int], bytes]:
    first, second, size = registers[0], registers[1], registers[4]
    if kind in ("delta", "sound"):
        if not 0 < first <= max(size, 1):
            raise PackedFault("a filter has an impossible number of channels")
        return partial(filters.delta if kind == "delta" else filters.sound, channels=first)
    if kind == "picture":
        if first > size:
            raise PackedFault("a filter has an impossible width")
        return partial(filters.picture, stride=first, first_blue=second)
    if kind == "itanium":
        return filters.itanium
    return partial(filters.x86, has_jumps=kind == "calls and jumps")
