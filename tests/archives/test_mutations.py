"""Damaged archives of every format: content that matches its checksum or a clear error, whatever the bytes."""

import bz2
import gzip
import io
import lzma
import random
import shutil
import unittest

import py7zr
import zstandard
from blake3 import blake3

from tests.archives.case import ArchiveCase, access, file_rows
from tests.archives.rar_writer import Member, RarWriter
from tests.archives.zip_writer import Item, zip_of
from tests.support import tar_bytes, zip_bytes
from usufruct.archives.allowance import Limits
from usufruct.archives.library import library_version
from usufruct.archives.reading import digests_of
from usufruct.errors import ArchiveError, DecisionNeeded

FILES = {"a.txt": b"hello" * 30, "dir/b.bin": bytes(range(256)) * 9, "\u00fcber.txt": b"umlaut"}
MEMBERS = [Member(name, content) for name, content in FILES.items()]
ITEMS = [Item(name.encode(), content, "moth", flags=0x800) for name, content in FILES.items()]
AES_ITEMS = [Item(name.encode(), content, "moth", 32, flags=0x800) for name, content in FILES.items()]
ROUNDS = 2400
SEED = 20260314


def seven(password: str | None = None) -> bytes:
    buffer = io.BytesIO()
    with py7zr.SevenZipFile(buffer, "w", password=password) as archive:
        for name, content in FILES.items():
            archive.writestr(content, name)
    return buffer.getvalue()


def by_library(kind: str) -> bytes:
    """An archive that the common library writes and reads."""
    import libarchive

    buffer = io.BytesIO()
    with libarchive.custom_writer(lambda data: buffer.write(data) or len(data), kind) as archive:
        for name, content in FILES.items():
            archive.add_file_from_memory(name, len(content), content)
    return buffer.getvalue()


CHECKED = {
    "zip": lambda: zip_bytes(FILES),
    "zip, classic cipher": lambda: zip_of(ITEMS)[0],
    "zip, AES": lambda: zip_of(AES_ITEMS)[0],
    "rar": lambda: RarWriter().volumes(MEMBERS)[0],
    "rar, locked": lambda: RarWriter("moth").volumes(MEMBERS)[0],
    "rar, hidden": lambda: RarWriter("moth", hides_names=True).volumes(MEMBERS)[0],
    "7z": seven,
    "7z, locked": lambda: seven("moth"),
}
"""Formats that state a checksum of each entry."""
OTHERS = {
    "tar": lambda: tar_bytes(FILES),
    "tar.gz": lambda: gzip.compress(tar_bytes(FILES)),
    "tar.bz2": lambda: bz2.compress(tar_bytes(FILES)),
    "tar.xz": lambda: lzma.compress(tar_bytes(FILES)),
    "tar.zst": lambda: zstandard.ZstdCompressor(write_checksum=True).compress(tar_bytes(FILES)),
    "gz": lambda: gzip.compress(FILES["dir/b.bin"]),
    "cpio": lambda: by_library("cpio"),
    "xar": lambda: by_library("xar"),
    "iso": lambda: by_library("iso9660"),
}


class MutationsTest(ArchiveCase):
    def outcome(self, content: bytes) -> dict[str, bytes] | None:
        """The digests of what was read, or None for a clear error; anything else raised is a fault."""
        path = self.write({"download": content})
        try:
            archive = self.open(path, access("moth", limits=Limits(free=1 << 24, header=1 << 20)))
            try:
                archive.unlock()
                digests = digests_of(archive, file_rows(archive))
            finally:
                archive.close()
        except (ArchiveError, DecisionNeeded) as error:
            self.assertTrue(error.message and error.remedy)
            return None
        finally:
            shutil.rmtree(path.parent)
        return {archive.listing.path(row): digest for row, digest in digests.items()}

    def test_mutations_end_in_matching_content_or_a_clear_error(self) -> None:
        kinds = CHECKED | (OTHERS if library_version() else {})
        seeds = {kind: make() for kind, make in kinds.items()}
        right = {blake3(content).digest() for content in (*FILES.values(), b"")}
        chance = random.Random(SEED)
        read = dict.fromkeys(kinds, 0)
        failed = dict.fromkeys(kinds, 0)
        order = list(kinds)
        for number in range(ROUNDS):
            kind = order[number % len(order)]
            content = mutated(seeds[kind], chance)
            digests = self.outcome(content)
            if digests is None:
                failed[kind] += 1
                continue
            read[kind] += 1
            if kind in CHECKED:
                wrong = [path for path, digest in digests.items() if digest not in right]
                self.assertEqual(wrong, [], f"{kind}, mutation {number}")
        for kind in kinds:
            with self.subTest(kind):
                self.assertGreater(failed[kind], 10)
                self.assertIsNotNone(self.outcome(seeds[kind]), "the archive itself can be read")
        self.assertGreater(sum(read.values()), ROUNDS // 50)

    def test_every_truncation_of_a_small_archive_is_told(self) -> None:
        for kind, make in CHECKED.items():
            content = make()
            for end in range(8, len(content) - 30, max(1, len(content) // 40)):
                with self.subTest(kind, end=end):
                    self.assertIsNone(self.outcome(content[:end]))


def mutated(content: bytes, chance: random.Random) -> bytes:
    out = bytearray(content)
    for _ in range(chance.randint(1, 4)):
        at = chance.randrange(len(out))
        match chance.randrange(4):
            case 0:
                out[at] = chance.randrange(256)
            case 1:
                out[at] ^= 1 << chance.randrange(8)
            case 2:
                del out[at : at + chance.randint(1, 9)]
            case 3:
                out[at:at] = chance.randbytes(chance.randint(1, 9))
    if chance.random() < 0.15:
        del out[chance.randrange(len(out)) :]
    return bytes(out)


if __name__ == "__main__":
    unittest.main()
