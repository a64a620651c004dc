"""Writers of packings of long ago, whose readers are ours too."""

import bz2
import hashlib
import lzma
import struct
import zlib
from collections.abc import Callable
from xml.sax.saxutils import escape


def compressed(plain: bytes, widest: int = 16, *, forget_at: tuple[int, ...] = ()) -> bytes:
    """A file of compress, which forgets its codes where the plain bytes get to one of `forget_at`."""
    out = bytearray((0x1F, 0x9D, 0x80 | widest))
    group: list[int] = []
    codes = {bytes((value,)): value for value in range(256)}
    free, width, limit = 257, 9, 511

    def close() -> None:
        if group:
            whole = sum(code << (width * at) for at, code in enumerate(group))
            out.extend(whole.to_bytes(width, "little"))
            group.clear()

    def put(code: int) -> None:
        group.append(code)
        if len(group) == 8:
            close()

    text = b""
    for at in range(len(plain)):
        more = plain[at : at + 1]
        if at in forget_at:
            put(codes[text])
            put(256)
            close()
            codes = {bytes((value,)): value for value in range(256)}
            free, width, limit, text = 257, 9, 511, more
            continue
        if text + more in codes:
            text += more
            continue
        put(codes[text])
        # The reader knows of a code only with the one behind it: it is one behind.
        if free - 1 > limit - 1 and free <= 1 << widest and width < widest:
            close()
            width += 1
            limit = 1 << widest if width == widest else (1 << width) - 1
        if free < 1 << widest:
            codes[text + more] = free
            free += 1
        text = more
    if text:
        put(codes[text])
    if group:
        whole = sum(code << (width * at) for at, code in enumerate(group))
        out.extend(whole.to_bytes((len(group) * width + 7) // 8, "little"))
    return bytes(out)


def lzipped(plain: bytes, *, version: int = 1, dictionary: int = 0x14) -> bytes:
    """One member of lzip."""
    filters = [{"id": lzma.FILTER_LZMA1, "dict_size": 1 << 20, "lc": 3, "lp": 0, "pb": 2}]
    packer = lzma.LZMACompressor(lzma.FORMAT_ALONE, filters=filters)
    packed = (packer.compress(plain) + packer.flush())[13:]
    trailer = struct.pack("<LQ", zlib.crc32(plain), len(plain))
    if version:
        trailer += struct.pack("<Q", 6 + len(packed) + 20)
    return b"LZIP" + bytes((version, dictionary)) + packed + trailer


def cpio_of(files: list[tuple[str, bytes, int, int]], form: str) -> bytes:
    """A cpio of names, contents, modes and numbers of files, as `hex`, `summed`, `octal`, `little` or `big`."""
    out = b""
    links = [number for *_, number in files]
    for name, content, mode, number in [*files, ("TRAILER!!!", b"", 0, 0)]:
        raw = name.encode() + b"\0"
        many = links.count(number) if number else 1
        time, fill = 1_234_567_890, 1
        if form in ("hex", "summed"):
            mark, stated = (b"070702", sum(content)) if form == "summed" else (b"070701", 0)
            fields = (number, mode, 0, 0, many, time, len(content), 8, 1, 0, 0, len(raw), stated)
            head, fill = mark + b"".join(f"{field:08x}".encode() for field in fields), 4
        elif form == "octal":
            head = (
                f"070707{1:06o}{number:06o}{mode:06o}{0:06o}{0:06o}{many:06o}{0:06o}{time:011o}{len(raw):06o}".encode()
            )
            head += f"{len(content):011o}".encode()
        else:
            words = (0o070707, 1, number, mode, 0, 0, many, 0, time >> 16, time & 0xFFFF, len(raw), 0, len(content))
            head, fill = struct.pack(f"{'<' if form == 'little' else '>'}13H", *words), 2
        head += raw
        out += head + bytes(-len(head) % fill) + content + bytes(-len(content) % fill)
    return out


def rpm_of(content: bytes) -> bytes:
    """An rpm around a packed cpio."""

    def section(fields: int, size: int) -> bytes:
        return b"\x8e\xad\xe8\x01" + bytes(4) + struct.pack(">LL", fields, size) + bytes(16 * fields + size)

    first = b"\xed\xab\xee\xdb\3\0".ljust(96, b"\0") + section(3, 21)
    return first + bytes(-len(first) % 8) + section(5, 101) + content


_STYLES: dict[str, Callable[[bytes], bytes]] = {
    "octet-stream": bytes, "x-gzip": zlib.compress, "x-bzip2": bz2.compress, "x-xz": lzma.compress,
    "x-lzma": lambda content: lzma.compress(content, lzma.FORMAT_ALONE),
}  # fmt: skip


def xar_of(files: dict[str, bytes], style: str = "x-gzip", more: str = "", *, digest: str = "sha1") -> bytes:
    """A xar of these files, directories nested as their paths say; `more` is put into its table as it is."""
    heap = b""

    def element(name: str, content: bytes) -> str:
        nonlocal heap
        packed, sum_of = _STYLES[style](content), hashlib.new(digest, content).hexdigest()
        begin, heap = len(heap), heap + packed
        return (
            f'<file id="{zlib.crc32(name.encode())}"><data><length>{len(packed)}</length>'
            f'<encoding style="application/{style}"/><offset>{begin}</offset><size>{len(content)}</size>'
            f'<extracted-checksum style="{digest}">{sum_of}</extracted-checksum></data>'
            f"<mtime>2009-02-13T23:31:30Z</mtime><mode>0{0o755 if name == 'run' else 0o644:o}</mode><type>file</type>"
            f"<name>{escape(name)}</name></file>"
        )

    def nested(files: dict[str, bytes]) -> str:
        below: dict[str, dict[str, bytes]] = {}
        out = ""
        for path, content in files.items():
            top, inside, rest = path.partition("/")
            if inside:
                below.setdefault(top, {})[rest] = content
            else:
                out += element(top, content)
        for top, inner in below.items():
            out += f'<file id="d{top}"><name>{top}</name><type>directory</type>{nested(inner)}</file>'
        return out

    table = f'<?xml version="1.0" encoding="UTF-8"?><xar><toc>{nested(files)}{more}</toc></xar>'.encode()
    packed = zlib.compress(table)
    return struct.pack(">4sHHQQL", b"xar!", 28, 1, len(packed), len(table), 0) + packed + heap
