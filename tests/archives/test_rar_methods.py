"""RAR 3's methods, which Python unpacks: what a packer wrote comes out, and libarchive finds the same."""

import random
import unittest
import zlib
from collections.abc import Sequence
from unittest import mock

from msgspec.structs import replace

from tests.archives.case import ArchiveCase, access, contents
from tests.archives.rar4_writer import Packed, archive4
from tests.archives.rar_packer import (
    Again,
    Change,
    Match,
    Recent,
    TextPacker,
    Token,
    filter_code,
    meant,
    packed3,
    packed3_in_turn,
    program_of,
    tokens_of,
)
from usufruct.archives.archive_library import library_version
from usufruct.archives.bits import PackedFault
from usufruct.archives.rar import matches, unpacking
from usufruct.archives.rar.common import RarMember, RarRefusal
from usufruct.archives.rar.matches import Unpacker29
from usufruct.archives.reading import Archive
from usufruct.errors import DamagedArchive, UnreadableArchive, WrongPassword
from usufruct.files.sources import BytesSource
from usufruct.model.progress import Progress

CHANCE = random.Random(7)
WORDS = [bytes(CHANCE.choices(b"abcdehilmnorstu", k=CHANCE.randint(2, 8))) for _ in range(150)]
TEXT = b" ".join(CHANCE.choice(WORDS) for _ in range(900)) + CHANCE.randbytes(300) + bytes(200)
TOKENS = tokens_of(TEXT)
HALF = len(TOKENS) // 2
ONE, TWO = meant(TOKENS[:HALF]), meant(TOKENS[HALF:], meant(TOKENS[:HALF]))
CODE = bytes(CHANCE.choices(b"\xe8\xe9\x00\x90\xff", (2, 2, 3, 5, 2), k=3000)) + CHANCE.randbytes(600)
PROGRAMS = {
    "channels": (0x1D, 0x0E06077D, ((0, 3),)),
    "calls": (0x35, 0xAD576887, ()),
    "calls and jumps": (0x39, 0x3CD7E57E, ()),
    "picture": (0x95, 0x1C2C5DC8, ((0, 60), (1, 2))),
    "sound": (0xD8, 0xBC85E701, ((0, 2),)),
}


def by_library(packed: bytes, content: bytes) -> bytes:
    """What libarchive makes of one member, alone; it compares the checksum with that of `content`."""
    member = RarMember("a", size=len(content), checksum=zlib.crc32(content), version=29, method=3, is_stored=False)
    reader = unpacking._ByLibrary([member], lambda _: BytesSource(packed), is_rar5=False)
    try:
        return b"".join(reader.content(member))
    finally:
        reader.close()


def ours(packed: bytes, size: int, method: Unpacker29 | None = None) -> bytes:
    return b"".join((method or Unpacker29()).file(BytesSource(packed), size))


class MethodsCase(unittest.TestCase):
    def agreed(self, packed: bytes, content: bytes) -> None:
        """Ours gives the content, and so does libarchive."""
        self.assertEqual(ours(packed, len(content)), content)
        self.assertEqual(by_library(packed, content), content)

    def refused(self, packed: bytes, words: str, size: int = 1000) -> None:
        with self.assertRaisesRegex(PackedFault, words):
            ours(packed, size)


class MatchesTest(MethodsCase):
    def test_literals_and_matches_in_one_block_and_several(self) -> None:
        for keeps in (False, True):
            for blocks in ([TOKENS], [TOKENS[:HALF], TOKENS[HALF:]], [TOKENS[:1], TOKENS[1:]]):
                self.agreed(packed3(blocks, keeps=keeps), TEXT)

    def test_matches_at_every_kind_of_distance_and_length(self) -> None:
        noise = CHANCE.randbytes(600)
        tokens: list[Token] = [*noise, *(Match(2, distance, is_short=True) for distance in range(1, 257, 5))]
        tokens += [Match(length, 37) for length in range(3, 259)]
        tokens += [Match(4, distance) for distance in range(1, 600, 7)]
        for distance in (0x1FFF, 0x2000, 0x2001, 0x3FFFF, 0x40000, 0x40001, 0x9ABCD):
            while len(meant(tokens)) <= distance:
                tokens += [*CHANCE.randbytes(9), *[Match(250, 300)] * 2000]
            tokens.append(Match(9, distance))
        self.agreed(packed3([tokens]), meant(tokens))

    def test_recent_distances_and_the_last_match_again(self) -> None:
        tokens: list[Token] = [
            Again(),
            *b"the moth at the lantern",
            Match(5, 9),
            Match(4, 3),
            Match(7, 20),
            Match(3, 11),
        ]
        for number in (3, 0, 2, 1, 3):
            tokens += [Recent(number, 6), Again(), 65, Recent(number, 2)]
        self.agreed(packed3([tokens]), meant(tokens))

    def test_a_solid_stream_goes_on_with_codes_matches_and_distances(self) -> None:
        first, second = [*b"the moth", Match(4, 8), 33], [Recent(0, 5), Match(6, 12), 33]
        for packed in (packed3_in_turn([first, second]), [packed3([first]), packed3([second])]):
            method = Unpacker29()
            begin = meant(first)
            self.assertEqual(ours(packed[0], len(begin), method), begin)
            self.assertEqual(ours(packed[1], 12, method), meant([*first, *second])[len(begin) :])

    def test_what_no_match_reaches_is_forgotten(self) -> None:
        tokens: list[Token] = [*CHANCE.randbytes(400)]
        tokens += [Match(258, 400)] * 21_000
        content = meant(tokens)
        method = Unpacker29()
        self.assertEqual(ours(packed3([tokens]), len(content), method), content)
        self.assertLess(len(method._out), (1 << 22) + 3 * (1 << 18))

    def test_matches_that_reach_behind_the_begin(self) -> None:
        self.refused(packed3([[65, Match(4, 2)]]), "behind the begin")
        self.refused(packed3([[65, Recent(1, 4)]]), "behind the begin")

    def test_what_breaks_off_or_says_too_much(self) -> None:
        self.refused(packed3([TOKENS])[:-400], "end too early", len(TEXT))
        self.refused(b"", "code stands for nothing")
        self.assertLess(len(ours(packed3([[*b"abc", *[Match(250, 1)] * 3000]]), 3)), 1000)

    def test_tables_that_cannot_be(self) -> None:
        same_first = int("00" + "0101" * 20 + "10000" + "000" + "0" * 6, 2)
        self.refused(same_first.to_bytes(12, "big") + bytes(80), "repeats a length")
        crowded = int("00" + "0001" * 20, 2)
        self.refused((crowded << 6).to_bytes(11, "big") + bytes(80), "too many codes")


class TextTest(MethodsCase):
    def written(self, order: int, megabytes: int, *contents: bytes) -> list[bytes]:
        packer = TextPacker(order, megabytes)
        blocks = []
        for content in contents:
            packer.text(content)
            packer.put((2, 2))
            blocks.append(packer.block())
        return blocks

    def test_text_of_every_order(self) -> None:
        for order in (2, 5, 16):
            self.agreed(self.written(order, 4, TEXT[:3000])[0], TEXT[:3000])

    def test_counts_that_are_halved_and_symbols_that_go(self) -> None:
        rows = b"".join(bytes((n % 7, n % 251, 9, n % 13)) for n in range(2500)) + b"a" * 1500 + bytes(range(256)) * 4
        self.agreed(self.written(4, 8, rows)[0], rows)

    def test_matches_and_runs_among_text(self) -> None:
        packer = TextPacker()
        packer.text(b"the moth at the lantern and ")
        packer.put((2, 4, 0, 0, 10, 3))
        packer.put((2, 5, 40))
        packer.text(b" on")
        packer.put((2, 2))
        before = b"the moth at the lantern and "
        content = meant([*before, Match(35, 12), Match(44, 1), *b" on"])
        self.agreed(packer.block(), content)

    def test_text_and_matches_take_turns(self) -> None:
        packer = TextPacker()
        packer.text(b"the moth")
        packer.put((2, 0))
        block = packer.block() + packed3([[*b" at ", Match(5, 9)]])
        self.agreed(block, meant([*b"the moth at ", Match(5, 9)]))

    def test_the_next_member_of_a_solid_stream_goes_on_with_the_model(self) -> None:
        method = Unpacker29()
        for packed, content in zip(self.written(6, 2, ONE, TWO), (ONE, TWO), strict=True):
            self.assertEqual(ours(packed, len(content), method), content)

    def test_a_model_whose_memory_fills_is_refused_and_not_guessed(self) -> None:
        noise = random.Random(3).randbytes(5_000) * 2
        packer = TextPacker(16, 4)
        packer.text(noise)
        small = bytearray(packer.block())
        small[1] = 0
        with self.assertRaisesRegex(RarRefusal, "fills the memory"):
            ours(bytes(small), len(noise))

    def test_text_that_goes_on_with_no_model(self) -> None:
        self.refused(b"\x80" + bytes(40), "model that did not come")
        self.refused(bytes((0xA0, 0)) + bytes(40), "has no contexts")


class FilterTest(MethodsCase):
    def test_each_known_program_changes_what_libarchive_changes(self) -> None:
        for name, (size, checksum, registers) in PROGRAMS.items():
            change = Change(9, 1800, program_of(size, checksum), registers)
            packed = packed3([[*CODE[:30], change, *CODE[30:]]])
            content = ours(packed, len(CODE))
            with self.subTest(name):
                self.assertNotEqual(content[39:1839], CODE[39:1839])
                self.assertEqual((content[:39], content[1839:]), (CODE[:39], CODE[1839:]))
                self.assertEqual(by_library(packed, content), content)

    def test_several_over_one_stretch_and_programs_named_again(self) -> None:
        size, checksum, registers = PROGRAMS["channels"]
        first = Change(0, 600, program_of(size, checksum), registers)
        calls = Change(0, 600, program_of(*PROGRAMS["calls"][:2]), number=2)
        again = Change(700, 300, registers=((0, 2),), number=1)
        tokens: list[Token] = [first, calls, again, *CODE]
        packed = packed3([tokens])
        content = ours(packed, len(CODE))
        one = ours(packed3([[first, *CODE]]), len(CODE))
        other = ours(packed3([[Change(0, 600, calls.program), *one]]), len(CODE))
        self.assertEqual(content[:700], other[:600] + CODE[600:700])
        by_two = ours(packed3([[Change(0, 300, first.program, ((0, 2),)), *CODE[700:1000]]]), 300)
        self.assertEqual(content[700:], by_two + CODE[1000:])

    def test_matches_reach_what_was_before_the_filter(self) -> None:
        change = Change(0, 300, program_of(*PROGRAMS["channels"][:2]), ((0, 1),))
        tokens: list[Token] = [change, *CODE[:300], Match(200, 300)]
        self.assertEqual(ours(packed3([tokens]), 500)[300:], CODE[:200])

    def test_a_filter_among_text(self) -> None:
        packer = TextPacker()
        change = Change(0, 40, program_of(*PROGRAMS["channels"][:2]), ((0, 2),))
        packer.put((2, 3, *filter_code(change)))
        packer.text(CODE[:60].replace(b"\2", b"x"))
        packer.put((2, 2))
        plain = CODE[:60].replace(b"\2", b"x")
        content = ours(packer.block(), 60)
        self.assertEqual(content, ours(packed3([[change, *plain]]), 60))

    def test_filters_that_cannot_be(self) -> None:
        program = program_of(*PROGRAMS["channels"][:2])
        self.refused(packed3([[Change(0, 900, program, ((0, 1),)), *CODE[:100]]]), "behind the end", 100)
        self.refused(packed3([[Change(0, 10, number=4), *CODE[:100]]]), "did not come", 100)
        self.refused(packed3([[Change(0, 1 << 20, program), *CODE[:100]]]), "longer than any", 100)
        many = [Change(0, 10, b"" if number else program, number=1 if number else 0) for number in range(9000)]
        self.refused(packed3([[*many, 65]]), "too many", 100)
        with self.assertRaisesRegex(RarRefusal, "not known .of 29 bytes"):
            ours(packed3([[Change(0, 10, bytes(29)), *CODE[:100]]]), 100)


class ArchivesTest(ArchiveCase):
    """Whole archives, by ours alone and with the library's help."""

    def volumes(self, volumes: Sequence[bytes], *passwords: str) -> Archive:
        files = {f"owls.part{number}.rar": volume for number, volume in enumerate(volumes, 1)}
        return self.open(self.write(files), access(*passwords))

    def test_solid_or_not_split_and_locked_with_and_without_the_library(self) -> None:
        solid = [Packed("a", ONE, packed3([TOKENS[:HALF]])), Packed("b", TWO, packed3([TOKENS[HALF:]]), is_solid=True)]
        apart = [Packed("a", ONE, packed3([TOKENS[:HALF]])), Packed("b", TWO, packed3([tokens_of(TWO)]))]
        for version in (None, library_version()):
            for members in (solid, apart):
                for password, volume, hides in (
                    ("", 0, False),
                    ("", 500, False),
                    ("moth", 500, False),
                    ("moth", 0, True),
                ):
                    made = archive4(
                        members, is_solid=members is solid, volume=volume, password=password, hides_names=hides
                    )
                    with (
                        self.subTest(version=version, solid=members is solid, password=password, volume=volume),
                        mock.patch.object(unpacking, "library_version", lambda version=version: version),
                    ):
                        archive = self.volumes(made, *filter(None, (password,)))
                        self.assertEqual(contents(archive), {"a": ONE, "b": TWO})
                        self.assertEqual(archive.facts.hides_names, hides)

    def test_the_second_member_alone_and_what_is_passed_over_for_it(self) -> None:
        members = [
            Packed("a", ONE, packed3([TOKENS[:HALF]])),
            Packed("b", TWO, packed3([TOKENS[HALF:]]), is_solid=True),
        ]
        heard: list[Progress] = []
        how = replace(access(), watch=heard.append)
        archive = self.open(self.write({"a.rar": archive4(members, is_solid=True)[0]}), how)
        self.assertEqual([b"".join(blocks) for _, blocks in archive.stream([1])], [TWO])
        self.assertEqual((heard[-1].size, heard[-1].of_size, heard[-1].of_files), (len(ONE), len(ONE), 1))

    def test_what_follows_an_unsafe_or_old_member_of_a_solid_stream_leans_on_it(self) -> None:
        first = Packed("../out", ONE, packed3([TOKENS[:HALF]]))
        old = Packed("a;1", ONE, first.packed, flags=0x800)
        second = Packed("b", TWO, packed3([TOKENS[HALF:]]), is_solid=True)
        for member in (first, old):
            archive = self.opened(archive4([member, second], is_solid=True)[0])
            self.assertEqual(contents(archive), {"b": TWO})
            self.assertEqual([entry.path for entry in archive.listing], ["b"])

    def test_a_wrong_password_shows_by_the_checksum_or_the_hidden_header(self) -> None:
        members = [Packed("a", TEXT, packed3([TOKENS]))]
        with self.assertRaises(WrongPassword):
            self.volumes(archive4(members, password="moth"), "wasp").unlock()
        with self.assertRaises(WrongPassword):
            self.volumes(archive4(members, password="moth", hides_names=True), "wasp")

    def test_a_password_that_is_too_long_for_what_is_published_is_told_as_that(self) -> None:
        members = [Packed("a", TEXT, packed3([TOKENS]))]
        for hides in (False, True):
            with self.assertRaises(WrongPassword) as caught:
                self.volumes(archive4(members, password="moth", hides_names=hides), "m" * 29).unlock()
            self.assertIn("more than 28 characters", caught.exception.remedy)

    def test_older_generations_give_what_is_stored_and_name_the_rest(self) -> None:
        for version, said in ((15, "RAR 1.5"), (20, "RAR 2.0"), (26, "RAR 2.6")):
            stored = Packed("stored", b"as it is", b"as it is", version, 0x30)
            archive = self.opened(archive4([stored, Packed("a", TEXT, b"x" * 90, version)])[0])
            self.assertEqual([b"".join(blocks) for _, blocks in archive.stream([0])], [b"as it is"])
            with self.assertRaisesRegex(UnreadableArchive, f"^a in .* packed as {said} did it"):
                contents(archive)
            locked = self.opened(archive4([stored], password="moth")[0], how=access("moth"))
            with self.assertRaisesRegex(UnreadableArchive, f"^stored in .* locked as {said} did it"):
                contents(locked)

    def test_a_broken_member_is_named_and_those_before_it_are_given(self) -> None:
        broken = bytearray(packed3([TOKENS[HALF:]]))
        broken[len(broken) // 2] ^= 0x55
        members = [Packed("a", ONE, packed3([TOKENS[:HALF]])), Packed("b", TWO, bytes(broken), is_solid=True)]
        archive = self.volumes(archive4(members, is_solid=True))
        found = {}
        with self.assertRaisesRegex(DamagedArchive, "^b in "):
            for row, blocks in archive.stream([0, 1]):
                found[row] = b"".join(blocks)
        self.assertEqual(found, {0: ONE})

    def test_a_filter_program_that_is_not_known_is_named(self) -> None:
        made = archive4([Packed("a", CODE[:100], packed3([[Change(0, 50, bytes(29)), *CODE[:100]]]))])
        with self.assertRaisesRegex(UnreadableArchive, "filter program that is not known .of 29 bytes"):
            contents(self.volumes(made))

    def test_where_the_library_fails_or_is_wrong_ours_goes_on(self) -> None:
        made = archive4([Packed("a.txt", TEXT, packed3([TOKENS]))])[0]

        def wrong(self: object, member: object) -> list[bytes]:
            return [bytes(len(TEXT))]

        def stops(self: object, member: object) -> object:
            yield TEXT[:999]
            raise unpacking.LibraryFault("it stops")

        for content, whole in ((wrong, 1 << 24), (stops, 1 << 24), (stops, 0)):
            with (
                mock.patch.object(unpacking._ByLibrary, "content", content),
                mock.patch.object(unpacking, "library_version", lambda: (3, 8, 10)),
                mock.patch.object(unpacking, "WHOLE", whole),
            ):
                self.assertEqual(contents(self.opened(made)), {"a.txt": TEXT})

    def test_names_packed_against_their_plain_ones(self) -> None:
        # One plain byte as it is, one of Latin-1, one of any kind, and the last four as in the plain name.
        folded = b"\x1c" + bytes((0b01_00_10_11,)) + b"\x12" + b"\xf6" + b"\x2d\x4e" + b"\x03"
        member = Packed("x", TEXT, TEXT, method=0x30, flags=0x200, name_bytes=b"mot.txt?\0" + folded)
        listed = [entry.path for entry in self.opened(archive4([member])[0]).listing]
        self.assertEqual(listed, ["\u1c12\u00f6\u4e2d.txt?"])
        utf8 = Packed("x", TEXT, TEXT, method=0x30, flags=0x200, name_bytes="M\u00f6\\th.txt".encode())
        self.assertEqual([e.path for e in self.opened(archive4([utf8])[0]).listing], ["M\u00f6/th.txt"])

    def test_a_damaged_window_is_never_larger_than_it_may_be(self) -> None:
        self.assertEqual(matches._WINDOW, max(matches._FAR_BASES) + (1 << 18))


if __name__ == "__main__":
    unittest.main()
