"""Unpack members in order: RAR 5 by libarchive, RAR 3 and 4 by it if it gets them right, else by our code."""

from collections.abc import Callable, Iterator

from usufruct.archives.archive_library import LibraryFault, LibraryReader, library_version
from usufruct.archives.bits import PackedFault
from usufruct.archives.rar import headers4, headers5
from usufruct.archives.rar.common import BLOCK, Onward, RarMember, blocks_of
from usufruct.archives.rar.matches import Unpacker29
from usufruct.archives.reading import WHOLE
from usufruct.files.sources import Source

LARGEST_DICTIONARY = 64 << 20
"""Bytes of a dictionary up to which libarchive unpacks RAR 5."""
_RIGHT_SINCE = (3, 8, 10)
"""Version of libarchive from which on it unpacks RAR 3 rightly, and with bounded memory."""
_MOST_AGAIN = 64 << 20
"""Bytes that are unpacked again by ourselves where the library failed: they may be broken, and it takes a minute."""


class Run:
    """Members that must be unpacked in order. Call `content` for each in turn, and read it to its end."""

    def __init__(self, members: list[RarMember], plain: Callable[[RarMember], Source], *, is_rar5: bool) -> None:
        """`plain` gives a member's packed bytes, deciphered. Raises UnreadableArchive where a library is missing."""
        self._members = members
        self._plain = plain
        self._is_rar5 = is_rar5
        self._ours: Unpacker29 | None = None
        self._library = _ByLibrary(members, plain, is_rar5=is_rar5) if is_rar5 or may_use_library(members) else None

    def close(self) -> None:
        """Let go of the library's memory."""
        if self._library:
            self._library.close()
            self._library = None

    def content(self, number: int, is_right: Callable[[RarMember, list[bytes]], bool]) -> Iterator[bytes]:
        """Yield the blocks of a member. `is_right` checks all of its blocks against size and checksum.

        Raises PackedFault, or RarRefusal for an unknown feature.
        """
        member = self._members[number]
        given = 0
        if self._library:
            try:
                blocks = self._library.content(member)
                if not self._is_rar5 and member.size <= WHOLE:
                    # Kept until complete: if the library unpacks it wrongly, it is unpacked again.
                    whole = list(blocks)
                    if not is_right(member, whole):
                        raise LibraryFault("does not match its checksum")
                    yield from whole
                    return
                for block in blocks:
                    yield block
                    given += len(block)
            except LibraryFault as fault:
                if self._is_rar5 or given > _MOST_AGAIN:
                    raise PackedFault(str(fault)) from fault
                self.close()
            else:
                return
        self._ours = self._ours or Unpacker29()
        for block in self._ours.file(self._plain(member), member.size):
            again = min(given, len(block))
            given -= again
            if len(block) > again:
                yield block[again:]


def may_use_library(members: list[RarMember]) -> bool:
    """Whether libarchive is there and unpacks such RAR 3 or 4 members: a solid run, or one alone."""
    version = library_version()
    is_alone = len(members) == 1 and not members[0].is_solid
    return is_alone and version is not None and version >= _RIGHT_SINCE


class _ByLibrary:
    """Members unpacked by the library, from a plain single volume that is written for it."""

    def __init__(self, members: list[RarMember], plain: Callable[[RarMember], Source], *, is_rar5: bool) -> None:
        feed = _rar5_stream(members, plain) if is_rar5 else _rar4_stream(members[0], plain)
        self._reader = LibraryReader(Onward(feed), ("rar5",) if is_rar5 else ("rar",), can_seek=False)
        self._reader.__enter__()
        self._entries = self._reader.entries()

    def close(self) -> None:
        self._reader.__exit__()

    def content(self, member: RarMember) -> Iterator[bytes]:
        if next(self._entries, None) is None:
            raise LibraryFault("the library finds fewer members")
        left = member.size
        # Exactly the remaining bytes: reading on would take the cipher's padding for data.
        while left > 0 and (block := self._reader.read(min(BLOCK, left))):
            left -= len(block)
            yield block


def _rar4_stream(member: RarMember, plain: Callable[[RarMember], Source]) -> Iterator[bytes]:
    source = plain(member)
    yield headers4.stream_head() + headers4.stream_member(member, source.size)
    yield from blocks_of(source, source.size)
    yield headers4.stream_end()


def _rar5_stream(members: list[RarMember], plain: Callable[[RarMember], Source]) -> Iterator[bytes]:
    # No match reaches back beyond the start, so a larger dictionary would be useless.
    dictionary = min(max(member.dictionary for member in members), LARGEST_DICTIONARY)
    yield headers5.stream_head(is_solid=len(members) > 1)
    for number, member in enumerate(members):
        source = plain(member)
        size = headers5.end_of_packed(source) if member.cipher else source.size
        yield headers5.stream_member(number, member, size, dictionary, is_solid=number > 0)
        yield from blocks_of(source, size)
    yield headers5.stream_end()
