"""Passwords and the encodings of names."""

import gzip
import io
import random
import struct
import unittest
import zipfile
import zlib

import py7zr

from tests.archives.case import ArchiveCase, access, contents
from tests.archives.zip_writer import Item, zip_of
from usufruct.archives.names import encoding_for
from usufruct.archives.reading import BLOCK
from usufruct.errors import DamagedArchive, PasswordNeeded, UnreadableArchive, WrongPassword

SECRET = b"the moth flies at dusk" * 9


def seven(password: str, *, hides: bool = False, content: bytes = SECRET) -> bytes:
    buffer = io.BytesIO()
    with py7zr.SevenZipFile(buffer, "w", password=password, header_encryption=hides) as archive:
        archive.writestr(content, "a.gel")
    return buffer.getvalue()


LOCKED = {
    "zip, classic": lambda: zip_of([Item(b"a.gel", SECRET, "moth")])[0],
    "zip, AES-128": lambda: zip_of([Item(b"a.gel", SECRET, "moth", 16)])[0],
    "zip, AES-256": lambda: zip_of([Item(b"a.gel", SECRET, "moth", 32)])[0],
    "7z": lambda: seven("moth"),
    "7z, names too": lambda: seven("moth", hides=True),
}


class PasswordTest(ArchiveCase):
    def test_the_right_password_opens_and_wrong_or_none_is_told(self) -> None:
        for kind, make in LOCKED.items():
            content = make()
            with self.subTest(kind):
                archive = self.opened(content, how=access("wasp", "moth"))
                archive.unlock()
                self.assertEqual(contents(archive), {"a.gel": SECRET})
                with self.assertRaises(WrongPassword):
                    self.opened(content, how=access("wasp")).unlock()
                with self.assertRaises(PasswordNeeded):
                    self.opened(content).unlock()

    def test_the_password_of_a_7z_of_nothing_but_large_files_is_right_too(self) -> None:
        """It was said to be wrong: after the first block of the smallest file, the second was taken for a name."""
        large = random.Random(7).randbytes(BLOCK * 2 + 5)
        content = seven("moth", content=large)
        archive = self.opened(content, how=access("wasp", "moth"))
        archive.unlock()
        self.assertTrue(contents(archive) == {"a.gel": large}, "megabytes of a difference say nothing")
        with self.assertRaises(WrongPassword):
            self.opened(content, how=access("wasp")).unlock()

    def test_damage_under_the_right_password_is_damage(self) -> None:
        for key_bytes in (0, 32):
            # A second, smaller entry proves the password.
            items = [Item(b"a.gel", SECRET, "moth", key_bytes), Item(b"b.gel", b"ok", "moth", key_bytes)]
            content = bytearray(zip_of(items)[0])
            content[90] ^= 1
            archive = self.opened(bytes(content), how=access("moth"))
            archive.unlock()
            with self.subTest(key_bytes), self.assertRaisesRegex(DamagedArchive, r"a\.gel"):
                contents(archive)

    def test_a_person_is_asked_three_times(self) -> None:
        answers = iter(["wasp", "bee", "moth", "never"])
        asked = []

        def ask(name: str, attempt: int) -> str:
            asked.append(attempt)
            return next(answers)

        archive = self.opened(LOCKED["zip, AES-256"](), how=access(ask=ask))
        archive.unlock()
        self.assertEqual((contents(archive)["a.gel"], asked), (SECRET, [1, 2, 3]))
        with self.assertRaises(WrongPassword):
            self.opened(LOCKED["zip, AES-256"](), how=access(ask=lambda *_: "wasp")).unlock()

    def test_one_entry_under_another_password_is_named(self) -> None:
        content = zip_of([Item(b"a.gel", SECRET, "moth", 32), Item(b"b.gel", b"ok", "bee", 32)])[0]
        archive = self.opened(content, how=access("bee"))
        archive.unlock()
        with self.assertRaisesRegex((WrongPassword, DamagedArchive), r"a\.gel"):
            contents(archive)

    def test_a_vendors_strong_encryption_is_named(self) -> None:
        content = zip_of([Item(b"a.gel", SECRET, "moth", flags=0x41)])[0]
        with self.assertRaisesRegex(UnreadableArchive, "strong encryption"):
            self.opened(content, how=access("moth")).unlock()


class NamesTest(ArchiveCase):
    JAPANESE = "影絵の劇場/夜の森.gel"
    RUSSIAN = "Теневой театр/Ночной лес с луной.gel"

    def names(self, *raw: bytes, how: str | None = None, **fields: int) -> list[str]:
        archive = self.opened(zip_of([Item(name, b"x", **fields) for name in raw])[0], how=access(names=how))
        return [entry.path for entry in archive.listing]

    def test_the_flag_and_the_unicode_field_are_respected(self) -> None:
        raw = self.RUSSIAN.encode()
        self.assertEqual(self.names(raw, flags=0x800), [self.RUSSIAN])
        old = self.RUSSIAN.encode("cp866")
        field = struct.pack("<BL", 1, zlib.crc32(old)) + raw
        extra = struct.pack("<HH", 0x7075, len(field)) + field
        archive = self.opened(zip_of([Item(old, b"x", extra=extra)])[0])
        self.assertEqual([entry.path for entry in archive.listing], [self.RUSSIAN])
        # A field left behind by a program that renamed the entry names another: it counts for nothing.
        stale = extra[:5] + b"\0\0\0\0" + extra[9:]
        archive = self.opened(zip_of([Item(b"new.gel", b"x", extra=stale)])[0])
        self.assertEqual([entry.path for entry in archive.listing], ["new.gel"])

    def test_names_that_do_not_say_are_guessed_for_the_archive_as_a_whole(self) -> None:
        for name, encoding in ((self.JAPANESE, "cp932"), (self.RUSSIAN, "cp866"), (self.RUSSIAN, "utf-8")):
            with self.subTest(encoding):
                self.assertEqual(self.names(name.encode(encoding), b"plain.gel"), [name, "plain.gel"])

    def test_the_user_knows_better(self) -> None:
        self.assertEqual(self.names(self.RUSSIAN.encode("cp866"), how="cp866"), [self.RUSSIAN])
        self.assertEqual(self.names("Läufer.gel".encode("cp850"), how="cp850"), ["Läufer.gel"])

    def test_what_nothing_can_tell_is_still_read(self) -> None:
        guess = encoding_for([b"\x81\xff\x00\x81"], None)
        self.assertTrue(guess.is_guessed)
        b"\x81\xff".decode(guess.encoding, "replace")

    def test_one_compressed_file_is_named_by_its_header_or_the_file(self) -> None:
        buffer = io.BytesIO()
        with gzip.GzipFile("dir/poem.txt", "wb", fileobj=buffer) as file:
            file.write(b"moth")
        self.assertEqual(contents(self.opened(buffer.getvalue(), "other.gz")), {"poem.txt": b"moth"})
        self.assertEqual(contents(self.opened(gzip.compress(b"moth"), "verse.txt.gz")), {"verse.txt": b"moth"})

    def test_a_zip_by_another_name_says_what_its_name_claims(self) -> None:
        buffer = io.BytesIO()
        with zipfile.ZipFile(buffer, "w") as archive:
            archive.writestr("a", "x")
        self.assertEqual(self.opened(buffer.getvalue(), "pack.rar").facts.said_format, "rar")
        self.assertEqual(self.opened(buffer.getvalue(), "pack.lbpack").facts.said_format, "")


if __name__ == "__main__":
    unittest.main()
