"""The headers of arj.

Source: XADMaster (XADARJParser.m, LGPL).
"""

import struct
import zlib
from collections.abc import Iterator

from usufruct.archives.dos.members import DosFault, DosMember
from usufruct.archives.times import of_dos, of_unix
from usufruct.files.sources import Source
from usufruct.model.entries import EntryKind

MARK = b"\x60\xea"
_FIELDS = struct.Struct("<8B4L2H")
"""Of a header: its own size, versions, system, flags, method, kind; time, packed size, size, checksum; then places."""
_LEAST, _MOST = 30, 2600
"""Bytes of a header."""
_LOCKED, _CONTINUES, _CONTINUED, _HAS_SLASHES = 1, 4, 8, 0x10
"""Flags of a header."""
_FILES, _HEAD, _DIRECTORY = (0, 1), 2, 3
"""Kinds of a header: files binary and text, the archive's own, directories."""
_UNIX = (2, 8)
"""Systems whose times count from 1970."""


def begins_arj(source: Source) -> bool:
    """Whether a source begins with a header of arj, by its own checksum."""
    try:
        header, _ = _header(source, 0)
    except DosFault:
        return False
    return header is not None and header[6] == _HEAD


def members_of(source: Source) -> Iterator[DosMember]:
    """The members. Raises DosFault."""
    _, at = _header(source, 0)
    while True:
        header, at = _header(source, at)
        if header is None:
            return
        first, _, _, system, flags, method, kind, _, time, packed, size, checksum, *_ = _FIELDS.unpack_from(header)
        raw = header[first : header.find(b"\0", first)]
        if not flags & _HAS_SLASHES:
            raw = raw.replace(b"\\", b"/")
        modified = of_unix(time) if system in _UNIX else of_dos(time)
        member = DosMember(raw, at, packed, size, modified, checksum, method)
        if kind == _DIRECTORY:
            member.kind = EntryKind.DIRECTORY
        elif kind not in _FILES:
            at += packed
            continue  # a label or a mark, which is no file
        if flags & _LOCKED:
            member.refusal = "it is locked by the cipher of arj"
        elif flags & (_CONTINUES | _CONTINUED):
            member.refusal = "it goes on in another volume"
        yield member
        at += packed
        if at > source.size:
            raise DosFault("it breaks off")


def _header(source: Source, at: int) -> tuple[bytes | None, int]:
    """A header, checked, or None for the last one; and what follows it."""
    start = source.read_at(at, 4)
    size = int.from_bytes(start[2:4], "little")
    if len(start) < 4 or start[:2] != MARK:
        raise DosFault(f"a header at byte {at} is missing")
    if not size:
        return None, at + 4
    header = source.read_at(at + 4, size + 6)
    if not _LEAST <= size <= _MOST or len(header) < size + 6 or header[0] > size:
        raise DosFault(f"a header at byte {at} is cut off or impossible")
    if zlib.crc32(header[:size]) != int.from_bytes(header[size : size + 4], "little"):
        raise DosFault(f"the header at byte {at} does not match its checksum")
    at += 4 + size + 6
    extended = int.from_bytes(header[size + 4 : size + 6], "little")
    return header[:size], at + (extended + 4 if extended else 0)
