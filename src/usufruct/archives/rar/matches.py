"""Unpack members of RAR 3 and 4: matches in earlier output, filters, and text coded with a model.

Source: libarchive (archive_read_support_format_rar.c, BSD licence; see LICENSES/).
"""

import gc
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from usufruct.archives.bits import MASKS, Bits, PackedFault
from usufruct.archives.prefix_codes import UNUSED, Code
from usufruct.archives.rar.common import RarRefusal, blocks_of
from usufruct.archives.rar.filters import FilterReader
from usufruct.archives.rar.text import RangeDecoder, TextModel
from usufruct.files.sources import Source

_WINDOW = 1 << 22
"""Bytes that a match may reach back."""
_STEP = 1 << 18
"""Bytes that are unpacked before they are given."""
_MAIN, _FAR, _LOW, _LENGTHS = 299, 60, 17, 28
"""Symbols of the four codes: content and kinds of matches, distances, their lowest bits, lengths."""
_ALL = _MAIN + _FAR + _LOW + _LENGTHS
_END, _FILTER, _AGAIN, _RECENT, _SHORT, _MATCH = 256, 257, 258, 259, 263, 271
"""Symbols of the first code from which on they mean this."""
_SAME, _SAME_LONG, _NONE = 16, 17, 18
"""Symbols of the code for lengths: the length before again, a few or many times; no code, likewise."""


def _bases(bits: tuple[int, ...]) -> tuple[int, ...]:
    """Return the first value of each symbol that is followed by so many extra bits."""
    bases, base = [], 0
    for count in bits:
        bases.append(base)
        base += 1 << count
    return tuple(bases)


_LENGTH_BITS = (0,) * 8 + (1,) * 4 + (2,) * 4 + (3,) * 4 + (4,) * 4 + (5,) * 4
_LENGTH_BASES = _bases(_LENGTH_BITS)
_SHORT_BITS = (2, 2, 3, 4, 5, 6, 6, 6)
_SHORT_BASES = _bases(_SHORT_BITS)
_FAR_BITS = (0, 0, *(bits for bits in range(17) for _ in range(2)), *(16,) * 12, *(18,) * 12)
_FAR_BASES = _bases(_FAR_BITS)
_LOWEST = 10
"""Symbol of a distance from which on its lowest four bits have a code of their own."""
_SAME_LOWEST, _SAME_FOR = 16, 15
"""The symbol that says that the lowest bits are as before, now and so many times more."""
_LONGER_FROM = (0x2000, 0x40000)
"""Distances from which on a match is one byte longer than it says."""


class Unpacker29:
    """Unpacks the members of a solid stream in order, and keeps the state between them."""

    def __init__(self) -> None:
        self._out = bytearray()
        """The last bytes that came, as far back as a match may reach; those behind `_given` are still to be given."""
        self._given = 0
        self._filters = FilterReader()
        self._lengths = [0] * _ALL
        self._codes: tuple[Code, Code, Code, Code] | None = None
        self._needs_codes = True
        """The next thing in the packed bytes is the description of a block."""
        self._is_text = False
        self._model: TextModel | None = None
        self._sign = 2
        """The symbol among text that says that something else follows."""
        self._recent = [0, 0, 0, 0]
        self._length = 0
        self._lowest = self._lowest_again = 0

    def file(self, packed: Source, size: int) -> Iterator[bytes]:
        """Yield the content of the next member, of `size` bytes; PackedFault if it cannot be unpacked."""
        bits = Bits(blocks_of(packed, packed.size))
        self._filters.waiting.clear()
        self._given = len(self._out)  # all of it, unless the previous member was damaged
        is_over = False
        came = 0
        if self._is_text:
            self._needs_codes = True
        while came < size and not is_over:
            before = len(self._out)
            goal = before + min(_STEP, size - came)
            if self._needs_codes:
                self._begin_block(bits)
            if self._is_text:
                with _no_collector():
                    is_over = self._text(bits, goal, before - came)
            else:
                is_over = self._matches(bits, goal, before - came)
            came += len(self._out) - before
            yield from self._ready(came)
            self._forget()
        if not is_over and not self._needs_codes:
            self._pass_end(bits)
        yield from self._ready(came, is_whole=True)

    # --- what goes out -----------------------------------------------------------------------------------

    def _ready(self, came: int, *, is_whole: bool = False) -> Iterator[bytes]:
        """Yield the finished output: all before the first pending filter, and the results of filters.

        `came` is the size of the member so far.
        """
        waiting = self._filters.waiting
        while self._given < len(self._out):
            position = came - (len(self._out) - self._given)
            first = waiting[0] if waiting else None
            if first and first.start < position:
                raise PackedFault("a filter begins in what it should have changed before")
            if not first or first.start >= came:
                yield from self._give(len(self._out))
            elif first.start > position:
                yield from self._give(self._given + first.start - position)
            elif first.start + first.size > came and not is_whole:
                return
            else:
                yield self._filtered(self._given)

    def _give(self, upto: int) -> Iterator[bytes]:
        block = bytes(self._out[self._given : upto])
        self._given = upto
        if block:
            yield block

    def _filtered(self, at: int) -> bytes:
        """Return the range that begins here, transformed by all its filters."""
        waiting = self._filters.waiting
        first = waiting.pop(0)
        content = bytes(self._out[at : at + first.size])
        self._given = at + len(content)
        if len(content) < first.size:
            raise PackedFault("a filter reaches behind the end")
        content = first.changed(content)
        while waiting and (waiting[0].start, waiting[0].size) == (first.start, first.size):
            content = waiting.pop(0).changed(content)
        return content

    def _forget(self) -> None:
        """Drop output that no match can reach any more."""
        over = min(len(self._out) - _WINDOW, self._given)
        if over > _STEP:
            del self._out[:over]
            self._given -= over

    # --- blocks ------------------------------------------------------------------------------------------

    def _begin_block(self, bits: Bits) -> None:
        bits.to_byte()
        self._is_text = bool(bits.take(1))
        if self._is_text:
            self._begin_text(bits)
            self._needs_codes = False
            return
        if not bits.take(1):
            self._lengths = [0] * _ALL
        self._lowest = self._lowest_again = 0
        self._read_lengths(bits, _lengths_of_lengths(bits))
        ends = (_MAIN, _MAIN + _FAR, _MAIN + _FAR + _LOW, _ALL)
        main, far, low, lengths = (Code(self._lengths[begin:end]) for begin, end in zip((0, *ends), ends, strict=False))
        self._codes = main, far, low, lengths
        self._needs_codes = False

    def _read_lengths(self, bits: Bits, code: Code) -> None:
        """Read the code lengths, which are stored as differences from the previous ones."""
        lengths, at = self._lengths, 0
        while at < _ALL:
            symbol = code.next(bits)
            if symbol < _SAME:
                lengths[at] = lengths[at] + symbol & 15
                at += 1
                continue
            is_long = symbol not in (_SAME, _NONE)
            count = min((bits.take(7) + 11) if is_long else (bits.take(3) + 3), _ALL - at)
            if symbol <= _SAME_LONG:
                if not at:
                    raise PackedFault("a table of codes repeats a length before the first")
                lengths[at : at + count] = [lengths[at - 1]] * count
            else:
                lengths[at : at + count] = [0] * count
            at += count

    def _begin_text(self, bits: Bits) -> None:
        flags = bits.take(7)
        memory = bits.take(8) + 1 << 20 if flags & 0x20 else 0
        if flags & 0x40:
            self._sign = bits.take(8)
        else:
            self._sign = 2
        if memory:
            order = (flags & 0x1F) + 1
            if order == 1:
                raise PackedFault("its text model has no contexts")
            self._model = TextModel(order if order <= 16 else 16 + (order - 16) * 3, memory)
        if not self._model:
            raise PackedFault("its text goes on with a model that did not come")
        self._model.coder = RangeDecoder(lambda: bits.take(8))

    # --- text --------------------------------------------------------------------------------------------

    def _text(self, bits: Bits, goal: int, begin: int) -> bool:
        """Unpack text up to so many bytes or to the end of its block; returns whether the member ends.

        `begin` is where the member begins in the output that is kept.
        """
        assert self._model, "the block began it"
        symbol_of, out, sign = self._model.symbol, self._out, self._sign
        while len(out) < goal:
            symbol = symbol_of()
            if symbol != sign:
                out.append(symbol)
                continue
            kind = symbol_of()
            if kind == 0:
                self._needs_codes = True
                return False
            if kind == 2:
                return True
            if kind == 3:
                self._read_filter(symbol_of, len(out) - begin)
                return False
            if kind == 4:
                high, middle, low = symbol_of(), symbol_of(), symbol_of()
                self._copy((high << 16 | middle << 8 | low) + 2, symbol_of() + 32)
            elif kind == 5:
                self._copy(1, symbol_of() + 4)
            else:
                out.append(symbol)
        return False

    def _copy(self, distance: int, length: int) -> None:
        out = self._out
        begin = len(out) - distance
        if begin < 0:
            raise PackedFault("a match reaches behind the begin")
        if distance >= length:
            out += out[begin : begin + length]
        else:
            out += (out[begin:] * (length // distance + 1))[:length]

    def _read_filter(self, byte: Callable[[], int], at: int) -> None:
        flags = byte()
        size = (flags & 7) + 1
        if size == 7:
            size = byte() + 7
        elif size == 8:
            size = byte() << 8 | byte()
        self._filters.read(flags, bytes(byte() for _ in range(size)), at)

    # --- matches -----------------------------------------------------------------------------------------

    def _matches(self, bits: Bits, goal: int, begin: int) -> bool:
        """Unpack matches up to so many bytes or to the end of their block; returns whether the member ends.

        `begin` is where the member begins in the output that is kept.
        """
        assert self._codes, "the block brought them"
        out, recent, masks = self._out, self._recent, MASKS
        main, far, low, lengths = self._codes
        symbols, widths, main_bits, main_mask = main.symbols, main.lengths, main.bits, main.mask
        append, words = out.append, bits.words
        acc, have = bits.acc, bits.have
        length = self._length
        while len(out) < goal:
            # Enough for any match: 64 bits and those of the symbol.
            while have < 80:
                word = next(words, None)
                if word is None:
                    raise PackedFault("the packed bytes end too early")
                acc = (acc & masks[have]) << 32 | word
                have += 32
            index = acc >> have - main_bits & main_mask
            have -= widths[index]
            symbol = symbols[index]
            if symbol < _END:
                append(symbol)
                continue
            if symbol >= _MATCH:
                if symbol == UNUSED:
                    raise PackedFault("a code stands for nothing")
                symbol -= _MATCH
                length = _LENGTH_BASES[symbol] + 3
                if count := _LENGTH_BITS[symbol]:
                    have -= count
                    length += acc >> have & masks[count]
                index = acc >> have - far.bits & far.mask
                have -= far.lengths[index]
                symbol = far.symbols[index]
                if symbol == UNUSED:
                    raise PackedFault("a code stands for nothing")
                distance = _FAR_BASES[symbol] + 1
                count = _FAR_BITS[symbol]
                if symbol >= _LOWEST:
                    if count > 4:
                        have -= count - 4
                        distance += (acc >> have & masks[count - 4]) << 4
                    if self._lowest_again:
                        self._lowest_again -= 1
                        distance += self._lowest
                    else:
                        index = acc >> have - low.bits & low.mask
                        have -= low.lengths[index]
                        symbol = low.symbols[index]
                        if symbol == _SAME_LOWEST:
                            self._lowest_again = _SAME_FOR
                        elif symbol == UNUSED:
                            raise PackedFault("a code stands for nothing")
                        else:
                            self._lowest = symbol
                        distance += self._lowest
                elif count:
                    have -= count
                    distance += acc >> have & masks[count]
                if distance >= _LONGER_FROM[0]:
                    length += 2 if distance >= _LONGER_FROM[1] else 1
                recent.insert(0, distance)
                recent.pop()
            elif symbol >= _SHORT:
                symbol -= _SHORT
                count = _SHORT_BITS[symbol]
                have -= count
                distance = _SHORT_BASES[symbol] + 1 + (acc >> have & masks[count])
                length = 2
                recent.insert(0, distance)
                recent.pop()
            elif symbol >= _RECENT:
                distance = recent.pop(symbol - _RECENT)
                recent.insert(0, distance)
                index = acc >> have - lengths.bits & lengths.mask
                have -= lengths.lengths[index]
                symbol = lengths.symbols[index]
                if symbol == UNUSED:
                    raise PackedFault("a code stands for nothing")
                length = _LENGTH_BASES[symbol] + 2
                if count := _LENGTH_BITS[symbol]:
                    have -= count
                    length += acc >> have & masks[count]
            elif symbol == _AGAIN:
                if not length:
                    continue
                distance = recent[0]
            else:
                bits.acc, bits.have, self._length = acc, have, length
                if symbol == _END:
                    return self._ends_member(bits)
                self._read_filter(lambda: bits.take(8), len(out) - begin)
                return False
            start = len(out) - distance
            if start < 0 or not distance:
                raise PackedFault("a match reaches behind the begin")
            if distance >= length:
                out += out[start : start + length]
            else:
                out += (out[start:] * (length // distance + 1))[:length]
        bits.acc, bits.have, self._length = acc, have, length
        return False

    def _ends_member(self, bits: Bits) -> bool:
        """Whether the member ends together with the current block."""
        if bits.take(1):
            self._needs_codes = True
            return False
        self._needs_codes = bool(bits.take(1))
        return True

    def _pass_end(self, bits: Bits) -> None:
        """Read what follows the last byte: the next member's state depends on it."""
        try:
            if self._is_text:
                assert self._model, "the block began it"
                if self._model.symbol() == self._sign:
                    self._model.symbol()
                return
            assert self._codes, "the block brought them"
            if self._codes[0].next(bits) == _END:
                self._ends_member(bits)
        except (PackedFault, RarRefusal):
            return  # nothing readable follows; if there should be more, the checksum reveals it


@contextmanager
def _no_collector() -> Iterator[None]:
    """Pause garbage collection: a model has hundreds of thousands of objects, and scanning them is in vain."""
    was_enabled = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_enabled:
            gc.enable()


def _lengths_of_lengths(bits: Bits) -> Code:
    """Read the code for the code lengths."""
    lengths: list[int] = []
    while len(lengths) < 20:
        length = bits.take(4)
        zeros = bits.take(4) if length == 15 else 0
        lengths += [0] * (zeros + 2) if zeros else [length]
    return Code(lengths[:20])
