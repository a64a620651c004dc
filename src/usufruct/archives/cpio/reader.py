"""Cpio archives, plain or compressed as a whole, and rpm packages, which contain one."""

from collections.abc import Iterator

from usufruct.archives.allowance import Allowance
from usufruct.archives.cpio.headers import begins_cpio, members_of
from usufruct.archives.members import Forward, MemberFault, StreamMember
from usufruct.archives.reading import Access
from usufruct.archives.streamed import StreamedArchive
from usufruct.errors import DamagedArchive
from usufruct.files.sources import SliceSource, Source

_LEAD, _SECTION = 96, b"\x8e\xad\xe8\x01"
"""Bytes before the first section of an rpm, and what each section begins with."""
_SUM = 100
"""Bytes that a sum takes until the archive is closed."""


class CpioArchive(StreamedArchive):
    """An open cpio archive. See `Archive`."""

    def __init__(
        self, path: str, name: str, source: Source, compression: str, access: Access, allowance: Allowance
    ) -> None:
        self._sums: dict[int, int] = {}
        """Offset of a file's data → the sum of its bytes, where the format states it."""
        super().__init__(path, name, source, compression, access, allowance)

    def _format_with(self, compression: str) -> str:
        return f"cpio.{compression}" if compression else "cpio"

    def _members(self, data: Forward) -> Iterator[StreamMember]:
        for member in members_of(data, self.allowance):
            yield member
            if member.checksum is not None and member.kind == "file":
                self.allowance.keep(_SUM)
                self._sums[member.offset] = member.checksum
        self.facts.has_checksums |= bool(self._sums)

    def _begins(self, head: bytes) -> bool:
        return begins_cpio(head)

    def _telling_faults(self, row: int, blocks: Iterator[bytes]) -> Iterator[bytes]:
        stated = self._sums.get(self._offsets[row])
        return super()._telling_faults(row, blocks if stated is None else _summed(blocks, stated))


class RpmArchive(CpioArchive):
    """An open rpm, read as the cpio in it. See `Archive`. Its scripts are never read."""

    def __init__(
        self,
        path: str,
        name: str,
        source: Source,
        content: SliceSource,
        compression: str,
        access: Access,
        allowance: Allowance,
    ) -> None:
        """`content` is the packed cpio in `source`."""
        super().__init__(path, name, content, compression, access, allowance)
        self.listing.is_system_package = True
        self.size, content.owns_whole = source.size, True
        self.extent = (0, source.size - content.size + self.extent[1])

    def _format_with(self, compression: str) -> str:
        return "rpm"


def _summed(blocks: Iterator[bytes], stated: int) -> Iterator[bytes]:
    found = 0
    for block in blocks:
        found += sum(block)
        yield block
    if found & 0xFFFFFFFF != stated:
        raise MemberFault("its bytes do not match their sum")


def content_of_rpm(path: str, name: str, source: Source) -> SliceSource:
    """Return the packed cpio in an rpm: it follows the lead and two sections, the first padded to eight bytes.

    The layout is in the Linux Standard Base, chapter "Package File Format". Raises DamagedArchive.
    """
    at = _LEAD
    for fill in (8, 1):
        head = source.read_at(at, 16)
        count, size = int.from_bytes(head[8:12], "big"), int.from_bytes(head[12:16], "big")
        at += 16 + 16 * count + size
        at += -at % fill
        if not head.startswith(_SECTION) or at >= source.size:
            raise DamagedArchive(
                f"{name} begins as an rpm package, but breaks off or is damaged.",
                remedy="Download it again.",
                path=path,
            )
    return SliceSource(source, at)
