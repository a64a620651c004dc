"""The filters of RAR 3: programs in the archive, recognised by length and checksum.

Source: libarchive (archive_read_support_format_rar.c, BSD licence; see LICENSES/). No program is run: each known one
has an equivalent here, and any other is refused.
"""

import struct
import zlib
from collections.abc import Callable

from msgspec import Struct

from usufruct.archives.bits import Bits, PackedFault
from usufruct.archives.rar.common import RarRefusal

_MEMORY = 0x40000
"""Bytes of the memory that the programs had: what a register begins with."""
_LONGEST = 0x3C000
"""Bytes that a filter may change; half of them where its output lies beside its input."""
_LONGEST_PROGRAM = 0x10000
_MOST_PROGRAMS, _MOST_WAITING = 1024, 8192
"""Programs of one stream, and filters that were told and wait for their bytes."""
_SIZE_OF_ADDRESSES = 1 << 24


class Filter(Struct):
    """A range of the output that is transformed once it is complete."""

    start: int
    """Place in the member."""
    size: int
    program: Callable[[bytes, tuple[int, ...], int], bytes]
    registers: tuple[int, ...]

    def changed(self, content: bytes) -> bytes:
        """Return the transformed range."""
        return self.program(content, self.registers, self.start)


class _Program(Struct):
    apply: Callable[[bytes, tuple[int, ...], int], bytes]
    used: int = 0
    size: int = 0
    """Of the stretch that it changed last."""


class FilterReader:
    """Reads the filters of a stream, which may refer to programs of earlier ones."""

    def __init__(self) -> None:
        self.waiting: list[Filter] = []
        """Those that were told and wait for their bytes, in the order they are applied in."""
        self._programs: list[_Program] = []
        self._last = 0

    def read(self, flags: int, code: bytes, at: int) -> None:
        """Read the filter that `flags` and `code` describe at this position of the member.

        Raises PackedFault if it is impossible, RarRefusal for an unknown program.
        """
        bits = Bits([code])
        number = self._last
        if flags & 0x80:
            number = _number(bits)
            if number:
                number -= 1
            else:
                self._programs.clear()
                self.waiting.clear()
            if number > len(self._programs):
                raise PackedFault("a filter names a program that did not come")
            self._last = number
        program = self._programs[number] if number < len(self._programs) else None
        if program:
            program.used += 1
        start = at + _number(bits) + (258 if flags & 0x40 else 0)
        size = _number(bits) if flags & 0x20 else program.size if program else 0
        registers = [0, 0, 0, _LONGEST, size, program.used if program else 0, 0, _MEMORY]
        if flags & 0x10:
            given = bits.take(7)
            for register in range(7):
                if given >> register & 1:
                    registers[register] = _number(bits)
        if not program:
            program = self._new(bits)
        program.size = size
        if size > _LONGEST or registers[4] != size:
            raise PackedFault("a filter is longer than any may be")
        if len(self.waiting) >= _MOST_WAITING:
            raise PackedFault("too many filters wait for their bytes")
        self.waiting.append(Filter(start, size, program.apply, tuple(registers)))

    def _new(self, bits: Bits) -> _Program:
        size = _number(bits)
        if not 0 < size <= _LONGEST_PROGRAM or len(self._programs) >= _MOST_PROGRAMS:
            raise PackedFault("a filter has no program, or there are too many")
        code = bytes(bits.take(8) for _ in range(size))
        apply = _KNOWN.get((size, zlib.crc32(code)))
        if not apply:
            raise RarRefusal(f"it is packed with a filter program that is not known (of {size} bytes)")
        program = _Program(apply)
        self._programs.append(program)
        return program


def _number(bits: Bits) -> int:
    kind = bits.take(2)
    if kind == 0:
        return bits.take(4)
    if kind == 1:
        value = bits.take(8)
        return value if value >= 16 else 0xFFFF_FF00 | value << 4 | bits.take(4)
    return bits.take(16 if kind == 2 else 32)


def _channels(content: bytes, registers: tuple[int, ...], _: int) -> bytes:
    """Undo the differences of several channels, which are stored one after the other."""
    count = registers[0]
    if not 0 < count <= len(content) or len(content) > _LONGEST // 2:
        return _unchanged(content)
    out = bytearray(len(content))
    at = 0
    for channel in range(count):
        last = 0
        for position in range(channel, len(content), count):
            last = last - content[at] & 0xFF
            out[position] = last
            at += 1
    return bytes(out)


def _calls(content: bytes, _: tuple[int, ...], start: int, marks: bytes = b"\xe8") -> bytes:
    """Undo the absolute call targets of x86 code: they are relative in the program."""
    out = bytearray(content)
    at = 0
    while at <= len(content) - 5:
        if out[at] not in marks:
            at += 1
            continue
        here = start + at + 1 & 0xFFFF_FFFF
        (address,) = struct.unpack_from("<l", out, at + 1)
        if address < 0 and here >= -address:
            address += _SIZE_OF_ADDRESSES
        elif 0 <= address < _SIZE_OF_ADDRESSES:
            address -= here
        struct.pack_into("<L", out, at + 1, address & 0xFFFF_FFFF)
        at += 5
    return bytes(out)


def _calls_and_jumps(content: bytes, registers: tuple[int, ...], start: int) -> bytes:
    return _calls(content, registers, start, b"\xe8\xe9")


def _picture(content: bytes, registers: tuple[int, ...], _: int) -> bytes:
    """Undo the prediction of three-byte pixels from their neighbours; the colours are stored one after the other."""
    stride, first = registers[0], registers[1]
    size = len(content)
    if size > _LONGEST // 2 or stride > size:
        return _unchanged(content)
    out = bytearray(size)
    at = 0
    for colour in range(3):
        byte = 0
        for position in range(colour, size, 3):
            above = position - stride
            if above >= 0:
                upper, corner = out[above + 3] if above + 3 < size else 0, out[above]
                to_left, to_upper = abs(upper - corner), abs(byte - corner)
                to_corner = abs(upper - corner + byte - corner)
                if to_left > to_upper or to_left > to_corner:
                    byte = upper if to_upper <= to_corner else corner
            byte = byte - content[at] & 0xFF
            at += 1
            out[position] = byte
    for position in range(first, size - 2, 3):
        green = out[position + 1]
        out[position] = out[position] + green & 0xFF
        out[position + 2] = out[position + 2] + green & 0xFF
    return bytes(out)


def _sound(content: bytes, registers: tuple[int, ...], _: int) -> bytes:
    """Undo the adaptive prediction of samples of several channels."""
    count = registers[0]
    if not 0 < count <= len(content) or len(content) > _LONGEST // 2:
        return _unchanged(content)
    out = bytearray(len(content))
    at = 0
    for channel in range(count):
        weights = [0, 0, 0]
        deltas = [0, 0, 0]
        faults = [0] * 7
        last = change = 0
        for number, position in enumerate(range(channel, len(content), count)):
            told = _signed(content[at])
            at += 1
            deltas = [change, change - deltas[0], deltas[1]]
            guess = 8 * last + sum(weight * delta for weight, delta in zip(weights, deltas, strict=True)) >> 3
            byte = guess - told & 0xFF
            fault = told << 3
            faults[0] += abs(fault)
            for kind, delta in enumerate(deltas):
                faults[2 * kind + 1] += abs(fault - delta)
                faults[2 * kind + 2] += abs(fault + delta)
            change = _signed(byte - last & 0xFF)
            out[position] = last = byte
            if not number & 0x1F:
                best = faults.index(min(faults))
                faults = [0] * 7
                if best:
                    kind = best - 1 >> 1
                    if best & 1 and weights[kind] >= -16:
                        weights[kind] -= 1
                    elif not best & 1 and weights[kind] < 16:
                        weights[kind] += 1
    return bytes(out)


def _signed(byte: int) -> int:
    return byte - 256 if byte & 0x80 else byte


def _unchanged(content: bytes) -> bytes:
    """Return the range unchanged: what these registers mean is unknown, so the checksum decides."""
    return content


_KNOWN: dict[tuple[int, int], Callable[[bytes, tuple[int, ...], int], bytes]] = {
    (0x1D, 0x0E06077D): _channels,
    (0x35, 0xAD576887): _calls,
    (0x39, 0x3CD7E57E): _calls_and_jumps,
    (0x95, 0x1C2C5DC8): _picture,
    (0xD8, 0xBC85E701): _sound,
}
"""Bytes of a program and their CRC-32 → what it does."""
