"""What packers do to content so that it packs better, and how it is undone.

Sources: libarchive (archive_read_support_format_rar.c and _rar5.c, BSD licence) and XADMaster (XADRARFilters.m, LGPL);
for Itanium's code, the branch filter of the public domain LZMA SDK, whose fields are the same.

Each takes the bytes and their offset in their file, and gives as many.
"""

import re
import sys
from array import array
from itertools import accumulate

_CALLS = re.compile(rb"\xe8")
"""E8: a call of x86 with a relative address."""
_CALLS_AND_JUMPS = re.compile(rb"[\xe8\xe9]")
"""The same, and E9, a jump."""
_SPAN = 1 << 24
"""Bytes that code is taken to reach over: addresses beyond are no addresses."""
_NEGATED = bytes(-value & 0xFF for value in range(256))
"""Byte → what is to be added instead of subtracting it."""


def x86(data: bytes, offset: int, *, has_jumps: bool = False, wraps: bool = False) -> bytes:
    """Absolute targets of calls (and jumps) made relative again. With `wraps` places count modulo 16 MB."""
    out = bytearray(data)
    find = (_CALLS_AND_JUMPS if has_jumps else _CALLS).search
    at, last = 0, len(out) - 5
    while found := find(out, at):
        at = found.start() + 1
        if at > last + 1:
            break
        place = offset + at
        place = place % _SPAN if wraps else place & 0xFFFFFFFF
        target = int.from_bytes(out[at : at + 4], "little", signed=True)
        if target < 0:
            if target + place >= 0:
                out[at : at + 4] = (target + _SPAN & 0xFFFFFFFF).to_bytes(4, "little")
        elif target < _SPAN:
            out[at : at + 4] = (target - place & 0xFFFFFFFF).to_bytes(4, "little")
        at += 4
    return bytes(out)


def arm(data: bytes, offset: int) -> bytes:
    """The same for the branches of 32-bit ARM code."""
    out = bytearray(data)
    kinds = data[3::4]
    at = kinds.find(0xEB)
    while at >= 0:
        target = int.from_bytes(out[4 * at : 4 * at + 3], "little") - (offset // 4 + at)
        out[4 * at : 4 * at + 3] = (target & 0xFFFFFF).to_bytes(3, "little")
        at = kinds.find(0xEB, at + 1)
    return bytes(out)


_SLOTS = (4, 4, 6, 6, 0, 0, 7, 7, 4, 4, 0, 0, 4, 4, 0, 0)
"""Which of a bundle's three instructions may be a branch, by the bundle's template from 16 on."""


def itanium(data: bytes, offset: int) -> bytes:
    """The same for Itanium: bundles of 16 bytes with three instructions of 41 bits behind a template of 5."""
    out = bytearray(data)
    number = offset >> 4
    for at in range(0, len(out) - 21, 16):
        template = (out[at] & 0x1F) - 0x10
        slots = _SLOTS[template] if template >= 0 else 0
        if slots:
            bundle = int.from_bytes(out[at : at + 16], "little")
            for slot in range(3):
                begin = slot * 41 + 5
                if slots >> slot & 1 and bundle >> begin + 37 & 15 == 5:
                    place = begin + 13
                    target = (bundle >> place) - (number + at // 16) & 0xFFFFF
                    bundle = bundle & ~(0xFFFFF << place) | target << place
            out[at : at + 16] = bundle.to_bytes(16, "little")
    return bytes(out)


def delta(data: bytes, _offset: int = 0, *, channels: int) -> bytes:
    """Channels that lay one after the other, each byte as the difference to the one before it, woven together."""
    out = bytearray(len(data))
    at = 0
    for channel in range(min(channels, len(data))):
        size = len(range(channel, len(data), channels))
        # Sums by the processor's own loop: the lowest byte of each, and its sign, are all that matters.
        sums = array("Q", accumulate(data[at : at + size])).tobytes()
        out[channel::channels] = sums[0 if sys.byteorder == "little" else 7 :: 8].translate(_NEGATED)
        at += size
    return bytes(out)


def picture(data: bytes, _offset: int = 0, *, stride: int, first_blue: int) -> bytes:
    """Three colours that lay one after the other, each predicted from the pixels to the left and above, woven together.

    `stride` is a line's bytes; from `first_blue` on, the outer colours of each pixel are differences to the middle one.
    """
    size = len(data)
    out = bytearray(size)
    source = iter(data)
    for colour in range(3):
        left = 0
        above = colour - stride
        for at in range(colour, size, 3):
            if above >= 0:
                corner, up = out[above], out[above + 3]
                by_left, by_up = abs(up - corner), abs(left - corner)
                by_corner = abs(up + left - 2 * corner)
                if by_left > by_up or by_left > by_corner:
                    left = up if by_up <= by_corner else corner
            left = left - next(source) & 0xFF
            out[at] = left
            above += 3
    for at in range(first_blue, size - 2, 3):
        middle = out[at + 1]
        out[at] = out[at] + middle & 0xFF
        out[at + 2] = out[at + 2] + middle & 0xFF
    return bytes(out)


def sound(data: bytes, _offset: int = 0, *, channels: int) -> bytes:
    """Channels of samples that lay one after the other, each predicted from the samples before it, woven together."""
    out = bytearray(len(data))
    source = iter(data)
    for channel in range(min(channels, len(data))):
        weights = [0, 0, 0]
        errors = [0] * 7
        last = last_change = first = second = third = 0
        for count, at in enumerate(range(channel, len(data), channels)):
            third, second, first = second, last_change - first, last_change
            guess = 8 * last + weights[0] * first + weights[1] * second + weights[2] * third >> 3
            value = next(source)
            sample = guess - value & 0xFF
            wrong = (value - 256 if value > 127 else value) << 3
            errors[0] += abs(wrong)
            errors[1] += abs(wrong - first)
            errors[2] += abs(wrong + first)
            errors[3] += abs(wrong - second)
            errors[4] += abs(wrong + second)
            errors[5] += abs(wrong - third)
            errors[6] += abs(wrong + third)
            change = sample - last & 0xFF
            last_change = change - 256 if change > 127 else change
            last = out[at] = sample
            if not count & 31:
                best = errors.index(min(errors))
                errors = [0] * 7
                adjust(weights, best)
    return bytes(out)


def adjust(weights: list[int], best: int) -> None:
    """Move the weight that would have been nearer: error 1 and 2 are the first weight's, down and up, and so on."""
    which, is_up = divmod(best - 1, 2)
    if best and is_up and weights[which] < 16:
        weights[which] += 1
    elif best and not is_up and weights[which] >= -16:
        weights[which] -= 1
