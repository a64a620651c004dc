"""The method of the second generation, RAR 2.0 to 2.8: matches, and a method of its own for sound.

Source: XADMaster (XADRAR20Handle.m, RARAudioDecoder.c, LGPL).
"""

from collections.abc import Iterator

from usufruct.archives.bits import MASKS, Bits, PackedFault
from usufruct.archives.prefix_codes import Code
from usufruct.archives.rar.common import blocks_of
from usufruct.archives.rar.filters import adjust
from usufruct.archives.rar.history import History
from usufruct.archives.rar.lengths import read_lengths
from usufruct.archives.rar.lz3 import LENGTH_OF, SHORT, sums_of
from usufruct.files.sources import Source

DICTIONARY = 1 << 20
"""Bytes of the window."""
_MAIN, _DISTANCES, _LENGTHS = 298, 48, 28
"""Symbols of each code."""
_CHANNEL = 257
"""Symbols of the code of a channel of sound: 256 differences and the end."""
_DISTANCE_BITS = (0, 0, *(bits for bits in range(17) for _ in range(2)), *(16,) * 12)[:_DISTANCES]
"""Bits behind each symbol of a distance."""
_DISTANCE_OF = sums_of(_DISTANCE_BITS, 1)
"""The distance that each symbol begins at."""
_NEAR = 32 * 300
"""Bytes that are unpacked at most between two looks at how much there is."""
_NEVER = 1 << 30
"""More bytes than any content has."""
_LEAST_CODES = 5
"""Bytes behind a file's content from which on they may be codes for the next file."""


class Unpacker20:
    """Unpacks the files of one stream, in order."""

    def __init__(self) -> None:
        self.history = History(DICTIONARY)
        self._before = [0] * (4 * _CHANNEL)
        self._codes: list[Code] = []
        self._is_sound = False
        self._channels = [_Channel() for _ in range(4)]
        self._channel = self._change = 0
        self._recent = [0, 0, 0, 0]
        self._length = 0

    def file(self, packed: Source, size: int) -> Iterator[bytes]:
        """The content of the next file, of `size` bytes; PackedFault if it cannot be unpacked."""
        history = self.history
        begin = history.begin_file()
        end = begin + size
        bits = Bits(blocks_of(packed, packed.size))
        if not self._codes:
            self._read_codes(bits)
        while history.position < end:
            (self._run_sound if self._is_sound else self._run)(bits, history.until(end))
            yield from history.ready(begin, end)
        history.end_file(end)
        self._read_last_codes(bits)

    def _run(self, bits: Bits, until: int) -> None:
        """Unpack until `out` is so long, by a match more at most, or codes change."""
        main, distances, lengths = self._codes
        symbols, widths, size, mask = main.symbols, main.lengths, main.bits, main.mask
        out = self.history.out
        append = out.append
        first, second, third, fourth = self._recent
        length = self._length
        acc, have, words = bits.acc, bits.have, bits.words
        # Near the end every symbol is looked at: the next file's codes begin right behind the last one.
        need = size if len(out) + _NEAR < until else _NEVER
        try:
            while True:
                if have < need:
                    if have < size:
                        acc = (acc & MASKS[have]) << 32 | next(words)
                        have += 32
                    if len(out) + _NEAR >= until:
                        need = _NEVER
                        if len(out) >= until:
                            return
                index = acc >> (have - size) & mask
                have -= widths[index]
                symbol = symbols[index]
                if symbol < 256:
                    append(symbol)
                    continue
                if have < 32:
                    acc = (acc & MASKS[have]) << 32 | next(words)
                    have += 32
                if symbol >= 270:
                    length, more = LENGTH_OF[symbol - 270]
                    length += 3
                    if more:
                        have -= more
                        length += acc >> have & MASKS[more]
                    index = acc >> (have - distances.bits) & distances.mask
                    have -= distances.lengths[index]
                    distance, more = _DISTANCE_OF[distances.symbols[index]]
                    if more:
                        if have < more:
                            acc = (acc & MASKS[have]) << 32 | next(words)
                            have += 32
                        have -= more
                        distance += acc >> have & MASKS[more]
                    if distance >= 0x2000:
                        length += 1
                        if distance >= 0x40000:
                            length += 1
                elif symbol == 269:
                    bits.acc, bits.have = acc, have
                    self._read_codes(bits)
                    acc, have = bits.acc, bits.have
                    return
                elif symbol >= 261:
                    distance, more = SHORT[symbol - 261]
                    have -= more
                    distance += acc >> have & MASKS[more]
                    length = 2
                elif symbol >= 257:
                    distance = (first, second, third, fourth)[symbol - 257]
                    index = acc >> (have - lengths.bits) & lengths.mask
                    have -= lengths.lengths[index]
                    length, more = LENGTH_OF[lengths.symbols[index]]
                    length += 2
                    if more:
                        have -= more
                        length += acc >> have & MASKS[more]
                    if distance >= 0x101:
                        length += 1
                        if distance >= 0x2000:
                            length += 1
                            if distance >= 0x40000:
                                length += 1
                else:
                    distance = first
                first, second, third, fourth = distance, first, second, third
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
            self._length = length

    def _run_sound(self, bits: Bits, until: int) -> None:
        """The same for samples, which come for each channel in turn."""
        out, codes, channels = self.history.out, self._codes, self._channels
        while len(out) < until:
            symbol = codes[self._channel].next(bits)
            if symbol == 256:
                self._read_codes(bits)
                return
            sample, self._change = channels[self._channel].sample(symbol, self._change)
            out.append(sample)
            self._channel = (self._channel + 1) % len(codes)

    def _read_codes(self, bits: Bits) -> None:
        self._is_sound = bool(bits.take(1))
        if not bits.take(1):
            self._before = [0] * len(self._before)
        channels = bits.take(2) + 1 if self._is_sound else 0
        count = channels * _CHANNEL or _MAIN + _DISTANCES + _LENGTHS
        lengths = self._before[:count] = read_lengths(bits, self._before[:count], has_long_runs=False)
        if channels:
            self._codes = [Code(lengths[at : at + _CHANNEL]) for at in range(0, count, _CHANNEL)]
            self._channel = self._channel if self._channel < channels else 0
        else:
            low = _MAIN + _DISTANCES
            self._codes = [Code(lengths[:_MAIN]), Code(lengths[_MAIN:low]), Code(lengths[low:])]

    def _read_last_codes(self, bits: Bits) -> None:
        """Behind a file's content there may be codes for the next one."""
        try:
            if bits.is_over(_LEAST_CODES):
                return
            code, sign = (self._codes[self._channel], 256) if self._is_sound else (self._codes[0], 269)
            if code.next(bits) == sign:
                self._read_codes(bits)
        except PackedFault:
            return  # it was none: a next file will tell, by its checksum


class _Channel:
    """Foretells the samples of one channel from those before."""

    def __init__(self) -> None:
        self._weights = [0] * 5
        self._errors = [0] * 11
        self._count = self._last = self._last_change = 0
        self._first = self._second = self._third = 0

    def sample(self, value: int, other: int) -> tuple[int, int]:
        """The sample that differs by `value` from the guess, and its change; `other` is the channel before's."""
        self._count += 1
        fourth, third = self._third, self._second
        second, first = self._last_change - self._first, self._last_change
        self._first, self._second, self._third = first, second, third
        weights = self._weights
        guess = (
            8 * self._last + weights[0] * first + weights[1] * second + weights[2] * third + weights[3] * fourth
            + weights[4] * other
        ) >> 3 & 0xFF  # fmt: skip
        sample = guess - value & 0xFF
        wrong = (value - 256 if value > 127 else value) << 3
        errors = self._errors
        errors[0] += abs(wrong)
        for place, change in enumerate((first, second, third, fourth, other)):
            errors[2 * place + 1] += abs(wrong - change)
            errors[2 * place + 2] += abs(wrong + change)
        change = sample - self._last & 0xFF
        self._last_change = change = change - 256 if change > 127 else change
        self._last = sample
        if not self._count & 31:
            adjust(weights, errors.index(min(errors)))
            self._errors = [0] * 11
        return sample, change
