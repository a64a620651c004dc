"""Every method of RAR, unpacked by ourselves: from given symbols, solid, split and locked; and what must be refused."""

import random
import unittest
from collections.abc import Iterable, Sequence
from unittest import mock

from msgspec.structs import replace

from tests.archives.case import ArchiveCase, access, contents
from tests.archives.rar_streams import (
    Again,
    BitWriter,
    Change,
    FirstWriter,
    Match,
    Packed,
    Raw,
    Recent,
    TextWriter,
    Token,
    archive4,
    block5,
    continued3,
    filter_code,
    packed2,
    packed3,
    packed5,
    program_of,
    put_block3,
    sound2,
    text3,
    tokens_of,
)
from tests.archives.rar_writer import Member, RarWriter
from usufruct.archives.bits import Bits, PackedFault
from usufruct.archives.rar import filters, lz1, lz2, lz3, lz5, unpacking
from usufruct.archives.rar.common import Blake2sp
from usufruct.archives.rar.text import TextModel, enough_for
from usufruct.archives.reading import Archive
from usufruct.errors import DamagedArchive, UnreadableArchive, UnsafeArchive, WrongPassword
from usufruct.files.sources import BytesSource
from usufruct.model.progress import Progress


def unpacked(method: unpacking.Unpacker, packed: bytes, size: int) -> bytes:
    return b"".join(method.file(BytesSource(packed), size))


def meant(tokens: Iterable[Token], before: bytes = b"") -> bytes:
    """What tokens stand for, as plainly as can be."""
    out = bytearray(before)
    recent = [0, 0, 0, 0]
    length = 0
    for token in tokens:
        if isinstance(token, int):
            out.append(token)
            continue
        if isinstance(token, Match):
            recent, length = [token.distance, *recent[:3]], token.length
        elif isinstance(token, Recent):
            distance = recent.pop(token.which)
            recent, length = [distance, *recent], token.length
        for _ in range(length):
            out.append(out[-recent[0]])
    return bytes(out[len(before) :])


def words(count: int, seed: int = 1) -> bytes:
    """Text as people write it: words from a small store."""
    chance = random.Random(seed)
    store = [bytes(chance.choices(b"abcdefghilmnoprstu", k=chance.randint(2, 9))) for _ in range(300)]
    return b" ".join(chance.choice(store) for _ in range(count))


TEXT = words(4000)
TOKENS = tokens_of(TEXT)
FAR = [*random.Random(5).randbytes(100_000)]
CORNERS: list[Token] = [
    *b"shadow theatre",
    Match(14, 3),
    Match(1, 200),
    Match(20, 9),
    Match(5, 8),
    Recent(0, 4),
    Recent(1, 5),
    Recent(2, 6),
    Recent(3, 40),
    Again(),
    65,
    Again(),
    Match(3, 257),
]
"""Matches over themselves, at all recent distances, and again behind a byte."""


class MethodsTest(unittest.TestCase):
    def test_what_a_packer_would_write_is_unpacked_by_each_method(self) -> None:
        half = len(TOKENS) // 2
        blocks = [TOKENS[:half], TOKENS[half:]]
        for name, method, packed in (
            ("5", lz5.Unpacker50(1 << 17), packed5(blocks)),
            ("5, codes kept", lz5.Unpacker50(1 << 17), packed5(blocks, keeps_codes=True)),
            ("7", lz5.Unpacker50(1 << 17, is_far=True), packed5(blocks, is_far=True)),
            ("3", lz3.Unpacker29(), packed3(blocks)),
            ("3, no end", lz3.Unpacker29(), packed3(blocks, has_end=False)),
            ("2", lz2.Unpacker20(), packed2(blocks)),
            ("1", lz1.Unpacker15(), FirstWriter().member(TOKENS)),
            ("text", lz3.Unpacker29(), text3(TEXT)),
        ):
            with self.subTest(name):
                self.assertEqual(unpacked(method, packed, len(TEXT)), TEXT)

    def test_matches_at_every_kind_of_distance(self) -> None:
        for name, most, method, pack in (
            ("5", 300_000, lz5.Unpacker50(1 << 19), lambda tokens: packed5([tokens])),
            ("3", 300_000, lz3.Unpacker29(), lambda tokens: packed3([tokens])),
            ("2", 300_000, lz2.Unpacker20(), lambda tokens: packed2([tokens])),
            ("1", 60_000, lz1.Unpacker15(), FirstWriter().member),
        ):
            distances = [1, 2, 255, 256, 257, 0x1FFF, 0x2000, 0x2001, 0x7FFF, 0x8000, 40_000, 0x40000, 0x40001, 290_000]
            tokens: list[Token] = [
                *FAR[:5000],
                *[Match(5000, 100)] * (most // 100 - 50),
                *(Match(distance, length) for distance in distances if distance < most for length in (12, 40)),
                *([Match(distance, 2) for distance in (1, 5, 256)] if name in "23" else []),
            ]
            with self.subTest(name):
                content = meant(tokens)
                self.assertEqual(unpacked(method, pack(tokens), len(content)), content)

    def test_recent_distances_and_the_last_match_again(self) -> None:
        content = meant(CORNERS)
        for name, method, packed in (
            ("5", lz5.Unpacker50(1 << 17), packed5([CORNERS])),
            ("3", lz3.Unpacker29(), packed3([CORNERS])),
        ):
            with self.subTest(name):
                self.assertEqual(unpacked(method, packed, len(content)), content)

    def test_the_second_generation_counts_a_repeated_distance_as_new(self) -> None:
        tokens: list[Token] = [*b"shadow theatre", Match(14, 3), Match(5, 9), Recent(1, 6), Recent(2, 6), Again(), 65]
        # Behind them the latest four are 5, 14, 14 and 5: what was used again is not moved, but added.
        same = [*tokens[:16], Match(14, 6), Match(14, 6), Match(14, 6), 65]
        content = meant(same)
        self.assertEqual(unpacked(lz2.Unpacker20(), packed2([tokens]), len(content)), content)

    def test_low_bits_of_distances_that_repeat(self) -> None:
        far = FAR[:100_000]
        # The lowest four bits of a distance once, and then sixteen times the same.
        one = Match(50_003, 9)
        parts = [*_symbols_of(one)[:-1]]
        again = [Raw((*parts, ("low", 16))), *(Raw(tuple(parts)) for _ in range(15)), one]
        content = meant([*far, *[one] * 18])
        self.assertEqual(unpacked(lz3.Unpacker29(), packed3([[*far, one, *again]]), len(content)), content)

    def test_a_solid_stream_goes_on_with_all_that_was_known(self) -> None:
        first, second = TOKENS[: len(TOKENS) // 2], [Match(200, 30), *b"moth", Recent(0, 12), Again()]
        one = meant(first)
        two = meant(second, one)
        for name, method, packed in (
            ("5", lz5.Unpacker50(1 << 17), [packed5([first]), packed5([second])]),
            ("3", lz3.Unpacker29(), [packed3([first]), packed3([second])]),
            ("3, codes kept", lz3.Unpacker29(), [packed3([first], keeps_codes=True), None]),
        ):
            with self.subTest(name):
                self.assertEqual(unpacked(method, packed[0] or b"", len(one)), one)
                if packed[1] is None:
                    bytes_only: list[Token] = list(two)
                    self.assertEqual(unpacked(method, continued3(bytes_only, first), len(two)), two)
                else:
                    self.assertEqual(unpacked(method, packed[1], len(two)), two)
        writer = FirstWriter()
        method = lz1.Unpacker15()
        for tokens in (first, list(b"and again, ")):
            content = meant(tokens)
            self.assertEqual(unpacked(method, writer.member(tokens), len(content)), content)

    def test_codes_for_the_next_file_may_stand_behind_the_last_one_of_the_second_generation(self) -> None:
        first, second = TOKENS[:2000], TOKENS[2000:]
        one, both = meant(first), meant([*first, *second])
        whole = packed2([first, second])
        method = lz2.Unpacker20()
        self.assertEqual(unpacked(method, whole, len(one)), one)
        # The second block's codes were read with the first file: what follows needs none.
        bits = BitWriter()
        tables = _tables2(second)
        for name, value in (part for token in second for part in _symbols_of(token, is_third=False)):
            bits.put(*tables[name][value]) if isinstance(name, str) else bits.put(value, name)
        self.assertEqual(unpacked(method, bits.bytes() + bytes(4), len(both) - len(one)), both[len(one) :])


class SoundTest(unittest.TestCase):
    def test_samples_are_told_by_what_they_differ_from_a_guess(self) -> None:
        chance = random.Random(3)
        for channels in (1, 2, 4):
            samples = [int(128 + 60 * ((at // channels) % 50 - 25) / 25) + chance.randint(0, 5) for at in range(4000)]
            values = _differences(samples, channels)
            with self.subTest(channels=channels):
                self.assertEqual(unpacked(lz2.Unpacker20(), sound2(values, channels), 4000), bytes(samples))


class TextTest(unittest.TestCase):
    def test_orders_and_memory_that_is_full_again_and_again(self) -> None:
        begin_anew = TextModel._restart
        content = words(300, 2) + random.Random(1).randbytes(300) + words(300, 3)
        for order, size in ((2, 9001), (5, 20_000), (16, 30_000), (40, 40_001)):
            restarts = [0]

            def counted(self: TextModel, count: list[int] = restarts) -> None:
                count[0] += 1
                begin_anew(self)

            writer = TextWriter(order, size, escape=300)
            writer.put(content)
            model, bits, out = TextModel(order, size), Bits([writer.coded()]), bytearray()
            model.start_coder(bits)
            with self.subTest(order=order, size=size):
                with mock.patch.object(TextModel, "_restart", counted):
                    model.decode(bits, out, len(content), -1)
                self.assertEqual(bytes(out), content)
                self.assertGreater(restarts[0], 0)

    def test_memory_that_cannot_be_filled_is_not_taken(self) -> None:
        """A packer states 256 MB for a kilobyte of text: the model of a few megabytes does the same."""
        content = TEXT[:1000]
        packed = text3(content, megabytes=256)
        taken: list[int] = []
        self.assertEqual(unpacked(lz3.Unpacker29(len(content), taken.append), packed, len(content)), content)
        self.assertLess(taken[0], 6 << 20)
        noise = random.Random(9).randbytes(1500)
        for order in (2, 16, 64):
            model = TextModel(order, enough_for(len(noise), order))
            writer = TextWriter(order, 64 << 20, escape=300)
            writer.put(noise)
            bits, out = Bits([writer.coded()]), bytearray()
            model.start_coder(bits)
            with mock.patch.object(TextModel, "_restart", side_effect=AssertionError("it was filled")):
                model.decode(bits, out, len(noise), -1)
            self.assertEqual(bytes(out), noise)

    def test_text_and_matches_take_turns_in_one_file(self) -> None:
        writer = TextWriter(6, 1 << 20)
        writer.put(b"a lantern behind a screen, ")
        writer.sign(4, 0, 0, 20, 3)  # a match of 35 bytes, 22 bytes back
        writer.sign(5, 6)  # the last byte ten times more
        writer.put(b"\2 is the byte that signs begin with")
        writer.sign(0)
        bits = BitWriter()
        for byte in writer.block():
            bits.put(byte, 8)
        put_block3(bits, [*b" and matches", Match(12, 12)], is_last=True)
        content = bytearray(b"a lantern behind a screen, ")
        for _ in range(35):
            content.append(content[-22])
        content += content[-1:] * 10 + b"\2 is the byte that signs begin with and matches and matches"
        self.assertEqual(unpacked(lz3.Unpacker29(), bits.bytes(), len(content)), bytes(content))

    def test_the_next_file_of_a_solid_stream_goes_on_with_the_model(self) -> None:
        writer = TextWriter(6, 1 << 20)
        method = lz3.Unpacker29()
        writer.put(TEXT[:5000])
        writer.sign(2)
        self.assertEqual(unpacked(method, writer.block(), 5000), TEXT[:5000])
        writer.put(TEXT[5000:9000])
        writer.sign(2)
        self.assertEqual(unpacked(method, b"\x80" + writer.coded(), 4000), TEXT[5000:9000])


CODE = random.Random(8).randbytes(50) + b"\xe8\x10\x00\x00\x00\x90\xe9\xf0\xff\xff\xff" * 40 + bytes(60)
_PROGRAMS = {
    "calls": (53, 0xAD576887), "calls and jumps": (57, 0x3CD7E57E), "itanium": (120, 0x3769893F),
    "delta": (29, 0x0E06077D), "picture": (149, 0x1C2C5DC8), "sound": (216, 0xBC85E701),
}  # fmt: skip


class FilterTest(unittest.TestCase):
    def test_calls_and_jumps_lead_where_they_led(self) -> None:
        """Packers write the place that a call leads to instead of how far; the reader turns it back."""
        data = b"\x90" * 10 + b"\xe8" + (1000).to_bytes(4, "little") + b"\xe9" + (2000).to_bytes(4, "little") + bytes(9)
        out = filters.x86(data, 500)
        self.assertEqual(int.from_bytes(out[11:15], "little", signed=True), 1000 - 511)
        self.assertEqual(out[15:], data[15:])
        out = filters.x86(data, 500, has_jumps=True)
        self.assertEqual(int.from_bytes(out[16:20], "little", signed=True), 2000 - 516)
        behind = b"\xe8" + (-100).to_bytes(4, "little", signed=True) + bytes(4)
        self.assertEqual(int.from_bytes(filters.x86(behind, 500)[1:5], "little"), (1 << 24) - 100)
        self.assertEqual(filters.x86(behind, 5), behind, "it would lead before the begin")
        self.assertEqual(filters.x86(behind[:4], 500), behind[:4])
        far = b"\xe8" + (1 << 24).to_bytes(4, "little") + bytes(4)
        self.assertEqual(filters.x86(far, 0), far)

    def test_branches_of_arm_and_itanium_code_likewise(self) -> None:
        out = filters.arm(b"\x10\x00\x00\xeb" * 3 + b"\x10\x00\x00\xea", 400)
        self.assertEqual(
            [out[at : at + 3] for at in (0, 4, 8)], [(16 - 100 - n & 0xFFFFFF).to_bytes(3, "little") for n in range(3)]
        )
        self.assertEqual(out[12:], b"\x10\x00\x00\xea")
        # A bundle of template 0x10, whose third instruction is a branch with opcode 5 to bundle 0x1234.
        begin = 2 * 41 + 5
        bundle = 0x10 | 5 << begin + 37 | 0x1234 << begin + 13
        out = filters.itanium(bundle.to_bytes(16, "little") + bytes(30), 0x560)
        self.assertEqual(int.from_bytes(out[:16], "little") >> begin + 13 & 0xFFFFF, 0x1234 - 0x56)

    def test_channels_are_woven_together(self) -> None:
        for channels in (1, 3, 5, 32):
            plain = random.Random(channels).randbytes(997)
            apart = bytearray()
            for channel in range(channels):
                before = 0
                for byte in plain[channel::channels]:
                    apart.append(before - byte & 0xFF)
                    before = byte
            self.assertEqual(filters.delta(bytes(apart), channels=channels), plain)
        self.assertEqual(filters.delta(b"", channels=3), b"")

    def test_pictures_and_sound_are_foretold_from_their_neighbours(self) -> None:
        picture = bytes(
            ((x * 3 + y * 5) >> 1) + colour & 0xFF for y in range(20) for x in range(30) for colour in range(3)
        )
        self.assertEqual(filters.picture(_picture(picture, 90, 0), stride=90, first_blue=0), picture)
        for channels in (1, 2):
            samples = bytes(int(128 + 50 * ((at // channels) % 40 - 20) / 20) & 0xFF for at in range(2000))
            self.assertEqual(filters.sound(_sound(samples, channels), channels=channels), samples)

    def test_filters_of_the_fifth_generation_change_what_goes_out_only(self) -> None:
        """A match behind copies what was there before the filter; two filters follow each other."""
        tokens = [Change(2, 10, 300), Change(0, 310, 90, 3), *CODE[:400], Match(390, 300), *b"end"]
        plain = meant([token for token in tokens if not isinstance(token, Change)])
        content = (
            plain[:10] + filters.x86(plain[10:310], 10, has_jumps=True, wraps=True)
            + filters.delta(plain[310:400], channels=3) + plain[400:]
        )  # fmt: skip
        for dictionary in (1 << 10, 1 << 17):
            self.assertEqual(unpacked(lz5.Unpacker50(dictionary), packed5([tokens]), len(content)), content)
        arm = [Change(3, 0, 64), *CODE[:64]]
        self.assertEqual(unpacked(lz5.Unpacker50(1 << 17), packed5([arm]), 64), filters.arm(CODE[:64], 0))

    def test_the_known_programs_of_the_third_generation(self) -> None:
        size = 240
        plain = CODE[:300]
        for number, (name, registers, change) in enumerate(
            (
                ("calls", (), lambda data, at: filters.x86(data, at)),
                ("calls and jumps", (), lambda data, at: filters.x86(data, at, has_jumps=True)),
                ("itanium", (), filters.itanium),
                ("delta", ((0, 4),), lambda data, _: filters.delta(data, channels=4)),
                ("picture", ((0, 30), (1, 0)), lambda data, _: filters.picture(data, stride=30, first_blue=0)),
                ("sound", ((0, 2),), lambda data, _: filters.sound(data, channels=2)),
            )
        ):
            program = program_of(*_PROGRAMS[name])
            # The program is given once and used twice, over the same stretch the second time.
            tokens = [
                Change(0, 20, size, program=program, registers=registers),
                Change(1, 20, size, registers=registers),
                *plain,
            ]
            once = change(plain[20 : 20 + size], 20)
            content = plain[:20] + change(once, 20) + plain[20 + size :]
            with self.subTest(name, number=number):
                self.assertEqual(unpacked(lz3.Unpacker29(), packed3([tokens]), 300), content)

    def test_a_filter_among_text(self) -> None:
        writer = TextWriter(6, 1 << 20)
        change = Change(0, 0, 40, program=program_of(*_PROGRAMS["delta"]), registers=((0, 2),))
        writer.sign(3, *filter_code(change))
        writer.put(TEXT[:100])
        writer.sign(2)
        content = filters.delta(TEXT[:40], channels=2) + TEXT[40:100]
        self.assertEqual(unpacked(lz3.Unpacker29(), writer.block(), 100), content)


class BrokenTest(unittest.TestCase):
    """Each of these is told as a fault; none is unpacked to something."""

    def refused(self, method: unpacking.Unpacker, packed: bytes, words: str, size: int = 100) -> None:
        with self.assertRaisesRegex(PackedFault, words):
            unpacked(method, packed, size)

    def test_matches_that_reach_behind_the_begin_or_the_dictionary(self) -> None:
        tokens: list[Token] = [*b"abc", Match(4, 9)]
        far: list[Token] = [*FAR[:3000], Match(2500, 9)]
        self.refused(lz5.Unpacker50(1 << 17), packed5([tokens]), "behind the begin")
        self.refused(lz5.Unpacker50(1 << 11), packed5([far]), "behind the begin", 3009)
        self.refused(lz3.Unpacker29(), packed3([tokens]), "behind the begin")
        self.refused(lz2.Unpacker20(), packed2([tokens]), "behind the begin")
        self.refused(lz1.Unpacker15(), FirstWriter().member([*b"abc", Match(9, 5)]), "behind the begin")
        self.refused(lz5.Unpacker50(1 << 17), packed5([[65, Recent(0, 9)]]), "behind the begin")
        self.refused(lz3.Unpacker29(), packed3([[65, Recent(2, 9)]]), "behind the begin")

    def test_tables_that_cannot_be(self) -> None:
        crowded = BitWriter()
        for _ in range(20):
            crowded.put(1, 4)
        crowded.put(0, 64)
        self.refused(lz5.Unpacker50(1 << 17), block5(crowded, brings=True, is_last=True), "more codes than")
        first = BitWriter()
        for _ in range(16):
            first.put(0, 4)
        first.put(0x1100, 16)  # only a repeat and another have codes
        first.put(0, 64)
        self.refused(lz5.Unpacker50(1 << 17), block5(first, brings=True, is_last=True), "repeats a length")
        none = BitWriter()
        none.put(0xFFFFFF, 24)
        self.refused(lz5.Unpacker50(1 << 17), block5(none, brings=False, is_last=True), "brings no codes")

    def test_blocks_that_are_cut_off_or_wrong(self) -> None:
        packed = packed5([TOKENS])
        self.refused(lz5.Unpacker50(1 << 17), packed[:-9], "cut off", len(TEXT))
        self.refused(lz5.Unpacker50(1 << 17), b"", "cut off", 5)
        self.refused(lz5.Unpacker50(1 << 17), bytes((packed[0] ^ 1,)) + packed[1:], "does not match its checksum")
        self.refused(lz3.Unpacker29(), packed3([TOKENS])[:-900], "end too early", len(TEXT))
        self.refused(lz2.Unpacker20(), packed2([TOKENS])[:-900], "end too early", len(TEXT))
        self.refused(lz1.Unpacker15(), FirstWriter().member(TOKENS)[:-900], "end too early|begin", len(TEXT))
        self.refused(lz3.Unpacker29(), text3(TEXT)[:-900], "end too early|stands for nothing", len(TEXT))

    def test_filters_that_cannot_be(self) -> None:
        for change, words in (
            (Change(4, 0, 50), "not known"),
            (Change(0, 0, 5 << 20), "more than any packer"),
            (Change(1, 90, 50), "over the end"),
        ):
            self.refused(lz5.Unpacker50(1 << 17), packed5([[change, *CODE[:100]]]), words)
        over = [Change(1, 0, 50), Change(1, 20, 60), *CODE[:100]]
        self.refused(lz5.Unpacker50(1 << 17), packed5([over]), "reaches into another")
        many = [*(Change(1, 0, 8) for _ in range(9000)), *CODE[:100]]
        self.refused(lz5.Unpacker50(1 << 17), packed5([many]), "too many")
        delta = program_of(*_PROGRAMS["delta"])
        for change, words in (
            (Change(3, 0, 50, program=delta), "not given"),
            (Change(0, 0, 50, program=delta[:-1] + b"x"), "does not match its checksum"),
            (Change(0, 0, 50, program=delta), "channels"),
            (Change(0, 0, 50, program=delta, registers=((4, 60),)), "more than any packer"),
            (Change(0, 0, 50, program=program_of(*_PROGRAMS["picture"]), registers=((0, 99),)), "width"),
        ):
            with self.subTest(words):
                self.refused(lz3.Unpacker29(), packed3([[change, *CODE[:100]]]), words)

    def test_more_content_than_is_stated(self) -> None:
        self.refused(
            lz5.Unpacker50(1 << 17), packed5([[*b"abc", Match(3, 4000), Match(3, 4000), *b"x" * 300]]), "more than", 3
        )

    def test_text_that_goes_on_with_no_model(self) -> None:
        self.refused(lz3.Unpacker29(), b"\x80" + bytes(20), "not begun")
        self.refused(lz3.Unpacker29(), b"\xa0" + bytes(20), "no context")


class ArchivesTest(ArchiveCase):
    """Whole archives without the system's library: what it would read is read as well, and all that it cannot."""

    def setUp(self) -> None:
        super().setUp()
        absent = mock.patch.object(unpacking, "library_version", lambda: None)
        absent.start()
        self.addCleanup(absent.stop)

    def volumes(self, volumes: Sequence[bytes], *passwords: str) -> Archive:
        files = {f"owls.part{number}.rar": volume for number, volume in enumerate(volumes, 1)}
        return self.open(self.write(files), access(*passwords))

    def test_solid_split_and_locked_of_the_fifth_generation(self) -> None:
        half = len(TOKENS) // 2
        one = meant(TOKENS[:half])
        two = TEXT[len(one) :]
        digest = Blake2sp()
        digest.update(one)
        members = [
            Member("one.txt", one, method=3, packed=packed5([TOKENS[:half]]), digest=digest.digest()),
            Member("stored.bin", b"in between"),
            Member("two.txt", two, method=3, packed=packed5([TOKENS[half:]]), is_solid=True),
        ]
        for password, volume in (("", 0), ("", 900), ("moth", 0), ("moth", 900)):
            with self.subTest(password=password, volume=volume):
                made = RarWriter(password, is_solid=True, volume=volume).volumes(
                    [member if not password else _without_digest(member) for member in members]
                )
                archive = self.volumes(made, *filter(None, (password,)))
                self.assertEqual(contents(archive), {"one.txt": one, "stored.bin": b"in between", "two.txt": two})
                rows = [row for row in range(3) if archive.listing.path(row) == "two.txt"]
                self.assertEqual([b"".join(blocks) for _, blocks in archive.stream(rows)], [two])

    def test_solid_split_and_locked_of_the_generations_before(self) -> None:
        head, tail = TOKENS[:600], TOKENS[600:1200]
        one = meant(head)
        two = meant(tail, one)
        writer = FirstWriter()
        # One that is longer than a block of the hash, which then changes it.
        long = [("moths that fly about a lantern at night", 0)]
        for version, packed in (
            (29, [packed3([head]), packed3([tail])]),
            (20, [packed2([head]), None]),
            (15, [writer.member(head), writer.member(tail)]),
        ):
            members = [
                Packed(name, content, data, version, is_solid=bool(number) and version >= 20)
                for number, (name, content, data) in enumerate(zip(("a", "b"), (one, two), packed, strict=True))
                if data is not None
            ]
            for password, volume in (("", 0), ("", 300), ("moth", 0), ("moth", 300), *long):
                if not password or version == 29 or len(password) < 9:
                    with self.subTest(version=version, password=password, volume=volume):
                        made = archive4(members, is_solid=len(members) > 1, volume=volume, password=password)
                        archive = self.volumes(made, *filter(None, (password,)))
                        self.assertEqual(contents(archive), {member.name: member.content for member in members})

    def test_the_second_member_alone_and_what_is_passed_over_for_it(self) -> None:
        half = len(TOKENS) // 2
        one = meant(TOKENS[:half])
        two = TEXT[len(one) :]
        members = [
            Packed("a", one, packed3([TOKENS[:half]])),
            Packed("b", two, packed3([TOKENS[half:]]), is_solid=True),
        ]
        heard: list[Progress] = []
        how = replace(access(), watch=heard.append)
        archive = self.open(self.write({"a.rar": archive4(members, is_solid=True)[0]}), how)
        self.assertEqual([b"".join(blocks) for _, blocks in archive.stream([1])], [two])
        self.assertEqual((heard[-1].size, heard[-1].of_size, heard[-1].of_files), (len(one), len(one), 1))

    def test_what_follows_an_unsafe_or_old_member_of_a_solid_stream_leans_on_it(self) -> None:
        half = len(TOKENS) // 2
        one = meant(TOKENS[:half])
        two = TEXT[len(one) :]
        packed = [packed5([TOKENS[:half]]), packed5([TOKENS[half:]])]
        five = [
            Member("../out", one, method=3, packed=packed[0]),
            Member("b", two, method=3, packed=packed[1], is_solid=True),
        ]
        four = [
            Packed("../out", one, packed3([TOKENS[:half]])),
            Packed("b", two, packed3([TOKENS[half:]]), is_solid=True),
        ]
        old = [Packed("a;1", one, four[0].data, flags=0x800), four[1]]
        whole = RarWriter(is_solid=True).volumes(five)
        for made in (whole[0], archive4(four, is_solid=True)[0], archive4(old, is_solid=True)[0]):
            archive = self.opened(made)
            self.assertEqual(contents(archive), {"b": two})
            self.assertEqual([entry.path for entry in archive.listing], ["b"])

    def test_a_wrong_password_for_old_ciphers_shows_by_the_checksum(self) -> None:
        for version, packed in ((29, packed3([TOKENS])), (20, packed2([TOKENS])), (15, FirstWriter().member(TOKENS))):
            made = archive4([Packed("a", TEXT, packed, version)], password="moth")
            with self.subTest(version=version), self.assertRaises(WrongPassword):
                self.volumes(made, "wasp").unlock()

    def test_the_seventh_generation_with_a_dictionary_between_two_powers(self) -> None:
        for more, is_far in ((16, True), (16 | 1 << 5, False)):
            packed = packed5([TOKENS], is_far=is_far)
            member = Member("a.txt", TEXT, version=1, method=3, packed=packed, power=1, more=more)
            self.assertEqual(contents(self.opened(RarWriter().volumes([member])[0])), {"a.txt": TEXT})

    def test_a_dictionary_larger_than_its_content_takes_no_more_memory_than_the_content(self) -> None:
        member = Member("a.txt", TEXT, method=3, packed=packed5([TOKENS]), power=15)
        self.assertEqual(contents(self.opened(RarWriter().volumes([member])[0])), {"a.txt": TEXT})

    def test_memory_that_there_is_not_is_told_with_how_much_it_would_be(self) -> None:
        member = Member("a.txt", TEXT, method=3, packed=packed5([TOKENS]), power=15)
        made = RarWriter().volumes([member])[0]
        with (
            mock.patch.object(lz5.Unpacker50, "__init__", side_effect=MemoryError),
            self.assertRaisesRegex(UnreadableArchive, "more memory than there is .its dictionary has 4,096 MB"),
        ):
            contents(self.opened(made))
        large = Member("a.txt", b"", method=3, packed=packed5([TOKENS]), power=15, stated_size=900 << 20)
        with self.assertRaisesRegex(UnsafeArchive, "would take 900 MB of memory"):
            contents(self.opened(RarWriter().volumes([large])[0]))

    def test_a_filter_program_that_is_not_known_is_named(self) -> None:
        program = bytes((7,)) + bytes(27) + b"\7"
        made = archive4([Packed("a", CODE[:100], packed3([[Change(0, 0, 50, program=program), *CODE[:100]]]))])
        with self.assertRaisesRegex(UnreadableArchive, "filter program that is not known .of 29 bytes"):
            contents(self.volumes(made))

    def test_a_broken_member_is_named_and_those_before_it_are_given(self) -> None:
        half = len(TOKENS) // 2
        one = meant(TOKENS[:half])
        broken = bytearray(packed3([TOKENS[half:]]))
        broken[len(broken) // 2] ^= 0x55
        members = [
            Packed("a", one, packed3([TOKENS[:half]])),
            Packed("b", TEXT[len(one) :], bytes(broken), is_solid=True),
        ]
        archive = self.volumes(archive4(members, is_solid=True))
        found = {}
        with self.assertRaisesRegex(DamagedArchive, "^b in "):
            for row, blocks in archive.stream([0, 1]):
                found[row] = b"".join(blocks)
        self.assertEqual(found, {0: one})

    def test_where_the_library_fails_or_is_wrong_ours_goes_on(self) -> None:
        packed = packed5([TOKENS])
        made = RarWriter().volumes([Member("a.txt", TEXT, method=3, packed=packed)])[0]

        class Failing(unpacking._ByLibrary):
            def __init__(self, *_: object, **__: object) -> None:
                return None

            def close(self) -> None:
                return None

        def wrong(self: object, member: object) -> list[bytes]:
            return [bytes(len(TEXT))]

        def stops(self: object, member: object) -> Iterable[bytes]:
            yield TEXT[:999]
            raise unpacking.LibraryFault("it stops")

        for content, whole in ((wrong, 1 << 24), (stops, 1 << 24), (stops, 0)):
            with (
                mock.patch.object(unpacking, "library_version", lambda: "3.6.2"),
                mock.patch.object(unpacking, "_ByLibrary", Failing),
                mock.patch.object(Failing, "content", content),
                mock.patch.object(unpacking, "WHOLE", whole),
            ):
                self.assertEqual(contents(self.opened(made)), {"a.txt": TEXT})


# --- the other side of what the readers do, as plainly as can be ----------------------------------------------


def _without_digest(member: Member) -> Member:
    return Member(member.name, member.content, method=member.method, packed=member.packed, is_solid=member.is_solid)


def _symbols_of(token: Token, *, is_third: bool = True) -> list[tuple[str | int, int]]:
    from tests.archives.rar_streams import _parts

    return _parts(token, is_third=is_third)


def _tables2(tokens: Sequence[Token]) -> dict[str, dict[int, tuple[int, int]]]:
    from tests.archives.rar_streams import NAMES2, _tables, codes

    parts = [part for token in tokens for part in _symbols_of(token, is_third=False)]
    return {name: codes(lengths) for name, lengths in _tables([*parts, ("main", 269)], NAMES2).items()}


def _signed(value: int) -> int:
    return (value & 0xFF) - 256 if value & 0x80 else value & 0xFF


def _learn(weights: list[int], errors: list[int]) -> None:
    best = errors.index(min(errors))
    if best:
        at, step = (best - 1) // 2, 1 if best % 2 == 0 else -1
        if (step > 0 and weights[at] < 16) or (step < 0 and weights[at] >= -16):
            weights[at] += step
    errors[:] = [0] * len(errors)


def _differences(samples: Sequence[int], channels: int) -> list[int]:
    """What the packer of the second generation writes for samples."""
    states = [{"w": [0] * 5, "e": [0] * 11, "d": [0] * 4, "last": 0, "change": 0, "n": 0} for _ in range(channels)]
    other, out = 0, []
    for at, sample in enumerate(samples):
        state = states[at % channels]
        state["n"] += 1
        d = state["d"]
        state["d"] = d = [state["change"], state["change"] - d[0], d[1], d[2]]
        terms = [*d, other]
        guess = 8 * state["last"] + sum(weight * term for weight, term in zip(state["w"], terms, strict=True)) >> 3
        value = guess - sample & 0xFF
        out.append(value)
        wrong = _signed(value) * 8
        for place, term in enumerate([0, *(sign * term for term in terms for sign in (-1, 1))]):
            state["e"][place] += abs(wrong + term)
        other = state["change"] = _signed(sample - state["last"])
        state["last"] = sample
        if state["n"] % 32 == 0:
            _learn(state["w"], state["e"])
    return out


def _sound(samples: bytes, channels: int) -> bytes:
    """What the sound filter of the third generation turns back."""
    out = bytearray()
    for channel in range(channels):
        weights, errors, d, last, change = [0] * 3, [0] * 7, [0] * 3, 0, 0
        for count, sample in enumerate(samples[channel::channels]):
            d = [change, change - d[0], d[1]]
            guess = 8 * last + sum(weight * term for weight, term in zip(weights, d, strict=True)) >> 3
            value = guess - sample & 0xFF
            out.append(value)
            wrong = _signed(value) * 8
            for place, term in enumerate([0, *(sign * term for term in d for sign in (-1, 1))]):
                errors[place] += abs(wrong + term)
            change = _signed(sample - last)
            last = sample
            if count % 32 == 0:
                _learn(weights, errors)
    return bytes(out)


def _picture(pixels: bytes, stride: int, first_blue: int) -> bytes:
    """What the picture filter turns back."""
    plain = bytearray(pixels)
    for at in range(first_blue, len(plain) - 2, 3):
        plain[at] = plain[at] - plain[at + 1] & 0xFF
        plain[at + 2] = plain[at + 2] - plain[at + 1] & 0xFF
    out = bytearray()
    for colour in range(3):
        left = 0
        for at in range(colour, len(plain), 3):
            guess = left
            if at >= stride:
                up, corner = plain[at - stride + 3], plain[at - stride]
                ways = {"left": abs(up - corner), "up": abs(left - corner), "corner": abs(left + up - 2 * corner)}
                if ways["left"] > ways["up"] or ways["left"] > ways["corner"]:
                    guess = up if ways["up"] <= ways["corner"] else corner
            out.append(guess - plain[at] & 0xFF)
            left = plain[at]
    return bytes(out)


if __name__ == "__main__":
    unittest.main()
