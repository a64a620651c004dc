"""What is no archive that is read is called what it is, with what to do; never "a file", never "damaged"."""

import shutil
import subprocess
import unittest

from tests.archives.case import ArchiveCase, access
from usufruct.archives.foreign import foreign_kind
from usufruct.errors import UnreadableArchive
from usufruct.files.sources import BytesSource

_BLOCK = bytes(510) + b"\x55\xaa"


def _at(mark: bytes, place: int) -> bytes:
    return bytes(place) + mark + bytes(4096)


HEADS = {
    "an arj archive": b"\x60\xea\x2c\x00" + bytes(600),
    "a zoo archive": _at(b"\xdc\xa7\xc4\xfd", 20),
    "an arc archive": b"\x1a\x08MOON.GEL\0" + bytes(600),
    "an ace archive": _at(b"**ACE**", 7),
    "a file packed with lrzip": b"LRZI\0\6" + bytes(600),
    "a Windows image": b"MSWIM\0\0\0" + bytes(600),
    "a cabinet of an installer": b"ISc(" + bytes(600),
    "a set of repair blocks": b"PAR2\0PKT" + bytes(600),
    "a shell archive": b"#!/bin/sh\n# This is a shell archive (produced by a packer).\n",
    "squashfs": b"hsqs" + bytes(600),
    "a virtual machine": b"QFI\xfb" + bytes(600),
    "an exFAT volume": b"\xeb\x76\x90EXFAT   " + bytes(4000),
    "NTFS": b"\xeb\x52\x90NTFS    " + bytes(4000),
    r"a Linux volume \(ext\)": _at(b"\x53\xef", 0x438),
    "a Macintosh volume": _at(b"H+\0\4", 0x400),
    "the image of a disk": _BLOCK[:446] + b"\x80\0\0\0\x0c" + _BLOCK[451:] + bytes(2000),
    "a UDF disc": _at(b"\0BEA01", 0x8000)[: 0x8800] + b"\0NSR02" + bytes(4096),
    "an Apple disk image": bytes(b"x" * 3000) + b"koly" + bytes(508),
}  # fmt: skip


class ForeignTest(ArchiveCase):
    def test_each_is_named_with_what_to_do(self) -> None:
        for what, content in HEADS.items():
            for name in ("download", "download.zip"):
                with (
                    self.subTest(what),
                    self.assertRaisesRegex(UnreadableArchive, f"{what}.*, which cannot be read") as told,
                ):
                    self.opened(content, name, access())
                self.assertTrue(told.exception.remedy.endswith("."))

    @unittest.skipUnless(shutil.which("mkfs.ext4"), "the tool that makes such images is not here")
    def test_a_real_image(self) -> None:
        image = self.folder / "disk.img"
        image.write_bytes(bytes(1 << 20))
        subprocess.run(["mkfs.ext4", "-q", "-F", image], check=True, capture_output=True)
        with self.assertRaisesRegex(UnreadableArchive, "Linux volume"):
            self.open(image)

    def test_pictures_texts_and_programs_are_none_of_these(self) -> None:
        for content in (
            b"\x89PNG\r\n\x1a\n" + bytes(9000),
            b"begin at the end\n" * 99,
            b"MZ" + bytes(9000),
            b"x" * 40_000,
        ):
            self.assertIsNone(foreign_kind(BytesSource(content)))


if __name__ == "__main__":
    unittest.main()
