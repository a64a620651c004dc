"""Tar archives, plain or compressed as a whole."""

from collections.abc import Iterator

from usufruct.archives.members import Forward, StreamMember
from usufruct.archives.streamed import StreamedArchive
from usufruct.archives.tar.headers import begins_tar, members_of


class TarArchive(StreamedArchive):
    """An open tar. See `Archive`."""

    def _format_with(self, compression: str) -> str:
        return f"tar.{compression}" if compression else "tar"

    def _members(self, data: Forward) -> Iterator[StreamMember]:
        return members_of(data, self.allowance)

    def _begins(self, head: bytes) -> bool:
        return begins_tar(head)
