"""Geometry and cluster chains of a FAT file system.

Source: Microsoft's "FAT: General Overview of On-Disk Format", version 1.03.
"""

from collections.abc import Iterator
from functools import lru_cache

from usufruct.files.sources import Source

_FEWEST_OF_16, _FEWEST_OF_32 = 4085, 65525
"""Clusters from which on a volume's table has entries of so many bits."""
_TABLE_BLOCK = 6144
"""Bytes of the table that are read at once: whole entries of 12, 16 and 32 bits."""
_CACHED = 256


class FatFault(Exception):
    """The file system is inconsistent."""


def begins_fat(head: bytes) -> bool:
    """Whether a file with these first bytes may be the image of a FAT file system (exFAT is not)."""
    if len(head) < 512 or head[0] not in (0xEB, 0xE9) or head[3:11] == b"EXFAT   ":
        return False
    sector, cluster, tables, media = int.from_bytes(head[11:13], "little"), head[13], head[16], head[21]
    return (
        sector in (512, 1024, 2048, 4096)
        and cluster.bit_count() == 1
        and int.from_bytes(head[14:16], "little") > 0
        and tables in (1, 2)
        and (media == 0xF0 or media >= 0xF8)
    )


class FatVolume:
    """The geometry of a FAT file system; raises FatFault if its first sector is impossible."""

    def __init__(self, source: Source) -> None:
        self._source = source
        head = source.read_at(0, 512)
        number = int.from_bytes
        sector, reserved, tables = number(head[11:13], "little"), number(head[14:16], "little"), head[16]
        roots = number(head[17:19], "little")
        sectors = number(head[19:21], "little") or number(head[32:36], "little")
        table = number(head[22:24], "little") or number(head[36:40], "little")
        self._cluster = sector * head[13]
        self._table_at = sector * reserved
        root_at = self._table_at + sector * tables * table
        root_size = -(-roots * 32 // sector) * sector
        self._data_at = root_at + root_size
        self.size = sector * sectors
        """Bytes of the volume."""
        self._clusters = (self.size - self._data_at) // self._cluster
        if self._clusters <= 0 or not table:
            raise FatFault("its parts do not fit into it")
        self._bits = 12 if self._clusters < _FEWEST_OF_16 else 16 if self._clusters < _FEWEST_OF_32 else 32
        if (self._clusters + 2) * self._bits > sector * table * 8:
            raise FatFault("its table is too short for it")
        media = source.read_at(self._table_at, 1)
        if media != head[21:22]:
            raise FatFault("its table does not begin as its first sector says")
        self._root_place = (root_at, root_size)
        self.root = number(head[44:48], "little") if self._bits == 32 else 0
        """First cluster of the top directory; 0 where that has a place of its own."""
        self._table_block = lru_cache(maxsize=_CACHED)(self._read_table)

    def first_cluster(self, entry: bytes) -> int:
        """Return the cluster at which a directory entry's content begins."""
        high = int.from_bytes(entry[20:22], "little") if self._bits == 32 else 0
        return high << 16 | int.from_bytes(entry[26:28], "little")

    def directory(self, cluster: int) -> Iterator[bytes]:
        """Return the bytes of a directory."""
        if not cluster:
            yield self._source.read_at(*self._root_place)
            return
        for here in self._chain(cluster):
            yield self._read(here, 1)

    def content(self, cluster: int, size: int, most: int) -> Iterator[bytes]:
        """Yield so many bytes of the content that begins at a cluster, in blocks of at most `most`."""
        left = size
        for first, count in self._runs(cluster, max(1, most // self._cluster)) if size else ():
            block = self._read(first, count)[:left]
            left -= len(block)
            # A cluster may be larger than a block.
            for at in range(0, len(block), most):
                yield block[at : at + most]
            if not left:
                return
        if left:
            raise FatFault("it ends before its stated size")

    def refuse_cut(self, cluster: int, size: int) -> None:
        """Raise FatFault if the image ends within the content that begins at a cluster and has so many bytes."""
        for here, _ in zip(self._chain(cluster), range(0, size, self._cluster), strict=False):
            if self._data_at + (here - 1) * self._cluster > self._source.size:
                raise FatFault("it breaks off")

    def _runs(self, cluster: int, most: int) -> Iterator[tuple[int, int]]:
        """Yield the runs of consecutive clusters in a chain: the first of each, and how many."""
        first, count = 0, 0
        for here in self._chain(cluster):
            if count and here == first + count and count < most:
                count += 1
                continue
            if count:
                yield first, count
            first, count = here, 1
        if count:
            yield first, count

    def _chain(self, cluster: int) -> Iterator[int]:
        passed = 0
        while True:
            if not 2 <= cluster < self._clusters + 2:
                raise FatFault("its table leads out of it")
            passed += 1
            if passed > self._clusters:
                raise FatFault("its table leads in a circle")
            yield cluster
            cluster = self._next(cluster)
            if cluster >= (1 << min(self._bits, 28)) - 8:
                return

    def _next(self, cluster: int) -> int:
        at = cluster * self._bits // 8
        block = self._table_block(at // _TABLE_BLOCK)
        at %= _TABLE_BLOCK
        entry = int.from_bytes(block[at : at + max(2, self._bits // 8)], "little")
        if self._bits == 12:
            return entry >> 4 if cluster & 1 else entry & 0xFFF
        return entry & 0x0FFF_FFFF

    def _read_table(self, number: int) -> bytes:
        return self._source.read_at(self._table_at + number * _TABLE_BLOCK, _TABLE_BLOCK)

    def _read(self, cluster: int, count: int) -> bytes:
        wanted = count * self._cluster
        block = self._source.read_at(self._data_at + (cluster - 2) * self._cluster, wanted)
        if len(block) < wanted:
            raise FatFault("it breaks off")
        return block
