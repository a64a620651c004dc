"""Images of FAT volumes and files written as text: read as they were meant, and refused where they do not hold."""

import struct

from tests.archives.case import ArchiveCase, access, contents
from tests.archives.text_and_disk import FatWriter, fat_of, long_entries, uu_of
from usufruct.archives.allowance import Limits
from usufruct.errors import ArchiveError, DamagedArchive, UnsafeArchive

FILES = {"moon.gel": b"moon" * 700, "Gels of the old harbour/\u5e7d\u970a.gel": b"ghost", "a/b/c/empty.gel": b""}


class FatTest(ArchiveCase):
    def test_every_width_of_the_table(self) -> None:
        for bits in (12, 16, 32):
            with self.subTest(bits):
                archive = self.opened(fat_of(FILES, bits))
                self.assertEqual((archive.format, contents(archive)), ("fat", FILES))
                self.assertEqual((archive.extent, archive.facts.unread), ((0, archive.size), ()))

    def test_short_names_in_the_code_page_and_the_case_that_was_meant(self) -> None:
        writer = FatWriter()
        first = writer.chain(b"m")
        lower = bytearray(writer.entry("", first, 1, short=b"MOON    GEL"))
        lower[12] = 0x18
        names = [
            bytes(lower),
            *(writer.entry("", first, 1, short=one) for one in (b"M\x9aHLE   GEL", b"\x05BC        ")),
        ]
        archive = self.opened(writer.image(b"".join(names)), how=access(names="cp437"))
        self.assertEqual(set(contents(archive)), {"moon.gel", "M\u00dcHLE.GEL", "\u03c3BC"})

    def test_what_was_deleted_a_label_and_anothers_long_name_are_nothing(self) -> None:
        writer = FatWriter()
        first = writer.chain(b"moon")
        deleted = b"\xe5" + writer.entry("", first, 4, short=b"GONE    GEL")[1:]
        label = writer.entry("", 0, 0, 0x08, short=b"OLD HARBOUR")
        stale = long_entries("another's name.gel", b"OTHER   GEL") + writer.entry("", first, 4, short=b"MOON    GEL")
        archive = self.opened(writer.image(deleted + label + stale))
        self.assertEqual(contents(archive), {"MOON.GEL": b"moon"})

    def test_circles_and_chains_that_lead_out_are_damage(self) -> None:
        writer = FatWriter()
        inner = writer.chain(bytes(512))
        itself = writer.entry("again", inner, 0, 0x10)
        writer.data[(inner - 2) * 512 : (inner - 2) * 512 + len(itself)] = itself
        with self.assertRaisesRegex(DamagedArchive, "a directory lies in itself"):
            self.opened(writer.image(writer.entry("again", inner, 0, 0x10)))
        for after, said in ((2, "in a circle"), (45, "leads out"), (0, "leads out"), (0xFFF, "before its stated")):
            writer = FatWriter()
            first = writer.chain(b"moon" * 200)
            writer.table[first + 2] = after
            archive = self.opened(writer.image(writer.entry("moon.gel", first, 1 << 20)))
            with self.subTest(after), self.assertRaisesRegex(DamagedArchive, said):
                contents(archive)

    def test_more_entries_than_are_allowed_are_refused(self) -> None:
        with self.assertRaisesRegex(UnsafeArchive, "more than 3 entries"):
            self.opened(fat_of({f"{number}.gel": b"" for number in range(9)}), how=access(limits=Limits(entries=3)))

    def test_a_head_whose_parts_do_not_fit_is_damage(self) -> None:
        sound = fat_of(FILES)
        for at, value, said in (
            (19, struct.pack("<H", 3), "do not fit"),
            (19, struct.pack("<H", 2000), "too short"),
            (21, b"\xf0", "does not begin as"),
        ):
            with self.subTest(said), self.assertRaisesRegex(DamagedArchive, said):
                self.opened(sound[:at] + value + sound[at + len(value) :])
        with self.assertRaisesRegex(DamagedArchive, "breaks off"):
            self.opened(sound[: len(sound) - 512 * 30])

    def test_an_image_may_lack_its_empty_end_and_no_content(self) -> None:
        image = fat_of({"moon.gel": b"moon" * 300})
        data_at = len(image) - 40 * 512
        # Its three clusters are the first, the third and the fifth.
        self.assertEqual(contents(self.opened(image[: data_at + 5 * 512])), {"moon.gel": b"moon" * 300})
        with self.assertRaisesRegex(DamagedArchive, "breaks off"):
            self.opened(image[: data_at + 4 * 512 + 100])


class UuencodedTest(ArchiveCase):
    def test_both_codes_several_files_and_what_follows(self) -> None:
        plain = bytes(range(256)) * 300
        text = b"\n" + uu_of("C:\\gels\\moon.gel", plain) + b"\r\n" + uu_of("gels/sun.gel", b"sun", as_base64=True)
        archive = self.opened(text + b"regards\n", "letter.uu")
        self.assertEqual((archive.format, contents(archive)), ("uu", {"moon.gel": plain, "sun.gel": b"sun"}))
        self.assertEqual(archive.facts.unread, ((len(text), 8),))

    def test_lines_that_lost_their_blanks_are_read(self) -> None:
        text = uu_of("zeros.gel", bytes(90)).replace(b"`", b" ")
        stripped = b"\r\n".join(line.rstrip() for line in text.split(b"\n"))
        self.assertEqual(contents(self.opened(stripped)), {"zeros.gel": bytes(90)})

    def test_what_has_no_end_or_a_broken_line_is_damage(self) -> None:
        sound = uu_of("moon.gel", b"moon" * 100)
        for text in (
            sound[:-5],
            sound.replace(b"\nM", b"\nM\x80", 1),
            sound[:60] + b"x" * 3000,
            uu_of("m", b"m" * 99, as_base64=True)[:-9],
        ):
            with self.assertRaises(ArchiveError):
                contents(self.opened(text))
        with self.assertRaisesRegex(DamagedArchive, "a line has no end"):
            self.opened(sound[:60] + b"M" * 300_000)
