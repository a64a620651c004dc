"""Unpack the folders of a 7z: each is a small tree of methods, from packed streams to plain bytes.

Sources: the public domain LZMA SDK's Methods.txt; for two filters, liblzma (arm64.c, in the public domain) and
libarchive (archive_read_support_format_7zip.c, the part in the public domain).
"""

import lzma
import re
from array import array
from collections.abc import Callable, Generator, Iterator
from importlib.util import find_spec
from itertools import accumulate, chain
from sys import byteorder
from typing import Protocol, cast

from usufruct.archives.reading import BLOCK
from usufruct.archives.seven.ciphers import deciphered
from usufruct.archives.seven.folders import LZMA, LZMA2, Coder, CoderChain, SevenFault, UnknownMethod
from usufruct.archives.streams.decompress import PACKING_ERRORS, bounded, bunzip2, inflate, inflate64, stored, unzstd
from usufruct.files.sources import SliceSource, Source

Blocks = Iterator[bytes]

METHODS = {
    b"\x00": "stored",
    b"\x03": "delta",
    b"\x0a": "bcj arm64",
    b"\x0b": "bcj riscv",
    b"\x21": "lzma2",
    b"\x02\x03\x02": "swap2",
    b"\x02\x03\x04": "swap4",
    b"\x03\x01\x01": "lzma",
    b"\x03\x03\x01\x03": "bcj x86",
    b"\x03\x03\x01\x1b": "bcj2",
    b"\x03\x03\x02\x05": "bcj ppc",
    b"\x03\x03\x04\x01": "bcj ia64",
    b"\x03\x03\x05\x01": "bcj arm",
    b"\x03\x03\x07\x01": "bcj armt",
    b"\x03\x03\x08\x05": "bcj sparc",
    b"\x03\x04\x01": "ppmd",
    b"\x04\x01\x08": "deflate",
    b"\x04\x01\x09": "deflate64",
    b"\x04\x02\x02": "bzip2",
    b"\x04\xf7\x11\x01": "zstd",
    b"\x04\xf7\x11\x02": "brotli",
    b"\x04\xf7\x11\x04": "lz4",
    b"\x06\xf1\x07\x01": "AES-256",
}
"""Numbers of methods, as Methods.txt of the LZMA SDK has them."""
LOCK = "AES-256"
_LEAST_DICTIONARY = 4096
"""Bytes that the library for LZMA asks for at least."""
_LONGEST_HELD = 64
"""Bytes that the library for branches holds back, at most."""
_NO_BROTLI = "brotli (`pip install 'usufruct[brotli]'` adds it)"
_BEHIND = 1 << 20
"""Packed bytes that a filter is given at once."""


def method_name(method: bytes) -> str:
    """Return a method's name, or its number if it is unknown."""
    return METHODS.get(method, f"method {method.hex()}")


def unknown_method(folder: CoderChain) -> str:
    """Return the name of a folder's first unsupported method; empty if all are supported."""
    for coder in folder.coders:
        name = method_name(coder.method)
        is_known = coder.inputs == 4 if name == "bcj2" else coder.inputs == 1 and (name in _UNDONE or name == LOCK)
        if not is_known:
            return name
        if name == "brotli" and find_spec("brotli") is None:
            return _NO_BROTLI
    return ""


def plain_blocks(source: Source, folder: CoderChain, password: str | None) -> Generator[bytes, None, None]:
    """Yield the plain bytes of a folder in blocks.

    Raises UnknownMethod; SevenFault if the methods do not fit together; PACKING_ERRORS for invalid bytes, which a wrong
    password produces too.
    """
    tree = _FolderTree(source, folder, password)
    bound = {output for _, output in folder.binds}
    outputs = [number for number in range(len(folder.coders)) if number not in bound]
    if len(outputs) != 1 or any(coder.outputs != 1 for coder in folder.coders):
        raise SevenFault("a folder's methods do not lead to one stream")
    yield from tree.output(outputs[0])


class _FolderTree:
    """The methods of one folder."""

    def __init__(self, source: Source, folder: CoderChain, password: str | None) -> None:
        self._source, self._folder, self._password = source, folder, password
        self._bound = dict(folder.binds)
        self._packed = {taker: number for number, taker in enumerate(folder.takers)}

    def output(self, number: int) -> Generator[bytes, None, None]:
        """Return the output of the method with this number.

        No method can lead back to itself: each output but one is bound, so none can be bound twice.
        """
        coder, size = self._folder.coders[number], self._folder.sizes[number]
        first = sum(each.inputs for each in self._folder.coders[:number])
        name = method_name(coder.method)
        if name == "bcj2" and coder.inputs == 4:
            inputs = [self._input(first + place) for place in range(4)]
            return _exactly(_bcj2(*inputs), size)
        if coder.inputs != 1:
            raise UnknownMethod(f"{name} with several streams")
        if name == LOCK:
            assert self._password is not None, "unlocked before anything is read"
            return _exactly(deciphered(self._input(first), coder.properties, self._password), size)
        if name not in _UNDONE:
            raise UnknownMethod(name)
        # A delta filter after LZMA is undone by the same library, a hundred times faster than Python.
        before = self._bound.get(first)
        if name == "delta" and before is not None and self._folder.coders[before].method in (LZMA, LZMA2):
            inner = self._folder.coders[before]
            taken = self._input(sum(each.inputs for each in self._folder.coders[:before]))
            filters = [_delta_filter(coder), _lzma_filter(inner, self._folder.sizes[before])]
            return _exactly(_by_lzma(taken, filters), size)
        return _exactly(_UNDONE[name](self._input(first), coder, size), size)

    def _input(self, number: int) -> Blocks:
        if (before := self._bound.get(number)) is not None:
            return self.output(before)
        packed = self._packed.get(number)
        if packed is None or packed >= len(self._folder.packed):
            raise SevenFault("a method takes a stream that there is not")
        begin, size = self._folder.packed[packed]
        return _read(SliceSource(self._source, begin, size))


def _read(source: Source) -> Blocks:
    at = 0
    while block := source.read_at(at, BLOCK):
        yield block
        at += len(block)


def _exactly(blocks: Blocks, size: int) -> Generator[bytes, None, None]:
    """Return the first `size` bytes; EOFError if there are fewer."""
    left = size
    for block in blocks:
        if len(block) >= left:
            yield block[:left]
            return
        left -= len(block)
        if block:
            yield block
    if left:
        raise EOFError("it breaks off")


# --- methods -------------------------------------------------------------------------------------------------


def _lzma_filter(coder: Coder, size: int) -> dict[str, int]:
    # A dictionary larger than the content is useless, and the library would allocate it.
    dictionary = max(_LEAST_DICTIONARY, min(coder.dictionary, size))
    if coder.method == LZMA2:
        return {"id": lzma.FILTER_LZMA2, "dict_size": dictionary}
    if len(coder.properties) != 5:
        raise SevenFault("a method's properties make no sense")
    code = coder.properties[0]
    return {
        "id": lzma.FILTER_LZMA1, "dict_size": dictionary, "lc": code % 9, "lp": code // 9 % 5, "pb": code // 45,
    }  # fmt: skip


def _delta_filter(coder: Coder) -> dict[str, int]:
    return {"id": lzma.FILTER_DELTA, "dist": (coder.properties[0] if coder.properties else 0) + 1}


def _by_lzma(blocks: Blocks, filters: list[dict[str, int]]) -> Blocks:
    return bounded(lzma.LZMADecompressor(lzma.FORMAT_RAW, filters=filters), blocks, may_lack_end=True)


def _unlzma(blocks: Blocks, coder: Coder, size: int) -> Blocks:
    return _by_lzma(blocks, [_lzma_filter(coder, size)])


def _undelta(blocks: Blocks, coder: Coder, _: int) -> Blocks:
    distance = _delta_filter(coder)["dist"]
    before = bytes(distance)
    rest = b""
    for block in chain(blocks, (None,)):
        data = rest + block if block is not None else rest + bytes(-len(rest) % distance)
        whole = len(data) // distance * distance
        out = bytearray(whole)
        for channel in range(distance):
            begun = accumulate(data[channel:whole:distance], lambda a, b: a + b & 0xFF, initial=before[channel])
            next(begun)
            out[channel::distance] = bytes(begun)
        before = bytes(out[-distance:]) or before
        rest = data[whole:]
        yield bytes(out)


def _unppmd(blocks: Blocks, coder: Coder, size: int) -> Blocks:
    import pyppmd

    if len(coder.properties) < 5:
        raise SevenFault("a method's properties make no sense")
    engine = pyppmd.Ppmd7Decoder(coder.properties[0], int.from_bytes(coder.properties[1:5], "little"))
    left = size
    # It reads beyond the last byte, so append a zero.
    for block in chain(blocks, (b"\0",)):
        for at in range(0, len(block), _BEHIND):
            piece = block[at : at + _BEHIND]
            while left and (piece or not engine.needs_input):
                plain = engine.decode(piece, min(left, BLOCK))
                piece = b""
                left -= len(plain)
                yield plain


def _unbrotli(blocks: Blocks, _: Coder, __: int) -> Blocks:
    try:
        import brotli
    except ImportError:
        raise UnknownMethod(_NO_BROTLI) from None
    engine = brotli.Decompressor()
    for block in blocks:
        try:
            yield engine.process(block, output_buffer_limit=BLOCK)
            while not engine.can_accept_more_data() and not engine.is_finished():
                yield engine.process(b"", output_buffer_limit=BLOCK)
        except brotli.error as error:
            raise ValueError(str(error)) from error
        if engine.is_finished():
            return


class _Branches(Protocol):
    def decode(self, data: bytes) -> bytes: ...


def _branches(name: str) -> "Callable[[Blocks, Coder, int], Blocks]":
    """Undo the absolute branch targets of machine code with the common library."""

    def undone(blocks: Blocks, _: Coder, size: int) -> Blocks:
        import bcj

        engine = cast(_Branches, getattr(bcj, name)(size))
        held, last = 0, b""
        for block in blocks:
            plain = engine.decode(block)
            held += len(block) - len(plain)
            last = (last + block)[-_LONGEST_HELD:]
            yield plain
        # The rest is shorter than an instruction, and stays unchanged.
        yield last[len(last) - held :]

    return undone


def _unarm64(blocks: Blocks, coder: Coder, _: int) -> Blocks:
    """Undo the absolute targets of calls (BL) and pages (ADRP) in 64-bit ARM code."""
    place = int.from_bytes(coder.properties[:4], "little")
    for block in _in_units(blocks, 4):
        words = array("I", block[: len(block) // 4 * 4])
        if byteorder == "big":
            words.byteswap()
        for number, word in enumerate(words):
            if word >> 26 == 0x25:
                words[number] = 0x94000000 | word - (place + 4 * number >> 2) & 0x03FFFFFF
            elif word & 0x9F000000 == 0x90000000:
                page = word >> 29 & 3 | word >> 3 & 0x1FFFFC
                if page + 0x20000 & 0x1C0000:
                    continue
                page = page - (place + 4 * number >> 12) & 0xFFFF_FFFF
                high = 0xE00000 if page & 0x20000 else 0
                words[number] = word & 0x9000001F | (page & 3) << 29 | (page & 0x3FFFC) << 3 | high
        place = place + len(block) & 0xFFFF_FFFF
        if byteorder == "big":
            words.byteswap()
        yield words.tobytes() + block[len(block) // 4 * 4 :]


def _swapped(size: int) -> "Callable[[Blocks, Coder, int], Blocks]":
    """Yield the bytes with each pair or group of four reversed."""

    def undone(blocks: Blocks, _: Coder, __: int) -> Blocks:
        for block in _in_units(blocks, size):
            whole = len(block) // size * size
            units = array("H" if size == 2 else "I", block[:whole])
            units.byteswap()
            yield units.tobytes() + block[whole:]

    return undone


def _in_units(blocks: Blocks, size: int) -> Blocks:
    """Yield the same bytes in blocks of whole units; the last may be shorter."""
    rest = b""
    for block in blocks:
        data = rest + block
        whole = len(data) // size * size
        rest = data[whole:]
        if whole:
            yield data[:whole]
    if rest:
        yield rest


# --- x86 code with its branches in streams of their own ------------------------------------------------------

_TOP, _BITS, _MOVE = 1 << 24, 11, 5
_BRANCH = re.compile(rb"[\xe8\xe9]|\x0f[\x80-\x8f]", re.DOTALL)
_CALL, _JUMP = 0xE8, 0xE9


class _Feed:
    """Takes exact numbers of bytes from blocks."""

    def __init__(self, blocks: Blocks) -> None:
        self._blocks = blocks
        self._block, self._at = b"", 0

    def take(self, count: int) -> bytes:
        while len(self._block) - self._at < count:
            more = next(self._blocks, None)
            if more is None:
                raise EOFError("it breaks off")
            self._block, self._at = self._block[self._at :] + more, 0
        self._at += count
        return self._block[self._at - count : self._at]


class _BranchBits:
    """Decodes for each branch whether its target is in a separate stream."""

    def __init__(self, blocks: Blocks) -> None:
        self._feed = _Feed(blocks)
        self._code, self._range = int.from_bytes(self._feed.take(5), "big") & 0xFFFF_FFFF, 0xFFFF_FFFF
        self._chances = [1 << _BITS - 1] * 258

    def next(self, kind: int) -> bool:
        chance = self._chances[kind]
        bound = (self._range >> _BITS) * chance
        is_told = self._code >= bound
        if is_told:
            self._range -= bound
            self._code -= bound
            self._chances[kind] = chance - (chance >> _MOVE)
        else:
            self._range = bound
            self._chances[kind] = chance + ((1 << _BITS) - chance >> _MOVE)
        if self._range < _TOP:
            self._range = self._range << 8 & 0xFFFF_FFFF
            self._code = (self._code << 8 | self._feed.take(1)[0]) & 0xFFFF_FFFF
        return is_told


def _bcj2(code: Blocks, calls: Blocks, jumps: Blocks, choices: Blocks) -> Blocks:
    targets = {True: _Feed(calls), False: _Feed(jumps)}
    told = _BranchBits(choices)
    before = place = 0
    for block in code:
        out = bytearray()
        at = 0
        while at < len(block):
            branch = at
            if not _is_branch(before, block[at]):
                found = _BRANCH.search(block, at)
                if not found:
                    out += block[at:]
                    before = block[-1]
                    break
                branch = found.end() - 1
                before = block[branch - 1] if branch > at else before
            byte = block[branch]
            out += block[at : branch + 1]
            at = branch + 1
            kind = before if byte == _CALL else 256 if byte == _JUMP else 257
            before = byte
            if told.next(kind):
                target = int.from_bytes(targets[byte == _CALL].take(4), "big") - (place + len(out) + 4) & 0xFFFF_FFFF
                out += target.to_bytes(4, "little")
                before = target >> 24
        place = place + len(out) & 0xFFFF_FFFF
        yield bytes(out)


def _is_branch(before: int, byte: int) -> bool:
    return byte in (_CALL, _JUMP) or (before == 0x0F and byte & 0xF0 == 0x80)


_UNDONE: "dict[str, Callable[[Blocks, Coder, int], Blocks]]" = {
    "stored": lambda blocks, _, __: stored(blocks),
    "lzma": _unlzma,
    "lzma2": _unlzma,
    "delta": _undelta,
    "ppmd": _unppmd,
    "deflate": lambda blocks, _, __: inflate(blocks),
    "deflate64": lambda blocks, _, __: inflate64(blocks),
    "bzip2": lambda blocks, _, __: bunzip2(blocks),
    "zstd": lambda blocks, _, __: unzstd(blocks),
    "brotli": _unbrotli,
    "swap2": _swapped(2),
    "swap4": _swapped(4),
    "bcj x86": _branches("BCJDecoder"),
    "bcj ppc": _branches("PPCDecoder"),
    "bcj ia64": _branches("IA64Decoder"),
    "bcj arm": _branches("ARMDecoder"),
    "bcj armt": _branches("ARMTDecoder"),
    "bcj sparc": _branches("SparcDecoder"),
    "bcj arm64": _unarm64,
}
"""Name of a method with one stream → what undoes it, given what comes in, its coder and the bytes that come out."""
ERRORS: tuple[type[Exception], ...] = (*PACKING_ERRORS, SevenFault)
"""What is raised for packed bytes that cannot be unpacked."""
