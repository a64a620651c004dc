"""Writers of arj, zoo and arc for tests, with each of their methods."""

import struct
import zlib
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field

from tests.archives.rar_streams import BitWriter, Match, Token, code_lengths, codes
from usufruct.archives.dos.lzw import _Hashes
from usufruct.archives.dos.members import crc16

DATE, CLOCK = (1994 - 1980) << 9 | 5 << 5 | 17, 13 << 11 | 30 << 5 | 4
"""17 May 1994, 13:30:08."""


@dataclass(frozen=True)
class Old:
    name: str
    content: bytes
    method: int = 0
    packed: bytes | None = None
    flags: int = 0
    fields: dict[str, int] = field(default_factory=dict)
    """What is written instead of the true fields."""

    @property
    def data(self) -> bytes:
        return self.content if self.packed is None else self.packed


def lzh(blocks: Sequence[Sequence[Token]], window: int) -> bytes:
    """Tokens as LZH packs them: each block with its own codes."""
    bits = BitWriter()
    for block in blocks:
        parts: list[tuple[str | int, int]] = []
        for token in block:
            if isinstance(token, int):
                parts.append(("literal", token))
                continue
            assert isinstance(token, Match)
            value = token.distance - 1
            slot = value.bit_length()
            parts += [("literal", token.length + 253), ("distance", slot)]
            if slot > 1:
                parts.append((slot - 1, value - (1 << slot - 1)))
        bits.put(len(block), 16)
        counts = {name: Counter(v for n, v in parts if n == name) for name in ("literal", "distance")}
        literals = code_lengths(counts["literal"], 510, 16)
        _put_literals(bits, literals)
        distances = _put_code(bits, counts["distance"], 5 if window >= 15 else 4, window + 1)
        table = {"literal": codes(literals), "distance": distances}
        for name, value in parts:
            bits.put(*(table[name][value] if isinstance(name, str) else (value, name)))
    return bits.bytes() + bytes(2)


def _put_literals(bits: BitWriter, lengths: list[int]) -> None:
    while not lengths[-1]:
        lengths = lengths[:-1]
    steps: list[tuple[int, int, int]] = []
    at = 0
    while at < len(lengths):
        run = 0
        while at + run < len(lengths) and not lengths[at + run]:
            run += 1
        if run >= 20:
            run = min(run, 531)
            steps.append((2, run - 20, 9))
        elif run >= 3:
            run = min(run, 18)
            steps.append((1, run - 3, 4))
        elif run:
            run = 1
            steps.append((0, 0, 0))
        else:
            run = 1
            steps.append((lengths[at] + 2, 0, 0))
        at += run
    table = _put_code(bits, Counter(step[0] for step in steps), 5, 19, gap=3)
    bits.put(len(lengths), 9)
    for symbol, more, width in steps:
        bits.put(*table[symbol])
        bits.put(more, width)


def _put_code(bits: BitWriter, counts: Counter[int], width: int, size: int, gap: int = 0) -> dict[int, tuple[int, int]]:
    if len(counts) < 2:
        symbol = next(iter(counts), 0)
        bits.put(0, width)
        bits.put(symbol, width)
        return {symbol: (0, 0)}
    lengths = code_lengths(counts, size, 16)
    while not lengths[-1]:
        lengths.pop()
    bits.put(len(lengths), width)
    at = 0
    while at < len(lengths):
        length = lengths[at]
        if length < 7:
            bits.put(length, 3)
        else:
            bits.put(7, 3)
            bits.put((1 << length - 7 + 1) - 2, length - 7 + 1)
        at += 1
        if at == gap:
            skipped = 0
            while skipped < 3 and at + skipped < len(lengths) and not lengths[at + skipped]:
                skipped += 1
            bits.put(skipped, 2)
            at += skipped
    return codes(lengths)


def lz_fast(tokens: Sequence[Token]) -> bytes:
    """Tokens as arj packs them at its fastest."""
    bits = BitWriter()
    for token in tokens:
        if isinstance(token, int):
            bits.put(0, 1)
            bits.put(token, 8)
        else:
            assert isinstance(token, Match)
            _put_number(bits, token.length - 2, 0, 7)
            _put_number(bits, token.distance - 1, 9, 13)
    return bits.bytes() + bytes(2)


def _put_number(bits: BitWriter, value: int, least: int, most: int) -> None:
    width = least
    while width < most and value >= 1 << width:
        value -= 1 << width
        width += 1
        bits.put(1, 1)
    if width < most:
        bits.put(0, 1)
    bits.put(value, width)


def lzw_zoo(content: bytes, *, forgets_at: int = 0) -> bytes:
    """Zoo's LZW; all is forgotten once behind that many bytes."""
    out = bytearray()
    acc = have = 0
    texts = {bytes((value,)): value for value in range(256)}
    # The reader knows a text one code later than we do, and widens its codes by what it knows.
    known = [258, 9]
    is_first = True

    def put(code: int) -> None:
        nonlocal acc, have
        acc |= code << have
        have += known[1]
        while have >= 8:
            out.append(acc & 0xFF)
            acc, have = acc >> 8, have - 8

    def sent(code: int) -> None:
        nonlocal is_first
        put(code)
        if not is_first and known[0] < 1 << 13:
            known[0] += 1
            if known[0] < 1 << 13 and not known[0] & known[0] - 1:
                known[1] += 1
        is_first = False

    text, count = b"", 258
    for at in range(len(content)):
        byte = content[at : at + 1]
        if text + byte in texts:
            text += byte
            continue
        sent(texts[text])
        if count < 1 << 13:
            texts[text + byte] = count
            count += 1
        text = byte
        if forgets_at and at == forgets_at:
            sent(texts[text])
            put(256)
            texts = {bytes((value,)): value for value in range(256)}
            known[:] = [258, 9]
            is_first, text, count = True, b"", 258
    if text:
        sent(texts[text])
    put(257)
    return bytes(out) + bytes((acc,))


def lzw_hashed(content: bytes, *, is_fast: bool) -> bytes:
    """Arc's first LZW: each text's number is where its hash puts it."""
    table = _Hashes(is_fast=is_fast)
    for value in range(256):
        table.add(-1, value)
    places = {bytes((table.bytes[at],)): at for at, parent in enumerate(table.parents) if parent is not None}
    bits = BitWriter()
    text, old, old_text, left = b"", -1, b"", 4096 - 256
    for at in range(len(content) + 1):
        byte = content[at : at + 1]
        if byte and text + byte in places:
            text += byte
            continue
        if text:
            bits.put(places[text], 12)
            # As the reader does: a text becomes known with the code behind the one that begins it.
            if old >= 0 and left:
                places.setdefault(old_text + text[:1], table.add(old, text[0]))
                left -= 1
            old, old_text = places[text], text
        text = byte
    return bits.bytes()


def squeezed(content: bytes) -> bytes:
    """Arc's squeezing: a tree of nodes, and bits the lowest first."""
    counts = Counter(content)
    counts[256] = 1
    table = codes(code_lengths(counts, 257, 24))
    nodes: list[list[int]] = [[0, 0]]
    for symbol, (code, length) in table.items():
        node = 0
        for place in range(length - 1, -1, -1):
            bit = code >> place & 1
            if not place:
                nodes[node][bit] = -symbol - 1
            elif not nodes[node][bit]:
                nodes.append([0, 0])
                nodes[node][bit] = len(nodes) - 1
                node = len(nodes) - 1
            else:
                node = nodes[node][bit]
    written = "".join(f"{table[symbol][0]:0{table[symbol][1]}b}" for symbol in (*content, 256))
    bits = bytes(int(written[at : at + 8][::-1], 2) for at in range(0, len(written), 8))
    tree = b"".join(struct.pack("<hh", *node) for node in nodes)
    return struct.pack("<H", len(nodes)) + tree + bits


def runs(content: bytes) -> bytes:
    """Arc's packing of runs."""
    out = bytearray()
    at = 0
    while at < len(content):
        run = 1
        while run < 255 and content[at + run : at + run + 1] == content[at : at + 1]:
            run += 1
        out += content[at : at + 1]
        if content[at] == 0x90:
            out.append(0)
        if run > 3:
            out += bytes((0x90, run))
            at += run
        else:
            at += 1
    return bytes(out)


def arj_of(members: Sequence[Old]) -> bytes:
    head = _arj_header("archive.arj", 2, 0, b"", b"", 0)
    return head + b"".join(
        _arj_header(
            old.name, old.fields.get("kind", 0), old.method, old.data, old.content, old.flags, old.fields
        ) + old.data
        for old in members
    ) + b"\x60\xea\0\0"  # fmt: skip


def _arj_header(
    name: str, kind: int, method: int, data: bytes, content: bytes, flags: int, fields: dict[str, int] | None = None
) -> bytes:
    known = {"time": DATE << 16 | CLOCK, "packed": len(data), "size": len(content), **(fields or {})}
    body = struct.pack(
        "<8B4L2H", 30, 11, 1, known.get("system", 0), flags, method, kind, 0,
        known["time"], known["packed"], known["size"], zlib.crc32(content), 0, 0x20,
    )  # fmt: skip
    header = body + bytes(2) + name.encode("cp437") + b"\0\0"
    return b"\x60\xea" + struct.pack("<H", len(header)) + header + struct.pack("<LH", zlib.crc32(header), 0)


def zoo_of(members: Sequence[Old], *, deleted: Sequence[str] = (), is_endless: bool = False) -> bytes:
    out = bytearray(b"ZOO 2.10 Archive.\x1a\0\0" + b"\xdc\xa7\xc4\xfd" + struct.pack("<LLBB", 34, 0, 1, 0))
    for old in [*members, None]:
        at = len(out)
        if old is None:
            out += struct.pack("<4sBBLLHHHLLBBBBLH13s", b"\xdc\xa7\xc4\xfd", 2, 0, *[0] * 13, b"")
            break
        directory, _, name = old.name.encode("cp437").rpartition(b"/")
        long = bytes((len(name) + 1, len(directory) + 1)) + name + b"\0" + directory + b"\0"
        more = struct.pack("<HBH", len(long), 127, 0) + long
        data_at = at + 51 + len(more)
        following = data_at + len(old.data) if not is_endless else at
        known = {"date": DATE, "clock": CLOCK, "size": len(old.content), "packed": len(old.data), **old.fields}
        out += struct.pack(
            "<4sBBLLHHHLLBBBBLH13s", b"\xdc\xa7\xc4\xfd", 2, old.method, following, data_at, known["date"],
            known["clock"], crc16(old.content), known["size"], known["packed"], 2, 0, old.name in deleted, 0, 0, 0,
            name[:12],
        )  # fmt: skip
        out += more + old.data
    return bytes(out)


def arc_of(members: Sequence[Old]) -> bytes:
    out = b""
    for old in members:
        known = {"size": len(old.content), "packed": len(old.data), "date": DATE, "clock": CLOCK, **old.fields}
        out += struct.pack(
            "<BB13sLHHH", 0x1A, old.method, old.name.encode("cp437"), known["packed"], known["date"], known["clock"],
            crc16(old.content),
        )  # fmt: skip
        out += (struct.pack("<L", known["size"]) if old.method != 1 else b"") + old.data
    return out + b"\x1a\0"
