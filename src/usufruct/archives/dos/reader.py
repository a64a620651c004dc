"""An arj, zoo or arc, opened: the headers of each say what there is, and one way reads and checks them all."""

import zlib
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import partial

from usufruct.archives.allowance import Allowance
from usufruct.archives.bits import PackedFault
from usufruct.archives.dos import arc, arj, zoo
from usufruct.archives.dos.lzh import unlzh, unlzh_fast
from usufruct.archives.dos.lzw import unlzw_compress, unlzw_hashed, unlzw_zoo
from usufruct.archives.dos.members import DosFault, DosMember, crc16, in_blocks
from usufruct.archives.dos.squeeze import unsqueezed, with_runs
from usufruct.archives.names import decoded, encoding_for
from usufruct.archives.opened import OpenedFile
from usufruct.archives.reading import BLOCK, Access
from usufruct.errors import DamagedArchive, UnreadableArchive
from usufruct.files.sources import Source
from usufruct.model.entries import EntryKind

Unpack = Callable[[Iterable[bytes], int], Iterator[bytes]]
"""Packed blocks and the size of the content → its bytes, in parts of any size."""


def _stored(blocks: Iterable[bytes], size: int) -> Iterator[bytes]:
    yield from blocks


def _sizeless(unpack: Callable[[Iterable[bytes]], Iterator[bytes]]) -> Unpack:
    return lambda blocks, size: unpack(blocks)


def _with_runs(unpack: Callable[[Iterable[bytes]], Iterator[bytes]]) -> Unpack:
    return lambda blocks, size: with_runs(unpack(blocks))


_METHODS: dict[str, dict[int, tuple[str, Unpack]]] = {
    "arj": {
        0: ("stored", _stored),
        **dict.fromkeys((1, 2, 3), ("LZH", partial(unlzh, window=15))),
        4: ("LZ", unlzh_fast),
    },
    "zoo": {0: ("stored", _stored), 1: ("LZW", _sizeless(unlzw_zoo)), 2: ("LZH", partial(unlzh, window=13))},
    "arc": {
        1: ("stored", _stored),
        2: ("stored", _stored),
        3: ("runs", _with_runs(iter)),
        4: ("Huffman", _with_runs(unsqueezed)),
        5: ("LZW", _sizeless(partial(unlzw_hashed, is_fast=False))),
        6: ("LZW", _with_runs(partial(unlzw_hashed, is_fast=False))),
        7: ("LZW", _with_runs(partial(unlzw_hashed, is_fast=True))),
        8: ("LZW", _with_runs(partial(unlzw_compress, widest=None))),
        9: ("LZW", _sizeless(partial(unlzw_compress, widest=13))),
    },
}
"""Format → number of a method → its name for people, and what unpacks it."""


class DosArchive(OpenedFile):
    """An arj, zoo or arc, opened. See `Archive`."""

    is_divisible = True

    def __init__(self, path: str, name: str, source: Source, kind: str, access: Access, allowance: Allowance) -> None:
        super().__init__(path, name, source, access, allowance)
        self.format = kind
        self._members: dict[int, DosMember] = {}
        """Row → member."""
        with self._closed_on_failure():
            try:
                self._enter(self._read_members(is_lenient=access.rescues), access)
            except DosFault as fault:
                raise DamagedArchive(
                    f"{name} is an {kind}, but {fault}.", remedy="Download it again.", path=path
                ) from fault

    def _read_members(self, *, is_lenient: bool) -> list[DosMember]:
        read = {"arj": arj.members_of, "zoo": zoo.members_of, "arc": arc.members_of}[self.format]
        members: list[DosMember] = []
        try:
            members.extend(read(self._source))
        except DosFault:
            if not (is_lenient and members):
                raise
        return members

    def _enter(self, members: Sequence[DosMember], access: Access) -> None:
        unsaid = [member.raw for member in members if not member.raw.isascii()]
        encoding = "ascii"
        if unsaid:
            encoding, self.facts.is_encoding_guessed = encoding_for(unsaid, access.names, is_from_dos=True)
            self.facts.encoding = encoding
        methods = _METHODS[self.format]
        for member in members:
            name = decoded(member.raw, encoding)
            is_file = member.kind is EntryKind.FILE
            # arj states a CRC-32, with which files on disk can be compared; the others' is too short for that.
            checksum = member.checksum if self.format == "arj" and is_file else None
            row = self._rows.enter(name, member.kind, member.size if is_file else 0, member.modified, checksum)
            if row is not None and is_file:
                self._members[row] = member
                if member.method not in methods and not member.refusal:
                    member.refusal = f"it is packed by a method that is not known ({member.method})"
        met = {methods[member.method][0] for member in self._members.values() if member.method in methods}
        self.facts.packing = tuple(sorted(met))
        self.facts.is_slow = met > {"stored"}
        self.facts.locked_entries = sum("locked" in member.refusal for member in self._members.values())

    def unlock(self) -> None:
        """What is locked here cannot be read at all, and is told by name."""

    def stream(self, rows: Sequence[int]) -> Iterator[tuple[int, Iterator[bytes]]]:
        """See `Archive.stream`."""
        for row in sorted(rows, key=lambda row: self._members[row].offset):
            yield row, self._content(row)

    def _content(self, row: int) -> Iterator[bytes]:
        member = self._members[row]
        if member.refusal:
            raise UnreadableArchive(
                f"{self.listing.path(row)} in {self.name} cannot be read: {member.refusal}.",
                remedy="Leave it out with --skip, or unpack it with the program that made it.",
                path=self.path,
            )
        _, unpack = _METHODS[self.format][member.method]
        total = checksum = 0
        try:
            for block in in_blocks(unpack(self._packed(member), member.size), BLOCK >> 4):
                total += len(block)
                if total > member.size:
                    raise PackedFault(f"it unpacks to more than its stated {member.size} bytes")
                checksum = zlib.crc32(block, checksum) if self.format == "arj" else crc16(block, checksum)
                yield block
            if total != member.size or checksum != member.checksum:
                raise PackedFault("it does not match its size and checksum")
        except (PackedFault, IndexError) as fault:
            raise DamagedArchive(
                f"{self.listing.path(row)} in {self.name} cannot be unpacked: {fault}.",
                remedy="The archive is damaged: download it again.",
                path=self.path,
            ) from fault

    def _packed(self, member: DosMember) -> Iterator[bytes]:
        for at in range(0, member.packed, BLOCK):
            yield self._source.read_at(member.offset + at, min(BLOCK, member.packed - at))
