"""Archives to measure with, made from a seed: the same bytes for the same arguments."""

import io
import random
import struct
import tarfile
import zipfile
from collections.abc import Iterator
from pathlib import Path

SEED = 20260314
_EXTRA = struct.pack("<2HBl", 0x5455, 5, 1, 1_773_500_966) + struct.pack("<2H2BLBL", 0x7875, 11, 1, 4, 1000, 4, 1000)
_WORDS = [bytes([97 + n % 26]) * (n % 7 + 1) for n in range(199)]


def content(chance: random.Random, size: int) -> bytes:
    """Bytes that pack to about a third: words between noise, as content of programs is."""
    out = bytearray()
    while len(out) < size:
        out += chance.randbytes(60)
        out += b" ".join(chance.choices(_WORDS, k=40))
    return bytes(out[:size])


def files(count: int, total: int, *, directories: int = 100, seed: int = SEED) -> Iterator[tuple[str, bytes]]:
    """Paths in two levels of directories, with contents of about `total / count` bytes."""
    chance = random.Random(seed)
    base = content(chance, 1 << 20)
    mean = total // count
    for number in range(count):
        size = max(1, int(mean * chance.uniform(0.4, 1.6)))
        start = chance.randrange(len(base))
        body = bytearray((base[start:] + base * (size // len(base) + 1))[:size])
        body[:8] = number.to_bytes(8, "big")[: len(body)]
        yield f"pack/d{number % directories:03}/f{number:06}.dat", bytes(body)


def make_zip(path: Path, count: int, total: int, *, method: int = zipfile.ZIP_DEFLATED) -> Path:
    """A zip of seeded files, each with the extra fields that common packers write: time and owner."""
    with zipfile.ZipFile(path, "w", method, compresslevel=6) as archive:
        for name, body in files(count, total):
            info = zipfile.ZipInfo(name, (2026, 3, 14, 15, 9, 26))
            info.extra = _EXTRA
            archive.writestr(info, body, compress_type=method)
    return path


def make_tar(path: Path, count: int, total: int, packing: str = "") -> Path:
    """A tar of seeded files, packed with gz, bz2, xz or zst."""
    if packing == "zst":
        from usufruct.archives.streams.zstd import zstd

        how = {zstd.CompressionParameter.checksum_flag: 1}
        with zstd.open(path, "wb", options=how) as out, tarfile.open(fileobj=out, mode="w|") as archive:
            _fill(archive, count, total)
        return path
    options = {"preset": 1} if packing == "xz" else {"compresslevel": 6} if packing in ("gz", "bz2") else {}
    with tarfile.open(path, f"w:{packing}", **options) as archive:  # type: ignore[call-overload]
        _fill(archive, count, total)
    return path


def _fill(archive: tarfile.TarFile, count: int, total: int) -> None:
    for name, body in files(count, total):
        info = tarfile.TarInfo(name)
        info.size, info.mtime = len(body), 1_773_500_966
        archive.addfile(info, io.BytesIO(body))


def make_by_library(path: Path, count: int, total: int, kind: str, options: str = "") -> Path:
    """A 7z, cpio or the like of seeded files, written by libarchive."""
    from usufruct.archives.archive_library import library

    library()
    import libarchive

    with libarchive.file_writer(str(path), kind, options=options) as archive:
        for name, body in files(count, total):
            archive.add_file_from_memory(name, len(body), body)
    return path
