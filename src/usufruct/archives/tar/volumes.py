"""A tar in several volumes for tapes or disks: each continues where the previous one ended.

Source: the manual of GNU tar, chapter "Tapes and Other Archive Media", and "Tar Internals" for the headers.
"""

import re
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import NamedTuple

from usufruct.archives.allowance import Allowance
from usufruct.archives.members import Forward, MemberFault, StreamMember
from usufruct.archives.reading import Access
from usufruct.archives.tar.headers import RECORD, begins_tar, number_in, padded
from usufruct.archives.tar.reader import TarArchive
from usufruct.files.sources import BytesSource, FileSource, JoinedSource, SliceSource, Source

_HEAD = 16 * RECORD
"""Bytes in which a volume says what it goes on with."""
_FIELD = re.compile(rb"\d+ GNU\.volume\.(filename|size|offset)=([^\n]*)\n")


class Continued(NamedTuple):
    """What the start of a later volume says."""

    name: bytes
    """Of the file that it goes on with."""
    offset: int
    """How many bytes of that file the volumes before it hold."""
    left: int
    start: int
    """Where its bytes go on in this volume."""


def continuation_of(source: Source) -> Continued | None:
    """Return what a later volume continues; None for any other file."""
    head, at = source.read_at(0, _HEAD), 0
    said: dict[bytes, bytes] = {}
    while begins_tar(block := head[at : at + RECORD]):
        at += RECORD
        kind = block[156:157]
        try:
            size = number_in(block[124:136])
            if kind == b"M":
                return Continued(block[:100].split(b"\0", 1)[0], number_in(block[369:381]), size, at)
            if kind in b"gx":
                said |= dict(_FIELD.findall(head[at : at + size]))
                at += padded(size)
            elif kind != b"V":
                if len(said) < 3:
                    return None
                return Continued(said[b"filename"], int(said[b"offset"]), int(said[b"size"]), at)
        except (MemberFault, ValueError):
            return None
    return None


def volumes_in_order(sources: Sequence[Source]) -> tuple[JoinedSource, list[tuple[int, Continued]]]:
    """Return the volumes as one stream without the headers of later ones, and where each of those begins in it."""
    parts: list[Source] = [sources[0]]
    seams: list[tuple[int, Continued]] = []
    at = sources[0].size
    for source in sources[1:]:
        said = continuation_of(source)
        assert said, "a set holds later volumes alone behind its first"
        part = SliceSource(source, said.start)
        part.owns_whole = True
        seams.append((at, said))
        parts.append(part)
        at += part.size
    return JoinedSource(parts), seams


class TarVolumes(TarArchive):
    """An open tar in several volumes. See `Archive`."""

    def __init__(self, path: str, name: str, sources: Sequence[Source], access: Access, allowance: Allowance) -> None:
        whole, self._seams = volumes_in_order(sources)
        super().__init__(path, name, whole, "", access, allowance)
        # The headers of later volumes count as understood.
        said = sum(said.start for _, said in self._seams)
        self.size, self.extent = self.size + said, (0, self.extent[1] + said)

    def _members(self, data: Forward) -> Iterator[StreamMember]:
        """Yield the members; raises MemberFault if a volume is not of this set, or not the next one."""
        left = list(self._seams)
        for member in super()._members(data):
            end = member.offset + padded(member.stored)
            while left and member.offset <= left[0][0] < end:
                at, said = left.pop(0)
                is_next = at - member.offset == said.offset and member.stored == said.offset + said.left
                if not (is_next and member.name.startswith(said.name)):
                    raise MemberFault("its volumes do not belong together, or one between them is missing")
            yield member
        if left:
            raise MemberFault("a volume does not go on where the one before it ends")


def is_later_volume(path: Path) -> bool:
    """Whether a file is a volume that continues another."""
    try:
        # Opening a pipe with such a name would block for ever.
        source: Source = FileSource(path) if path.is_file() else BytesSource(b"")
    except OSError:
        return False
    try:
        return continuation_of(source) is not None
    finally:
        source.close()
