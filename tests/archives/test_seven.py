"""7z by every method and filter: as a common library writes them, and the others by packers of our own."""

import bz2
import io
import lzma
import random
import struct
import unittest
import zlib
from collections.abc import Sequence

import inflate64
import py7zr
import pyppmd

from tests.archives.case import ArchiveCase, access, contents
from tests.fuzzing.bombs import seven_number, seven_of
from usufruct.archives.archive_library import LibraryReader
from usufruct.archives.reading import Archive
from usufruct.archives.seven.writer import pack
from usufruct.archives.writing import How, Member
from usufruct.errors import DamagedArchive, UnreadableArchive, WrongPassword
from usufruct.files.sources import BytesSource
from usufruct.model.entries import EntryKind

CHANCE = random.Random(11)
CODE = bytes(CHANCE.choices(b"\xe8\xe9\x0f\x84\x00\x12\xff", (4, 3, 2, 2, 9, 4, 4), k=6000)) + CHANCE.randbytes(2001)
FILES = {"a.txt": b"the moth at the lantern " * 300, "deep/code.bin": CODE, "empty": b"", "b": bytes(9000)}
LZMA2 = (b"\x21\x21\x01\x10", [{"id": lzma.FILTER_LZMA2, "dict_size": 1 << 20}])


def folder_of(*coders: bytes, binds: Sequence[tuple[int, int]] = (), takers: Sequence[int] = ()) -> bytes:
    """The description of a folder; each coder begins with its flags and the length of its number."""
    return bytes((len(coders),)) + b"".join(coders) + bytes(n for bind in binds for n in bind) + bytes(takers)


def seven_made(files: dict[str, bytes], packed: Sequence[bytes], folder: bytes, sizes: Sequence[int]) -> bytes:
    """A 7z of files in one folder, whose packed streams and sizes of outputs are given."""
    full = [content for content in files.values() if content]
    names = "".join(name + "\0" for name, content in files.items() if content).encode("utf-16-le")
    header = b"\x01\x04\x06\x00" + bytes((len(packed),)) + b"\x09" + b"".join(seven_number(len(one)) for one in packed)
    header += b"\x00\x07\x0b\x01\x00" + folder + b"\x0c" + b"".join(map(seven_number, sizes)) + b"\x00"
    header += b"\x08\x0d" + bytes((len(full),)) + b"\x09" + b"".join(seven_number(len(one)) for one in full[:-1])
    header += b"\x0a\x01" + b"".join(struct.pack("<L", zlib.crc32(one)) for one in full) + b"\x00\x00"
    header += b"\x05" + bytes((len(full),)) + b"\x11" + seven_number(1 + len(names)) + b"\x00" + names + b"\x00\x00"
    return seven_of(b"".join(packed), header)


def raw(content: bytes) -> bytes:
    return lzma.compress(content, lzma.FORMAT_RAW, filters=LZMA2[1])


def for_arm64(plain: bytes, place: int = 0) -> bytes:
    """Calls and pages made absolute, as a packer does it."""
    out = bytearray(plain)
    for at in range(0, len(plain) - 3, 4):
        (word,) = struct.unpack_from("<L", plain, at)
        if word >> 26 == 0x25:
            word = 0x94000000 | (word + ((place + at) >> 2)) & 0x03FFFFFF
        elif word & 0x9F000000 == 0x90000000:
            page = (word >> 29 & 3) | (word >> 3 & 0x1FFFFC)
            if (page + 0x20000) & 0x1C0000:
                continue
            page += (place + at) >> 12
            word = word & 0x9000001F | (page & 3) << 29 | (page & 0x3FFFC) << 3 | (-(page & 0x20000) & 0xE00000)
        struct.pack_into("<L", out, at, word)
    return bytes(out)


class _Choices:
    """Writes yes and no by the range coder of LZMA."""

    def __init__(self) -> None:
        self._low, self._range, self._cache, self._waiting = 0, 0xFFFFFFFF, 0, 1
        self._out = bytearray()
        self._chances = [1024] * 258

    def _shift(self) -> None:
        if self._low < 0xFF000000 or self._low >> 32:
            self._out += bytes(((self._cache + (self._low >> 32)) & 0xFF,))
            self._out += bytes(((0xFF + (self._low >> 32)) & 0xFF,)) * (self._waiting - 1)
            self._waiting, self._cache = 0, self._low >> 24 & 0xFF
        self._waiting += 1
        self._low = self._low << 8 & 0xFFFFFFFF

    def put(self, kind: int, is_told: bool) -> None:
        bound = (self._range >> 11) * self._chances[kind]
        if is_told:
            self._low, self._range = self._low + bound, self._range - bound
            self._chances[kind] -= self._chances[kind] >> 5
        else:
            self._range = bound
            self._chances[kind] += (2048 - self._chances[kind]) >> 5
        while self._range < 1 << 24:
            self._range = self._range << 8 & 0xFFFFFFFF
            self._shift()

    def bytes(self) -> bytes:
        for _ in range(5):
            self._shift()
        return bytes(self._out)


def branches_apart(plain: bytes) -> list[bytes]:
    """Code, targets of calls and of jumps, and which of them stand apart: every second one."""
    code, calls, jumps, choices = bytearray(), bytearray(), bytearray(), _Choices()
    before, at, count = 0, 0, 0
    while at < len(plain):
        byte = plain[at]
        code.append(byte)
        at += 1
        if byte in (0xE8, 0xE9) or (before == 0x0F and byte & 0xF0 == 0x80):
            count += 1
            is_told = at + 4 <= len(plain) and count % 2 == 0
            choices.put(before if byte == 0xE8 else 256 if byte == 0xE9 else 257, is_told)
            if is_told:
                (target,) = struct.unpack_from("<L", plain, at)
                apart = calls if byte == 0xE8 else jumps
                apart += struct.pack(">L", (target + at + 4) & 0xFFFFFFFF)
                at += 4
                byte = plain[at - 1]
        before = byte
    return [bytes(code), bytes(calls), bytes(jumps), choices.bytes()]


class WrittenTest(ArchiveCase):
    def written(self, files: dict[str, bytes], effort: int = 1, password: str | None = None) -> bytes:
        """A 7z of ours; a name that ends in `/` is an empty directory, a content that begins with `=>` a link."""
        members = []
        for number, (name, content) in enumerate(files.items()):
            path = self.write({f"file{number}": content})
            kind = EntryKind.LINK if content[:2] == b"=>" else EntryKind.FILE
            kind = EntryKind.DIRECTORY if name.endswith("/") else kind
            target = content[2:].decode() if kind is EntryKind.LINK else ""
            members.append(Member(name.rstrip("/"), str(path), kind, len(content), 10**18, name == "run", target))
        out = io.BytesIO()
        pack(out, members, How("7z", effort, password, lambda _: None))
        return out.getvalue()

    def test_others_read_what_is_written(self) -> None:
        files = {**FILES, "run": b"#!", "d/e/": b"", "large": CHANCE.randbytes(3 << 20), "\u00fc\u4e2d": b"x"}
        for effort in (0, 6):
            made = self.written({**files, "to": b"=>run"}, effort)
            archive = self.opened(made)
            listing = archive.listing
            self.assertEqual(contents(archive), {name: content for name, content in files.items() if name != "d/e/"})
            self.assertEqual(
                ([listing.path(row) for row in listing.runnable], [*listing.targets.values()]), (["run"], ["run"])
            )
            with LibraryReader(BytesSource(made), ("7zip",)) as reader:
                found = {entry.name: b"".join(reader.blocks(1 << 20)) for entry in reader.entries() if not entry.target}
            self.assertEqual({name: found[name] for name in FILES}, FILES)
            with py7zr.SevenZipFile(io.BytesIO(made)) as others:
                self.assertIsNone(others.testzip())

    def test_nothing_but_hollow_entries(self) -> None:
        for password in (None, "moth"):
            made = self.written({"empty": b"", "hollow/": b""}, password=password)
            archive = self.opened(made, how=access(*filter(None, (password,))))
            self.assertEqual(sorted(entry.path for entry in archive.listing), ["empty", "hollow"])
            with py7zr.SevenZipFile(io.BytesIO(made), password=password) as others:
                self.assertEqual(sorted(others.getnames()), ["empty", "hollow"])

    def test_locked_twice_no_two_bytes_are_alike(self) -> None:
        one, two = (self.written({"a": CODE}, password="moth") for _ in range(2))
        self.assertNotEqual(one[32:96], two[32:96])
        self.assertNotIn("a".encode("utf-16-le") + b"\0\0", one)
        self.assertEqual(contents(self.opened(two, how=access("moth"))), {"a": CODE})


class SevenTest(ArchiveCase):
    def by_py7zr(self, filters: list[dict[str, int]], password: str | None = None) -> Archive:
        buffer = io.BytesIO()
        with py7zr.SevenZipFile(buffer, "w", filters=filters, password=password) as archive:
            for name, content in FILES.items():
                archive.writestr(content, name)
        return self.opened(buffer.getvalue(), how=access(*filter(None, (password,))))

    def test_every_method_that_the_common_library_writes(self) -> None:
        for method in ("COPY", "LZMA", "LZMA2", "BZIP2", "DEFLATE", "PPMD", "ZSTD", "BROTLI"):
            for password in (None, "moth"):
                filters = [{"id": getattr(py7zr, f"FILTER_{method}")}]
                if password:
                    filters.append({"id": py7zr.FILTER_CRYPTO_AES256_SHA256})
                with self.subTest(method, password=password):
                    self.assertEqual(contents(self.by_py7zr(filters, password)), FILES)

    def test_every_filter_before_each_method_that_may_stand_behind_it(self) -> None:
        for name in ("DELTA", "X86", "ARM", "ARMTHUMB", "POWERPC", "SPARC", "IA64"):
            for method in ("LZMA", "LZMA2", "BZIP2"):
                if name in ("DELTA", "IA64") and method == "BZIP2":
                    continue  # that library does not write them
                filters = [{"id": getattr(py7zr, f"FILTER_{name}")}, {"id": getattr(py7zr, f"FILTER_{method}")}]
                with self.subTest(name, method=method):
                    archive = self.by_py7zr(filters)
                    self.assertEqual(contents(archive), FILES)
                    self.assertEqual(len(archive.facts.packing), 2)

    def test_filters_that_it_does_not_write(self) -> None:
        plain = b"".join(FILES.values())
        words = CHANCE.randbytes(len(plain) // 4 * 4 - 40_000) if len(plain) > 60_000 else plain
        arm = bytearray(words)
        for at in range(0, len(arm) - 8, 12):
            arm[at : at + 4] = struct.pack("<L", 0x94000000 | CHANCE.getrandbits(26))
            arm[at + 4 : at + 8] = struct.pack("<L", 0x90000000 | CHANCE.getrandbits(7) << 5)
        code, size = bytes(arm), len(arm)
        delta = bytearray(code)
        for at in range(len(code) - 1, 2, -1):
            delta[at] = code[at] - code[at - 3] & 0xFF
        whole = code[: size // 4 * 4]
        swapped = b"".join(whole[at : at + 4][::-1] for at in range(0, len(whole), 4)) + code[len(whole) :]
        pairs = code[: size // 2 * 2]
        twos = b"".join(pairs[at : at + 2][::-1] for at in range(0, len(pairs), 2)) + code[len(pairs) :]
        for coder, packed in (
            (b"\x01\x0a", for_arm64(code)),
            (b"\x21\x0a\x04\x00\x10\x00\x00", for_arm64(code, 4096)),
            (b"\x21\x03\x01\x02", bytes(delta)),
            (b"\x03\x02\x03\x04", swapped),
            (b"\x03\x02\x03\x02", twos),
        ):
            stored = seven_made({"code": code}, [packed], folder_of(coder), [size])
            behind = folder_of(coder, LZMA2[0], binds=[(0, 1)])
            for made in (stored, seven_made({"code": code}, [raw(packed)], behind, [size, size])):
                with self.subTest(coder.hex()):
                    self.assertNotEqual(packed, code)
                    self.assertEqual(contents(self.opened(made)), {"code": code})

    def test_branches_in_streams_of_their_own(self) -> None:
        for plain in (CODE, b"\xe8" * 5000, b"\x0f\x84abcd" * 900, b"x", bytes(3000), b"\x0f" + CODE):
            code, calls, jumps, choices = branches_apart(plain)
            bcj2 = b"\x14\x03\x03\x01\x1b\x04\x01"
            folder = folder_of(bcj2, takers=(0, 1, 2, 3))
            simple = seven_made({"code": plain}, [code, calls, jumps, choices], folder, [len(plain)])
            self.assertEqual(contents(self.opened(simple)), {"code": plain})
            # As packers write it: each of the first three streams packed, in another order than the inputs.
            three = [raw(calls), raw(code), raw(jumps), choices]
            folder = folder_of(bcj2, *[LZMA2[0]] * 3, binds=[(0, 1), (1, 2), (2, 3)], takers=(5, 4, 6, 3))
            sizes = [len(plain), len(code), len(calls), len(jumps)]
            self.assertEqual(contents(self.opened(seven_made({"code": plain}, three, folder, sizes))), {"code": plain})

    def test_deflate64_and_ppmd_as_they_lie_in_the_file(self) -> None:
        text = FILES["a.txt"] * 9
        packer = inflate64.Deflater()
        packed = packer.deflate(text) + packer.flush()
        made = seven_made({"a": text}, [packed], folder_of(b"\x03\x04\x01\x09"), [len(text)])
        self.assertEqual(contents(self.opened(made)), {"a": text})
        encoder = pyppmd.Ppmd7Encoder(6, 1 << 20)
        packed = encoder.encode(text) + encoder.flush(endmark=False)
        coder = b"\x23\x03\x04\x01\x05" + struct.pack("<BL", 6, 1 << 20)
        self.assertEqual(
            contents(self.opened(seven_made({"a": text}, [packed], folder_of(coder), [len(text)]))), {"a": text}
        )

    def test_one_file_of_a_solid_folder_is_read_without_those_behind_it(self) -> None:
        archive = self.by_py7zr([{"id": py7zr.FILTER_LZMA2}])
        rows = [row for row in range(4) if archive.listing.path(row) == "deep/code.bin"]
        self.assertEqual([b"".join(blocks) for _, blocks in archive.stream(rows)], [CODE])
        self.assertTrue(archive.facts.is_solid)

    def test_a_wrong_password_and_damage_are_told_apart(self) -> None:
        buffer = io.BytesIO()
        with py7zr.SevenZipFile(buffer, "w", password="moth") as archive:
            archive.writestr(FILES["a.txt"], "a.txt")
        with self.assertRaises(WrongPassword):
            self.opened(buffer.getvalue(), how=access("wasp")).unlock()
        broken = bytearray(buffer.getvalue())
        broken[60] ^= 1
        for packed in (raw(CODE), bz2.compress(CODE)):
            coder = LZMA2[0] if packed[:2] != b"BZ" else b"\x03\x04\x02\x02"
            made = bytearray(seven_made({"a": CODE}, [packed], folder_of(coder), [len(CODE)]))
            made[32 + len(packed) // 2] ^= 0x10
            with self.assertRaisesRegex(DamagedArchive, "^a in"):
                contents(self.opened(bytes(made)))
        short = seven_made({"a": CODE}, [raw(CODE[:-5])], folder_of(LZMA2[0]), [len(CODE)])
        with self.assertRaisesRegex(DamagedArchive, "^a in .* breaks off"):
            contents(self.opened(short))

    def test_a_method_that_is_not_read_is_named(self) -> None:
        for coder, name in (
            (b"\x01\x0b", "bcj riscv"),
            (b"\x04\x04\xf7\x11\x04", "lz4"),
            (b"\x02\x77\x01", "method 7701"),
        ):
            made = seven_made({"a": CODE}, [CODE], folder_of(coder), [len(CODE)])
            with self.assertRaisesRegex(UnreadableArchive, f"packed with {name}, which"):
                contents(self.opened(made))
            with self.assertRaisesRegex(UnreadableArchive, f"packed with {name}, which"):
                self.opened(made).refuse_unreadable([0])

    def test_methods_that_do_not_lead_to_one_stream_are_damage(self) -> None:
        for folder, count, words in (
            (folder_of(LZMA2[0], LZMA2[0], binds=[(0, 9)]), 2, "do not lead to one stream"),
            (folder_of(b"\x14\x03\x03\x01\x1b\x04\x01", takers=(0, 1, 2, 2)), 1, "a stream that there is not"),
        ):
            made = seven_made({"a": CODE}, [raw(CODE)], folder, [len(CODE)] * count)
            with self.assertRaisesRegex(DamagedArchive, words):
                contents(self.opened(made))

    def test_differences_hold_across_blocks_of_any_size(self) -> None:
        plain = CHANCE.randbytes(3_000_001)
        distance = 7
        packed = bytearray(plain)
        for channel in range(distance):
            values = plain[channel::distance]
            packed[channel::distance] = bytes((b - a) & 0xFF for a, b in zip(b"\0" + values[:-1], values, strict=True))
        made = seven_made({"a": plain}, [bytes(packed)], folder_of(b"\x21\x03\x01\x06"), [len(plain)])
        self.assertEqual(contents(self.opened(made)), {"a": plain})


if __name__ == "__main__":
    unittest.main()
