"""The headers of arc.

Source: XADMaster (XADARCParser.m, LGPL).
"""

import struct
from collections.abc import Iterator
from itertools import islice

from usufruct.archives.dos.members import DosFault, DosMember
from usufruct.archives.times import of_dos
from usufruct.files.sources import Source
from usufruct.model.entries import EntryKind

MARK = b"\x1a"
_HEADER = struct.Struct("<BB13sLHHH")
"""Mark, method, name, packed size, date, time, checksum, size."""
_OLDEST = 1
"""The method that is stored without saying its size twice."""
_METHODS = range(1, 12)
"""From stored to squashed and distilled; a member of method 0 ends the archive."""
_DIRECTORY, _LEAVE = 0x1E, 0x1F
"""What some packers write to go into a directory, and out of it."""
_LARGEST = 16 << 20
"""Bytes of a file: there are no larger ones in this format, and other files begin with its mark."""


def begins_arc(source: Source) -> bool:
    """Whether a source is an arc: no mark would say it alone, so its first entries must hold together."""
    try:
        return bool(list(islice(members_of(source), 2)))
    except DosFault:
        return False


def members_of(source: Source) -> Iterator[DosMember]:
    """The members. Raises DosFault."""
    above: list[bytes] = []
    at = 0
    while True:
        entry = source.read_at(at, _HEADER.size + 4)
        if len(entry) < 2 or entry[:1] != MARK:
            raise DosFault(f"an entry at byte {at} is missing")
        method = entry[1]
        if not method or (method == _LEAVE and not above):
            return
        if method == _LEAVE:
            above.pop()
            at += 2
            continue
        if len(entry) < _HEADER.size + 4:
            raise DosFault(f"an entry at byte {at} is cut off")
        _, _, name, packed, date, clock, checksum = _HEADER.unpack_from(entry)
        raw = name.partition(b"\0")[0].rstrip(b" ").rstrip(b".")
        size = packed if method == _OLDEST else int.from_bytes(entry[_HEADER.size :], "little")
        at += _HEADER.size + (0 if method == _OLDEST else 4)
        if not raw or min(raw) < 32 or b"/" in raw or (method not in _METHODS and method != _DIRECTORY):
            raise DosFault(f"the entry before byte {at} is impossible")
        if size > _LARGEST or packed > _LARGEST or at + packed > source.size:
            raise DosFault(f"the entry before byte {at} is larger than can be")
        member = DosMember(b"/".join([*above, raw]), at, packed, size, of_dos(date << 16 | clock), checksum, method)
        if method == _DIRECTORY:
            member.kind = EntryKind.DIRECTORY
            above.append(raw)
        else:
            at += packed
        yield member
