"""Writers of packings of long ago, whose readers are ours too."""

import lzma
import struct
import zlib


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
