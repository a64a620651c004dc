"""Write tar archives, plain or compressed as a whole."""

import os
import tarfile
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from io import RawIOBase
from typing import IO, BinaryIO, cast

from usufruct.archives.writing import How, Member, blocks_of
from usufruct.model.entries import EntryKind

_ZST_LEVELS = (1, 3, 4, 6, 8, 10, 12, 15, 17, 19)
"""The level for each effort."""


class _Content(RawIOBase):
    """Presents a file's blocks as a file, for a library that reads from one."""

    def __init__(self, blocks: Iterator[bytes], tell: Callable[[int], None]) -> None:
        self._blocks, self._tell, self._rest = blocks, tell, b""

    def readable(self) -> bool:
        return True

    def read(self, count: int = -1) -> bytes:
        """Return exactly as much as requested, or the rest."""
        taken = [self._rest]
        held = len(self._rest)
        while count < 0 or held < count:
            block = next(self._blocks, b"")
            if not block:
                break
            self._tell(len(block))
            taken.append(block)
            held += len(block)
        data = b"".join(taken)
        self._rest = data[count:] if count >= 0 else b""
        return data[:count] if count >= 0 else data


def pack(out: BinaryIO, members: Sequence[Member], how: How) -> None:
    """See `usufruct.archives.writing`. Owners are not stored: whoever unpacks the archive becomes the owner."""
    assert how.password is None, "tar has no locks"
    with (
        _packed(out, how.format, how.effort) as stream,
        tarfile.open(fileobj=stream, mode="w|", format=tarfile.PAX_FORMAT) as tar,
    ):
        for member in members:
            info = tarfile.TarInfo(member.entry)
            info.mode = 0o755 if member.can_run or member.kind is EntryKind.DIRECTORY else 0o644
            info.mtime, fraction = divmod(member.modified, 1_000_000_000)
            if fraction:
                info.pax_headers = {"mtime": f"{info.mtime}.{fraction:09}"}
            if member.kind is EntryKind.FILE:
                info.size = member.size
                blocks = blocks_of(member)
                tar.addfile(info, cast("IO[bytes]", _Content(blocks, how.tell)))
                # Read to the end, to notice a file that has grown.
                for _ in blocks:
                    pass
                continue
            info.type = tarfile.DIRTYPE if member.kind is EntryKind.DIRECTORY else tarfile.SYMTYPE
            info.linkname = member.target
            tar.addfile(info)


@contextmanager
def _packed(out: BinaryIO, archive_format: str, effort: int) -> Iterator[IO[bytes]]:
    """Open the stream to which the tar is written."""
    if archive_format == "tar":
        yield out
    elif archive_format == "tar.gz":
        from gzip import GzipFile

        with GzipFile("", "wb", effort, out, mtime=0) as packed:
            yield cast("IO[bytes]", packed)
    elif archive_format == "tar.xz":
        from lzma import LZMAFile

        with LZMAFile(out, "wb", preset=effort) as packed_by_lzma:
            yield cast("IO[bytes]", packed_by_lzma)
    else:
        from usufruct.archives.streams.zstd import zstd

        how: dict[int, int] = {
            zstd.CompressionParameter.compression_level: _ZST_LEVELS[effort],
            zstd.CompressionParameter.nb_workers: os.cpu_count() or 1,
            zstd.CompressionParameter.checksum_flag: 1,
        }
        with zstd.ZstdFile(out, "wb", options=how) as packed_by_zst:
            yield cast("IO[bytes]", packed_by_zst)
