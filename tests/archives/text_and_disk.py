"""Writers of what is no packing: images of FAT volumes, and files written as text."""

import binascii
import struct

_CLUSTERS = {12: 40, 16: 5000, 32: 66_000}
_ENDS = {12: 0xFFF, 16: 0xFFFF, 32: 0x0FFF_FFFF}


class FatWriter:
    """The image of a volume with sectors of 512 bytes, each a cluster; nothing of a file lies behind one another."""

    def __init__(self, bits: int = 12, clusters: int | None = None) -> None:
        self.bits, self.clusters = bits, clusters or _CLUSTERS[bits]
        self.table = [_ENDS[bits] - 7, _ENDS[bits], *[0] * self.clusters]
        self.data = bytearray(512 * self.clusters)
        self._free = [*range(2, self.clusters + 2, 2), *range(3, self.clusters + 2, 2)]
        self._count = 0

    def chain(self, content: bytes) -> int:
        """Lay content into free clusters; gives the first, 0 for none."""
        pieces = [content[at : at + 512] for at in range(0, len(content), 512)]
        taken, self._free = self._free[: len(pieces)], self._free[len(pieces) :]
        for here, after, piece in zip(taken, [*taken[1:], _ENDS[self.bits]], pieces, strict=False):
            self.table[here] = after
            self.data[(here - 2) * 512 : (here - 2) * 512 + len(piece)] = piece
        return taken[0] if taken else 0

    def entry(self, name: str, first: int, size: int, attributes: int = 0x20, *, short: bytes = b"") -> bytes:
        """The entries of a file or directory, with those of a long name before it unless `short` is given."""
        self._count += 1
        raw = short or b"N%06d~" % self._count + b"   "
        date, clock = (2024 - 1980) << 9 | 5 << 5 | 6, 7 << 11 | 8 << 5 | 5
        tail = struct.pack("<BBBHHHHHHHI", attributes, 0, 0, 0, 0, 0, first >> 16, clock, date, first & 0xFFFF, size)
        return (b"" if short else long_entries(name, raw)) + raw + tail

    def directory(self, tree: dict) -> bytes:
        made = b""
        for name, content in tree.items():
            if isinstance(content, dict):
                below = self.directory(content)
                made += self.entry(name, self.chain(below or bytes(32)), 0, 0x10)
            else:
                made += self.entry(name, self.chain(content), len(content))
        return made

    def image(self, top: bytes) -> bytes:
        """The volume, with these entries in its top directory."""
        roots = 0 if self.bits == 32 else -(-len(top) // 512) * 16 + 16
        root = self.chain(top.ljust(512, b"\0")) if self.bits == 32 else 0
        packed = _table(self.table, self.bits)
        sectors = 1 + 2 * (len(packed) // 512) + roots // 16 + self.clusters
        small = sectors if sectors < 1 << 16 else 0
        head = b"\xeb\x3c\x90LANTERN " + struct.pack(
            "<HBHBHHBHHHII", 512, 1, 1, 2, roots, small, 0xF8, 0 if self.bits == 32 else len(packed) // 512, 1, 1, 0,
            0 if small else sectors,
        )  # fmt: skip
        if self.bits == 32:
            head += struct.pack("<IHHI", len(packed) // 512, 0, 0, root)
        boot = head.ljust(510, b"\0") + b"\x55\xaa"
        return boot + packed * 2 + top.ljust(roots * 32, b"\0") * (root == 0) + bytes(self.data)


def _table(entries: list[int], bits: int) -> bytes:
    if bits == 12:
        pairs = zip(entries[::2], [*entries[1::2], 0], strict=False)
        packed = b"".join((low | high << 12).to_bytes(3, "little") for low, high in pairs)
    else:
        packed = b"".join(entry.to_bytes(bits // 8, "little") for entry in entries)
    return packed.ljust(-(-len(packed) // 512) * 512, b"\0")


def long_entries(name: str, short: bytes) -> bytes:
    """The entries that hold a long name, the last piece first."""
    total = 0
    for byte in short:
        total = ((total & 1) << 7 | total >> 1) + byte & 0xFF
    units = (name + "\0").encode("utf-16-le")
    pieces = [units[at : at + 26].ljust(26, b"\xff") for at in range(0, len(units), 26)]
    made = b""
    for number, piece in reversed(list(enumerate(pieces, 1))):
        first = number | 0x40 * (number == len(pieces))
        made += bytes((first,)) + piece[:10] + b"\x0f\0" + bytes((total,)) + piece[10:22] + b"\0\0" + piece[22:]
    return made


def fat_of(files: dict[str, bytes], bits: int = 12) -> bytes:
    """The image of a volume with these files, their directories made."""
    tree: dict = {}
    for path, content in files.items():
        *above, name = path.split("/")
        here = tree
        for part in above:
            here = here.setdefault(part, {})
        here[name] = content
    writer = FatWriter(bits)
    return writer.image(writer.directory(tree))


def uu_of(name: str, content: bytes, *, as_base64: bool = False) -> bytes:
    """A file written as text."""
    if as_base64:
        lines = [binascii.b2a_base64(content[at : at + 45]) for at in range(0, len(content), 45)]
        return b"begin-base64 644 %s\n%s====\n" % (name.encode(), b"".join(lines))
    lines = [binascii.b2a_uu(content[at : at + 45], backtick=True) for at in range(0, len(content), 45)]
    return b"begin 644 %s\n%s`\nend\n" % (name.encode(), b"".join(lines))
