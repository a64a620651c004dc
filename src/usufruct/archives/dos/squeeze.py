"""arc's squeezing, one code for all bytes, and its packing of runs.

Source: XADMaster (XADSqueezeHandle.m, XADRLE90Handle.m, LGPL).
"""

from collections.abc import Iterable, Iterator

from usufruct.archives.bits import PackedFault

_END = 256
"""The symbol behind the 256 bytes."""
_MOST_NODES = 256
"""Of the tree of the code: 257 symbols need no more."""
_RUN = 0x90
"""0x90: the byte before it is repeated."""
_AT_ONCE = 1 << 12
"""Bytes handed out together."""


def unsqueezed(blocks: Iterable[bytes]) -> Iterator[bytes]:
    """Bytes by a tree that stands before them, bits taken the lowest first. Raises PackedFault."""
    packed = b"".join(blocks)
    count = int.from_bytes(packed[:2], "little")
    if not 0 < count <= _MOST_NODES or len(packed) < 2 + 4 * count:
        raise PackedFault("its tree of codes is cut off or impossible")
    nodes = [int.from_bytes(packed[at : at + 2], "little", signed=True) for at in range(2, 2 + 4 * count, 2)]
    out = bytearray()
    node = 0
    for byte in packed[2 + 4 * count :]:
        for _ in range(8):
            node = nodes[2 * node + (byte & 1)]
            byte >>= 1
            if node < 0:
                symbol = -node - 1
                if symbol == _END:
                    yield bytes(out)
                    return
                if symbol > _END:
                    raise PackedFault("its tree of codes leads to nothing")
                out.append(symbol)
                node = 0
            elif node >= count:
                raise PackedFault("its tree of codes leads to nothing")
        if len(out) >= _AT_ONCE:
            yield bytes(out)
            out.clear()
    yield bytes(out)


def with_runs(parts: Iterable[bytes]) -> Iterator[bytes]:
    """Runs written out: behind a sign stands how often the byte before it is there, or 0 for the sign itself."""
    last, is_sign = b"", False
    for part in parts:
        out = []
        at = 0
        while at < len(part):
            if is_sign:
                is_sign = False
                count = part[at]
                at += 1
                if count:
                    if not last:
                        raise PackedFault("a run has no byte before it")
                    out.append(last * (count - 1))
                else:
                    last = bytes((_RUN,))
                    out.append(last)
                continue
            sign = part.find(_RUN, at)
            end = len(part) if sign < 0 else sign
            if end > at:
                out.append(part[at:end])
                last = part[end - 1 : end]
            at = end
            if sign >= 0:
                is_sign = True
                at += 1
        yield b"".join(out)
