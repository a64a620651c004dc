"""The directory of zoo, a chain of entries.

Source: XADMaster (XADZooParser.m, LGPL).
"""

import struct
from collections.abc import Iterator

from usufruct.archives.dos.members import DosFault, DosMember
from usufruct.archives.times import of_dos
from usufruct.files.sources import Source

MARK_AT, MARK = 20, b"\xdc\xa7\xc4\xfd"
"""0xFDC4A7DC, which stands behind a text of 20 bytes."""
_ENTRY = struct.Struct("<4sBBLLHHHLLBBBBLH13s")
"""Mark, kind, method, places of the next entry and the content, date, time, checksum, size, packed size, versions,
whether it is deleted, its structure, place and size of its comment, name.
"""
_LONG = 2
"""Kind of entries with names that DOS could not have."""


def members_of(source: Source) -> Iterator[DosMember]:
    """The members that are not deleted. Raises DosFault."""
    at = int.from_bytes(source.read_at(MARK_AT + 4, 4), "little")
    while True:
        entry = source.read_at(at, _ENTRY.size + 5 + 2 * 256)
        if len(entry) < _ENTRY.size or not entry.startswith(MARK):
            raise DosFault(f"an entry at byte {at} is missing or cut off")
        (_, kind, method, following, offset, date, clock, checksum, size, packed, _, _, is_deleted, _, _, _, short) = (
            _ENTRY.unpack_from(entry)
        )
        if not following:
            return
        raw = short.partition(b"\0")[0]
        zone = 0
        if kind == _LONG and len(entry) > _ENTRY.size + 5:
            raw, zone = _long_name(entry[_ENTRY.size :], raw)
        modified = of_dos(date << 16 | clock)
        if modified is not None and zone:
            modified = of_dos(date << 16 | clock, zone_minutes=zone)
        if not is_deleted:
            if offset + packed > source.size:
                raise DosFault("it breaks off")
            yield DosMember(raw, offset, packed, size, modified, checksum, method)
        if following <= at:
            raise DosFault("its chain of entries leads back")
        at = following


def _long_name(more: bytes, short: bytes) -> tuple[bytes, int]:
    """The path that an entry says beside its short name, and minutes that its clock is behind Greenwich."""
    size, zone = int.from_bytes(more[:2], "little"), more[2]
    more = more[5 : 5 + size]
    name_size, directory_size = (*more[:2], 0, 0)[:2]
    name = more[2 : 2 + name_size].rstrip(b"\0")
    directory = more[2 + name_size : 2 + name_size + directory_size].rstrip(b"\0")
    minutes = 15 * (zone - 256 if zone > 127 else zone)
    path = name or short
    return (directory.rstrip(b"/") + b"/" + path if directory else path), 0 if zone == 127 else minutes
