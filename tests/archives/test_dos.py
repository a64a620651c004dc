"""arj, zoo and arc: every method, names and times as DOS wrote them, and what is broken or cannot be read."""

import random
import time
import unittest
from collections.abc import Callable

from tests.archives.case import ArchiveCase, contents
from tests.archives.dos_writers import (
    Old,
    arc_of,
    arj_of,
    lz_fast,
    lzh,
    lzw_hashed,
    lzw_zoo,
    runs,
    squeezed,
    zoo_of,
)
from tests.archives.old_writers import compressed
from tests.archives.rar_streams import Match, tokens_of
from usufruct.errors import DamagedArchive, NotAnArchive, UnreadableArchive
from usufruct.model.entries import EntryKind

_chance = random.Random(4)
_WORDS = [bytes(_chance.choices(b"abcdehilmnorstu", k=_chance.randint(2, 8))) for _ in range(200)]
TEXT = b" ".join(_chance.choice(_WORDS) for _ in range(3000)) + bytes(300) + _chance.randbytes(700) + b"\x90" * 9
TOKENS = tokens_of(TEXT, window=8000, longest=256, least=3)
FAST = tokens_of(TEXT, window=15000, longest=250, least=4)


def _crunched(content: bytes, width: int) -> bytes:
    return compressed(content, width)[3:]


METHODS: dict[tuple[str, int], Callable[[], bytes]] = {
    ("arj", 0): lambda: TEXT,
    ("arj", 1): lambda: lzh([TOKENS[:900], TOKENS[900:]], 15),
    ("arj", 4): lambda: lz_fast(FAST),
    ("zoo", 0): lambda: TEXT,
    ("zoo", 1): lambda: lzw_zoo(TEXT),
    ("zoo", 2): lambda: lzh([TOKENS], 13),
    ("arc", 1): lambda: TEXT,
    ("arc", 2): lambda: TEXT,
    ("arc", 3): lambda: runs(TEXT),
    ("arc", 4): lambda: squeezed(runs(TEXT)),
    ("arc", 5): lambda: lzw_hashed(TEXT, is_fast=False),
    ("arc", 6): lambda: lzw_hashed(runs(TEXT), is_fast=False),
    ("arc", 7): lambda: lzw_hashed(runs(TEXT), is_fast=True),
    ("arc", 8): lambda: b"\x0c" + _crunched(runs(TEXT), 12),
    ("arc", 9): lambda: _crunched(TEXT, 13),
}
WRITERS = {"arj": arj_of, "zoo": zoo_of, "arc": arc_of}


class DosTest(ArchiveCase):
    def test_every_method_of_each_gives_the_content_back(self) -> None:
        for (kind, method), packed in METHODS.items():
            old = [Old("first", b"stored"), Old("FULL.TXT", TEXT, method, packed()), Old("empty", b"")]
            if kind == "arc":
                old = [Old("first", b"stored", 2), old[1], Old("empty", b"", 2)]
            with self.subTest(kind=kind, method=method):
                archive = self.opened(WRITERS[kind](old))
                self.assertEqual(archive.format, kind)
                self.assertEqual(contents(archive), {"first": b"stored", "FULL.TXT": TEXT, "empty": b""})

    def test_codes_of_one_symbol_and_a_table_that_is_forgotten(self) -> None:
        zeros = bytes(5000)
        tokens = [0, *[Match(1, 256)] * 19, Match(1, 135)]
        for kind, method, packed in (
            ("arj", 2, lzh([tokens], 15)), ("zoo", 1, lzw_zoo(zeros)), ("arj", 1, lzh([[*b"x" * 5000]], 15)),
        ):  # fmt: skip
            content = b"x" * 5000 if method == 1 and kind == "arj" else zeros
            self.assertEqual(contents(self.opened(WRITERS[kind]([Old("a", content, method, packed)])))["a"], content)
        noise = random.Random(2).randbytes(30_000)
        for content, at in ((noise, 0), (TEXT, 4000)):
            old = [Old("a", content, 1, lzw_zoo(content, forgets_at=at))]
            self.assertEqual(contents(self.opened(zoo_of(old)))["a"], content)

    def test_paths_times_and_directories(self) -> None:
        moment = int(time.mktime((1994, 5, 17, 13, 30, 8, 0, 0, -1))) * 10**9
        old = [Old("rigs\\owl.rig", b"x"), Old("gels", b"", fields={"kind": 3}), Old("label", b"", fields={"kind": 4})]
        listing = self.opened(arj_of(old)).listing
        self.assertEqual([(entry.path, entry.kind) for entry in listing], [
            ("rigs/owl.rig", EntryKind.FILE), ("gels", EntryKind.DIRECTORY),
        ])  # fmt: skip
        self.assertEqual(next(e.modified for e in listing if e.path == "rigs/owl.rig"), moment)
        unix = self.opened(arj_of([Old("a", b"x", fields={"system": 2, "time": 770_000_000})])).listing
        self.assertEqual(next(iter(unix)).modified, 770_000_000 * 10**9)
        listing = self.opened(zoo_of([Old("rigs/a long name.rig", b"x"), Old("gone", b"y")], deleted=["gone"])).listing
        self.assertEqual([(e.path, e.modified) for e in listing if e.kind == EntryKind.FILE],
                         [("rigs/a long name.rig", moment)])  # fmt: skip
        nested = (
            arc_of([Old("rigs", b"", 30), Old("owl.rig", b"x", 2)])[:-2] + b"\x1a\x1f" + arc_of([Old("b", b"y", 2)])
        )
        self.assertEqual(contents(self.opened(nested)), {"rigs/owl.rig": b"x", "b": b"y"})

    def test_names_in_the_code_page_of_dos(self) -> None:
        names = {f"Gr\u00fc\u00dfe {n} f\u00fcr M\u00e4rchen.txt": b"x" for n in range(4)}
        self.assertEqual(contents(self.opened(arj_of([Old(n, c) for n, c in names.items()]))), names)

    def test_paths_that_lead_out_are_refused(self) -> None:
        for archive in (
            arj_of([Old("..\\up", b"x"), Old("fine", b"x")]),
            zoo_of([Old("../up", b"x"), Old("fine", b"x")]),
        ):
            listing = self.opened(archive).listing
            self.assertEqual([entry.path for entry in listing if entry.kind == EntryKind.FILE], ["fine"])
            self.assertEqual(len(listing.refused), 1)

    def test_what_cannot_be_read_is_named(self) -> None:
        for old, words in (
            (Old("a", b"x", flags=1), "locked by the cipher of arj"),
            (Old("a", b"x", flags=4), "another volume"),
            (Old("a", b"x", 9), "method that is not known .9."),
        ):
            with self.assertRaisesRegex(UnreadableArchive, f"^a in .*{words}"):
                contents(self.opened(arj_of([old])))
        with self.assertRaisesRegex(UnreadableArchive, "not known .10."):
            contents(self.opened(arc_of([Old("a", b"xyz", 10)])))

    def test_damage_is_found_by_its_checksum_and_named(self) -> None:
        for (kind, method), packed in METHODS.items():
            data = bytearray(packed())
            data[len(data) // 2] ^= 0x10
            with self.subTest(kind=kind, method=method), self.assertRaisesRegex(DamagedArchive, "^FULL.TXT in"):
                contents(self.opened(WRITERS[kind]([Old("FULL.TXT", TEXT, method, bytes(data))])))

    def test_an_archive_that_breaks_off_is_told(self) -> None:
        for kind, write in WRITERS.items():
            whole = write([Old("a", TEXT, 2 if kind == "arc" else 0), Old("b", TEXT, 2 if kind == "arc" else 0)])
            with self.subTest(kind), self.assertRaises((DamagedArchive, NotAnArchive)):
                contents(self.opened(whole[: len(whole) - len(TEXT) // 2], f"x.{kind}"))

    def test_a_chain_of_entries_that_leads_back_is_damage(self) -> None:
        with self.assertRaisesRegex(DamagedArchive, "leads back"):
            self.opened(zoo_of([Old("a", b"x")], is_endless=True))

    def test_other_files_that_begin_alike_are_no_archives(self) -> None:
        for content in (b"\x1a" + bytes(60), b"\x1a\x08name\0" + b"\xff" * 60, b"\x60\xea" + bytes(60)):
            with self.assertRaises(NotAnArchive):
                self.opened(content, "notes.bin")


if __name__ == "__main__":
    unittest.main()
