"""Unpacking members one after the other: by libarchive where it is there and known to be right, else by ourselves."""

import zlib
from collections.abc import Callable, Iterator
from typing import Protocol

from usufruct.archives.allowance import Allowance
from usufruct.archives.bits import PackedFault
from usufruct.archives.rar import headers4, headers5, lz1, lz2, lz3, lz5
from usufruct.archives.rar.common import BLOCK, Onward, RarMember, blocks_of
from usufruct.archives.reading import WHOLE
from usufruct.archives.system_library import LibraryFault, LibraryReader, library_version
from usufruct.files.sources import Source

_LARGEST_BY_LIBRARY = 64 << 20
"""Bytes of a dictionary up to which libarchive unpacks RAR 5."""
_THIRD, _SECOND = 29, 20
"""Versions from which on a member is packed by the method of these generations."""
_RIGHT_SINCE = (3, 7, 4)
"""Version of libarchive from which on it unpacks the text model rightly beyond its first 4 MB."""
_RIGHT_BEFORE = 4 << 20
"""Bytes of a member that every version of it unpacks rightly."""
_MOST_AGAIN = 256 << 20
"""Bytes that are unpacked again by ourselves where the library failed: they may be broken, and it takes minutes."""


class Unpacker(Protocol):
    """A method of packing: what it remembers from one file to the next."""

    def file(self, packed: Source, size: int) -> Iterator[bytes]:
        """The content of the next file of a stream, of `size` bytes; PackedFault if it cannot be unpacked."""
        ...


class Run:
    """Members that must be unpacked in order. `content` is called for each in turn, and read to its end."""

    def __init__(
        self, members: list[RarMember], plain: Callable[[RarMember], Source], allowance: Allowance, *, is_rar5: bool
    ) -> None:
        """`plain` gives a member's packed bytes, deciphered."""
        self._members = members
        self._plain = plain
        self._is_rar5 = is_rar5
        self._allowance = allowance
        self._ours: Unpacker | None = None
        self._done = 0
        """Members that `_ours` has unpacked."""
        self._library: _ByLibrary | None = None
        if _is_for_library(members, plain, is_rar5=is_rar5):
            self._library = _ByLibrary(members, plain, is_rar5=is_rar5)

    def close(self) -> None:
        """Let go of the library's memory."""
        if self._library:
            self._library.close()
            self._library = None

    def content(self, number: int, is_right: Callable[[RarMember, list[bytes]], bool]) -> Iterator[bytes]:
        """Blocks of a member. `is_right` tells whether all of its blocks match its size and checksum.

        Raises PackedFault, RarRefusal for what is not known, UnsafeArchive for a dictionary that is too large.
        """
        given = checksum = 0
        member = self._members[number]
        if self._library:
            try:
                blocks = self._library.content(member)
                if member.size <= WHOLE:
                    # Kept until all is there, so that what the library unpacked wrongly can be unpacked again.
                    whole = list(blocks)
                    if not is_right(member, whole):
                        raise LibraryFault("does not match its checksum")
                    yield from whole
                    return
                for block in blocks:
                    yield block
                    given += len(block)
                    checksum = zlib.crc32(block, checksum)
            except LibraryFault as fault:
                self.close()
                if sum(each.size for each in self._members[:number]) + given > _MOST_AGAIN:
                    raise PackedFault(str(fault)) from fault
            else:
                return
        yield from self._rest(self._unpacked(number), given, checksum)

    def _rest(self, blocks: Iterator[bytes], given: int, expected: int) -> Iterator[bytes]:
        """What follows the bytes that the library gave, if they were right."""
        checksum = 0
        for block in blocks:
            again, rest = block[:given], block[given:]
            given -= len(again)
            checksum = zlib.crc32(again, checksum)
            if again and not given and checksum != expected:
                break
            if rest:
                yield rest
        else:
            return
        raise PackedFault("its packed bytes do not hold together")

    def _unpacked(self, number: int) -> Iterator[bytes]:
        if not self._ours:
            self._ours = self._unpacker()
        for member in self._members[self._done : number]:
            for _ in self._ours.file(self._plain(member), member.size):
                pass
        self._done = number + 1
        member = self._members[number]
        yield from self._ours.file(self._plain(member), member.size)

    def _unpacker(self) -> Unpacker:
        first = self._members[0]
        if self._is_rar5:
            # No match reaches further back than to the begin.
            size = min(max(each.dictionary for each in self._members), sum(each.size for each in self._members))
            self._allowance.dictionary(size)
            return lz5.Unpacker50(size, is_far=first.has_far_codes)
        if first.version >= _THIRD:
            return lz3.Unpacker29(sum(each.size for each in self._members), self._allowance.dictionary)
        return lz2.Unpacker20() if first.version >= _SECOND else lz1.Unpacker15()


def may_use_library(members: list[RarMember], *, is_rar5: bool) -> bool:
    """Whether libarchive is there and unpacks members of this kind, as far as their headers tell."""
    if library_version() is None:
        return False
    if is_rar5:
        return all(not member.version and member.dictionary <= _LARGEST_BY_LIBRARY for member in members)
    return all(member.version >= _THIRD and not member.is_solid for member in members)


def _is_for_library(members: list[RarMember], plain: Callable[[RarMember], Source], *, is_rar5: bool) -> bool:
    if not may_use_library(members, is_rar5=is_rar5):
        return False
    first, version = members[0], library_version() or ""
    if is_rar5:
        return True
    if len(members) > 1:
        return False
    if first.size <= _RIGHT_BEFORE or tuple(map(int, version.split("."))) >= _RIGHT_SINCE:
        return True
    # The first bit says whether the text model is used.
    return not plain(first).read_at(0, 1)[0:1] >= b"\x80"


class _ByLibrary:
    """The members as the library gives them, from the plain stream of one volume that we write for it."""

    def __init__(self, members: list[RarMember], plain: Callable[[RarMember], Source], *, is_rar5: bool) -> None:
        feed = _rar5_stream(members, plain) if is_rar5 else _rar4_stream(members, plain)
        self._reader = LibraryReader(Onward(feed), ("rar5",) if is_rar5 else ("rar",), can_seek=False)
        self._reader.__enter__()
        self._entries = self._reader.entries()

    def close(self) -> None:
        self._reader.__exit__()

    def content(self, member: RarMember) -> Iterator[bytes]:
        if next(self._entries, None) is None:
            raise LibraryFault("the library finds fewer members")
        left = member.size
        # Exactly the bytes that are left: reading on would take the cipher's fill for data.
        while left > 0 and (block := self._reader.read(min(BLOCK, left))):
            left -= len(block)
            yield block


def _rar4_stream(members: list[RarMember], plain: Callable[[RarMember], Source]) -> Iterator[bytes]:
    yield headers4.stream_head()
    for number, member in enumerate(members):
        quiet = headers4.quiet_start(member)
        source = plain(member)
        yield headers4.stream_member(number, member, source.size + len(quiet)) + quiet
        yield from blocks_of(source, source.size)
    yield headers4.stream_end()


def _rar5_stream(members: list[RarMember], plain: Callable[[RarMember], Source]) -> Iterator[bytes]:
    dictionary = max(member.dictionary for member in members)
    yield headers5.stream_head(is_solid=len(members) > 1)
    for number, member in enumerate(members):
        source = plain(member)
        size = headers5.end_of_packed(source) if member.cipher else source.size
        yield headers5.stream_member(number, member, size, dictionary, is_solid=number > 0)
        yield from blocks_of(source, size)
    yield headers5.stream_end()
