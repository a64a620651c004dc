"""The headers of cpio: old binary (both byte orders), octal, and hexadecimal with or without checksums.

The layouts are those of POSIX (the octal one) and of the manual page cpio(5) of general-purpose systems.
"""

import stat
import struct
from collections.abc import Iterator
from typing import NamedTuple

from usufruct.archives.allowance import Allowance
from usufruct.archives.members import Forward, MemberFault, StreamMember

_HEX, _HEX_SUMMED, _OCTAL = b"070701", b"070702", b"070707"
"""The first bytes of each form, as cpio(5) gives them: "new ASCII", the same with a sum, and the octal one of POSIX."""
_LITTLE, _BIG = b"\xc7\x71", b"\x71\xc7"
"""The old binary form: octal 070707 in two bytes, in either order."""
_END = b"TRAILER!!!"
_LONGEST_NAME = 1 << 16
"""Bytes of a name. The octal fields could state more; no system has such a path."""
_LONGEST_TARGET = 1 << 16
"""Bytes of a link's target: more is none."""
_WAITING = 300
"""Bytes that a member takes until its content has come."""


class _Header(NamedTuple):
    inode: tuple[int, int]
    """Device and number: one file of several names has the same."""
    mode: int
    links: int
    modified: int
    """Seconds since 1970."""
    name_size: int
    """With the zero byte that ends it."""
    size: int
    read: int
    """Bytes that the header takes."""
    checksum: int | None
    fill: int
    """Names, with their header, and contents are filled up to a multiple of so many bytes."""


def begins_cpio(block: bytes) -> bool:
    """Whether a file with these first bytes, 26 or more, is a cpio: the old magic number alone is too short."""
    if block.startswith((_HEX, _HEX_SUMMED, _OCTAL)):
        return True
    if not block.startswith((_LITTLE, _BIG)) or len(block) < 26:
        return False
    header = _binary(block[:26])
    kinds = (0, stat.S_IFREG, stat.S_IFDIR, stat.S_IFLNK, stat.S_IFCHR, stat.S_IFBLK, stat.S_IFIFO, stat.S_IFSOCK)
    return stat.S_IFMT(header.mode) in kinds and 1 < header.name_size <= 4096


def members_of(data: Forward, allowance: Allowance) -> Iterator[StreamMember]:
    """Yield every member in order; read its data from `data` before the next is requested.

    Of a file with several names, the member with the content comes first: most writers store it only with the last
    name. Skipped data is counted against the allowance first. Raises MemberFault.
    """
    waiting: dict[tuple[int, int], list[StreamMember]] = {}
    stored: dict[tuple[int, int], bytes] = {}
    """File of several names → the one that its content came with."""
    while True:
        header = _header(data)
        if not 0 < header.name_size <= _LONGEST_NAME:
            raise MemberFault(f"a name of {header.name_size} bytes")
        raw = data.take(header.name_size)
        if len(raw) < header.name_size:
            raise MemberFault("it breaks off in the middle of a header")
        name = raw.split(b"\0", 1)[0]
        data.skip(_fill(header.read + header.name_size, header.fill))
        if name == _END:
            break
        allowance.may_read(data.offset + header.size)
        member = _member(name, header, data)
        if member.kind == "file" and header.links > 1:
            allowance.keep(_WAITING + len(name))
            if not header.size and header.inode not in stored:
                waiting.setdefault(header.inode, []).append(member)
                continue
            if header.size:
                stored[header.inode] = name
                yield member
                data.skip(member.offset + header.size - data.offset)
            for other in waiting.pop(header.inode, ()) if header.size else (member,):
                other.kind, other.target = "hard link", stored[header.inode]
                yield other
        else:
            yield member
            data.skip(member.offset + member.stored - data.offset)
        data.skip(_fill(header.size, header.fill))
    for others in waiting.values():
        yield from others  # empty, all of them


def _member(name: bytes, header: _Header, data: Forward) -> StreamMember:
    kind, target, stored = "other", b"", header.size
    match stat.S_IFMT(header.mode):
        case stat.S_IFREG | 0:
            kind = "file"
        case stat.S_IFDIR:
            kind = "directory"
        case stat.S_IFLNK:
            if header.size > _LONGEST_TARGET:
                raise MemberFault(f"a link to {header.size} bytes")
            kind, target, stored = "link", data.take(header.size), 0
            if len(target) < header.size:
                raise MemberFault("it breaks off in the middle of a link")
    size = header.size if kind == "file" else 0
    modified = header.modified * 1_000_000_000
    return StreamMember(
        name, kind, size, modified, stat.S_IMODE(header.mode), target, data.offset, stored, checksum=header.checksum
    )


def _header(data: Forward) -> _Header:
    mark = data.take(2)
    if mark in (_LITTLE, _BIG):
        return _binary(mark + _rest(data, 24))
    mark += data.take(4)
    try:
        if mark in (_HEX, _HEX_SUMMED):
            text = _digits(data, 104)
            inode, mode, _, _, links, modified, size, major, minor, _, _, name_size, checksum = (
                int(text[at : at + 8], 16) for at in range(0, 104, 8)
            )
            stated = checksum if mark == _HEX_SUMMED else None
            return _Header((major << 32 | minor, inode), mode, links, modified, name_size, size, 110, stated, 4)
        if mark == _OCTAL:
            text = _digits(data, 70)
            widths = (6, 6, 6, 6, 6, 6, 6, 11, 6, 11)
            ends = [sum(widths[: at + 1]) for at in range(len(widths))]
            device, inode, mode, _, _, links, _, modified, name_size, size = (
                int(text[end - width : end], 8) for end, width in zip(ends, widths, strict=True)
            )
            return _Header((device, inode), mode, links, modified, name_size, size, 76, None, 1)
    except ValueError as error:
        raise MemberFault("a header holds no number where one must be") from error
    raise MemberFault(f"no header at byte {data.offset - len(mark)}, where one must be")


def _binary(header: bytes) -> _Header:
    order = "<" if header.startswith(_LITTLE) else ">"
    _, device, inode, mode, _, _, links, _, high, low, name_size, size_high, size_low = struct.unpack(
        f"{order}13H", header
    )
    return _Header((device, inode), mode, links, high << 16 | low, name_size, size_high << 16 | size_low, 26, None, 2)


def _rest(data: Forward, count: int) -> bytes:
    rest = data.take(count)
    if len(rest) < count:
        raise MemberFault("it breaks off in the middle of a header")
    return rest


def _digits(data: Forward, count: int) -> bytes:
    """Return the text if it is nothing but digits: `int` would also accept signs and spaces."""
    text = _rest(data, count)
    if not text.isalnum():
        raise MemberFault("a header holds no number where one must be")
    return text


def _fill(size: int, multiple: int) -> int:
    return -size % multiple
