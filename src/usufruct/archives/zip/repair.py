"""Repair a zip whose central directory is missing: make one from the headers that stand before each entry."""

import struct
from collections.abc import Callable

from usufruct.files.sources import BytesSource, Source

_LOCAL = struct.Struct("<4s5H3L2H")
_LOCAL_MARK, _DESCRIPTOR_MARK = b"PK\x03\x04", b"PK\x07\x08"
_HAS_DESCRIPTOR = 8
_LARGE, _ZIP64 = 0xFFFFFFFF, 1
_LEAST_WINDOW, _WINDOW = 1 << 6, 1 << 20
_OWN_MARKS = (b"PK\x01\x02", b"PK\x05\x06")


def directory_of(source: Source, keep: Callable[[int], None]) -> tuple[Source, tuple[str, ...]]:
    """Return a central directory made from the local headers, and the names of incomplete entries.

    `keep` is called with the bytes that are kept of each. Raises nothing: bytes that are no header are skipped.
    """
    entries: list[bytes] = []
    lost: list[str] = []
    descriptors: dict[int, tuple[int, int, int, int]] | None = None
    at = _find(source, _LOCAL_MARK, 0)
    while at >= 0:
        header = source.read_at(at, _LOCAL.size)
        if len(header) < _LOCAL.size:
            break
        _, version, flags, method, clock, date, checksum, packed, size, name_size, extra_size = _LOCAL.unpack(header)
        start = at + _LOCAL.size + name_size + extra_size
        text = source.read_at(at + _LOCAL.size, name_size + extra_size)
        name, extra = text[:name_size], text[name_size:]
        if len(text) < name_size + extra_size or not name:
            at = _find(source, _LOCAL_MARK, at + 4)
            continue
        rest, packed, size = _without_zip64(extra, packed, size)
        end = start + packed
        if flags & _HAS_DESCRIPTOR and not packed:
            if descriptors is None:
                descriptors = _descriptors(source, keep)
            found = descriptors.get(start)
            if found is None:
                lost.append(_shown(name))
                at = _find(source, _LOCAL_MARK, start)
                continue
            checksum, packed, size, end = found
        if start + packed > source.size:
            lost.append(_shown(name))
            at = _find(source, _LOCAL_MARK, start)
            continue
        keep(64 + len(name) + len(rest))
        entries.append(_central(version, flags, method, clock, date, checksum, packed, size, name, rest, at))
        at = _find(source, _LOCAL_MARK, end)
    directory = b"".join(entries)
    count = len(entries)
    end64 = struct.pack("<4sQ2H2L4Q", b"PK\x06\x06", 44, 45, 45, 0, 0, count, count, len(directory), source.size)
    place = struct.pack("<4sLQL", b"PK\x06\x07", 0, source.size + len(directory), 1)
    end = struct.pack("<4s4H2LH", b"PK\x05\x06", 0, 0, 0xFFFF, 0xFFFF, _LARGE, _LARGE, 0)
    return BytesSource(directory + end64 + place + end), tuple(lost)


def _central(
    version: int, flags: int, method: int, clock: int, date: int, checksum: int, packed: int, size: int, name: bytes,
    extra: bytes, offset: int,
) -> bytes:  # fmt: skip
    large = struct.pack("<2H3Q", _ZIP64, 24, size, packed, offset)
    extra = large + extra[: 0xFFFF - len(large)]
    return (
        struct.pack(
            "<4s2B5H3L5H2L", b"PK\x01\x02", 20, 0, version, flags, method, clock, date, checksum, _LARGE, _LARGE,
            len(name), len(extra), 0, 0, 0, 0x10 if name.endswith(b"/") else 0, _LARGE,
        ) + name + extra
    )  # fmt: skip


def _without_zip64(extra: bytes, packed: int, size: int) -> tuple[bytes, int, int]:
    """Return the extra field without the zip64 one, and the true sizes."""
    rest, at = b"", 0
    while at + 4 <= len(extra):
        tag, length = struct.unpack_from("<2H", extra, at)
        field = extra[at : at + 4 + length]
        if tag == _ZIP64 and len(field) >= 20:
            size, packed = (
                large if said == _LARGE else said
                for said, large in zip((size, packed), struct.unpack_from("<2Q", field, 4), strict=True)
            )
        else:
            rest += field
        at += 4 + length
    return rest, packed, size


def _descriptors(source: Source, keep: Callable[[int], None]) -> dict[int, tuple[int, int, int, int]]:
    """Return for each entry's data offset its checksum, packed size and size from the data descriptor, and its end.

    All are found in one pass, because an archive may contain nothing but entries that seem to have one. Some leave the
    signature out: then the next header follows directly.
    """
    found: dict[int, tuple[int, int, int, int]] = {}

    def note(form: str, fields: bytes, begin: int, end: int) -> None:
        checksum, packed, size = struct.unpack(form, fields)
        if begin - packed > 0 and begin - packed not in found:
            keep(64)
            found[begin - packed] = checksum, packed, size, end

    at = 0
    while (at := _find(source, _DESCRIPTOR_MARK, at)) >= 0:
        fields = source.read_at(at + 4, 22)
        # What follows tells which form it is: the next header or the end.
        for form, count in (("<3L", 12), ("<L2Q", 20)):
            if len(fields) >= count and (fields[count : count + 2] in (b"PK", b"P", b"") or count == 20):
                note(form, fields[:count], at, at + 4 + count)
        at += 4
    for mark in (_LOCAL_MARK, *_OWN_MARKS):
        at = 12
        while (at := _find(source, mark, at)) >= 0:
            note("<3L", source.read_at(at - 12, 12), at - 12, at)
            at += 4
    return found


def _find(source: Source, mark: bytes, at: int) -> int:
    """Return the next offset of a signature, or -1. It is mostly near: little is read at first, and more each time."""
    window = _LEAST_WINDOW
    while at < source.size:
        found = source.read_at(at, window + len(mark) - 1).find(mark)
        if found >= 0:
            return at + found
        at += window
        window = min(2 * window, _WINDOW)
    return -1


def _shown(name: bytes) -> str:
    return name.decode("utf-8", "replace")
