"""Split sets: found from any part, told what is missing, before anything is read."""

import gzip
import os
import re
import unittest
from pathlib import Path

import py7zr

from tests.archives.case import ArchiveCase, contents
from tests.archives.rar_writer import Member, RarWriter
from tests.archives.zip_writer import Item, zip_of
from tests.fuzzing.bombs import pax_field
from tests.support import as_bytes, tar_bytes, zip_bytes
from usufruct.archives.split_sets import sets_among, split_set_of
from usufruct.errors import ArchiveError, DamagedArchive, IncompleteArchive

FILES = {"a.txt": b"hello", "b.bin": bytes(range(256)) * 20}


def cut(content: bytes, size: int, name: str) -> dict[str, bytes]:
    return {f"{name}.{n + 1:03}": content[at : at + size] for n, at in enumerate(range(0, len(content), size))}


def taped(plain: bytes, cuts: list[int], *, is_pax: bool = False) -> list[bytes]:
    """A tar cut into volumes at these bytes of it, each of which begins with what it goes on with."""
    starts, at = [], 0
    while at + 512 <= len(plain) and plain[at]:
        size = int(plain[at + 124 : at + 135], 8)
        starts.append((at, size))
        at += 512 + -(-size // 512) * 512
    volumes = [plain[: cuts[0]]]
    for cut, end in zip(cuts, [*cuts[1:], len(plain)], strict=True):
        start, size = next(one for one in reversed(starts) if one[0] < cut)
        offset, head = cut - start - 512, bytearray(plain[start : start + 512])
        name = bytes(head[:100]).rstrip(b"\0")
        head[124:136] = b"%011o\0" % (size - offset)
        said = b""
        if is_pax:
            values = {b"filename": name, b"size": b"%d" % (size - offset), b"offset": b"%d" % offset}
            fields = b"".join(pax_field(b"GNU.volume." + key, value) for key, value in values.items())
            label = bytearray(head)
            label[124:136], label[156:157] = b"%011o\0" % len(fields), b"g"
            said = _summed(label) + fields.ljust(-(-len(fields) // 512) * 512, b"\0")
        else:
            head[156:157], head[369:381] = b"M", b"%011o\0" % offset
        volumes.append(said + _summed(head) + plain[cut:end])
    return volumes


def _summed(head: bytearray) -> bytes:
    head[148:156] = b" " * 8
    head[148:156] = b"%06o\0 " % sum(head)
    return bytes(head)


class PartsTest(ArchiveCase):
    def split_zip(self) -> dict[str, bytes]:
        volumes = zip_of([Item(name.encode(), content) for name, content in FILES.items()], part=1500)
        return {**{f"moon.z{n:02}": volume for n, volume in enumerate(volumes[:-1], 1)}, "moon.zip": volumes[-1]}

    def rar(self, members: list[Member] | None = None) -> list[bytes]:
        return RarWriter(volume=1200).volumes(members or [Member(*item) for item in FILES.items()])

    def test_any_part_may_be_named(self) -> None:
        sets = [
            self.split_zip(),
            cut(zip_bytes(FILES, compression=0), 1300, "moon.zip"),
            {f"moon.part{n}.rar": volume for n, volume in enumerate(self.rar(), 1)},
            {"moon.rar" if not n else f"moon.r{n - 1:02}": volume for n, volume in enumerate(self.rar())},
        ]
        for files in sets:
            first = self.write(files)
            for name in files:
                with self.subTest(name):
                    archive = self.open(first.parent / name)
                    self.assertEqual(contents(archive), FILES)
                    self.assertEqual(len(archive.facts.volumes), len(files))

    def test_other_habits_of_naming(self) -> None:
        whole = zip_bytes(FILES, compression=0)
        habits = (
            [f"moon.tgz.a{letter}" for letter in "abcdef"], [f"moon.zip.{n:03}" for n in range(6)],
            [f"moon_{n}of6.zip" for n in range(1, 7)], [f"moon ({n} of 6).zip" for n in range(1, 7)],
            [f"moon.zip.aa{letter}" for letter in "abcdef"],
        )  # fmt: skip
        for names in habits:
            size = -(-len(whole) // len(names))
            files = {name: whole[n * size : (n + 1) * size] for n, name in enumerate(names)}
            with self.subTest(names[0]):
                first = self.write(files)
                for name in (names[0], names[3]):
                    self.assertEqual(contents(self.open(first.parent / name)), FILES)
                self.assertEqual(len(list(sets_among(first.parent, os.listdir(first.parent)))), 1)
                (first.parent / names[2]).unlink()
                with self.assertRaisesRegex(IncompleteArchive, f"part 3 of 6 \\({re.escape(names[2])}\\) is missing"):
                    self.open(first)

    def test_archives_that_are_only_counted_are_no_parts(self) -> None:
        first = self.write({f"pack {n} of 3.zip": zip_bytes({f"{n}.gel": "x"}) for n in (1, 2, 3)})
        self.assertEqual(set(contents(self.open(first))), {"1.gel"})
        self.assertEqual(len(list(sets_among(first.parent, os.listdir(first.parent)))), 3)
        os.mkfifo(first.parent / "pack 4 of 4.zip")
        self.assertEqual(len(list(sets_among(first.parent, os.listdir(first.parent)))), 4)
        # Volumes of a RAR each begin as an archive does, and are one all the same.
        volumes = self.write({f"pack.part{n}.rar": b"Rar!\x1a\7\1\0" for n in (1, 2)})
        self.assertEqual(len(list(sets_among(volumes.parent, os.listdir(volumes.parent)))), 1)
        alone = self.write({"pack 1 of 3.zip": zip_bytes({"1.gel": "x"})})
        self.assertEqual(set(contents(self.open(alone))), {"1.gel"})

    def test_a_part_alone_is_called_a_part(self) -> None:
        """It was called damaged, to be downloaded again."""
        whole = zip_bytes(FILES, compression=0)
        for name in ("moon.zip.001", "moon.z01", "moon.zip.aa", "moon_1of3.zip", "moon.zip.000"):
            with self.assertRaisesRegex(IncompleteArchive, "is part 1 of a split archive, and the other"):
                self.open(self.write({name: whole[:2000]}))
        with self.assertRaisesRegex(IncompleteArchive, "is part 2 of a split archive, and the other"):
            self.open(self.write({"moon_2of3.zip": whole[2000:3000]}))
        with self.assertRaisesRegex(IncompleteArchive, "part 1 of 2 .*is missing"):
            self.open(self.write({"moon.zip.ab": whole[2000:3000]}))

    def test_names_that_end_alike_are_no_parts(self) -> None:
        first = self.write(
            {"moon.tar.gz": gzip.compress(tar_bytes(FILES)), "moon.tar.ab.gel": b"x", "moon.zip.br": b""}
        )
        self.assertEqual(contents(self.open(first)), FILES)

    def test_a_7z_cut_by_size(self) -> None:
        path = self.write({"x": b""}).with_name("whole.7z")
        with py7zr.SevenZipFile(path, "w") as archive:
            for name, content in FILES.items():
                archive.writestr(content, name)
        files = cut(path.read_bytes(), 100, "moon.7z")
        self.assertEqual(contents(self.open(self.write(files))), FILES)

    def test_names_that_differ_in_case_or_padding_are_one_set(self) -> None:
        volumes = self.rar()
        names = ["Moon.part1.rar", "moon.Part02.rar", "MOON.PART3.RAR", "moon.part004.rar", "moon.part5.rar"]
        files = {names[n]: volume for n, volume in enumerate(volumes)}
        self.assertEqual(contents(self.open(self.write(files))), FILES)

    def test_a_missing_part_is_named(self) -> None:
        first = self.write({f"moon.part{n:02}.rar": b"x" for n in range(1, 81) if n not in (37, 40)})
        with self.assertRaisesRegex(DamagedArchive, "part 37, 40 of 80 are missing"):
            split_set_of(first)
        numbered = self.write(
            {name: data for name, data in cut(bytes(5000), 1000, "m.zip").items() if "002" not in name}
        )
        with self.assertRaisesRegex(DamagedArchive, r"part 2 of 5 .m\.zip\.002. is missing"):
            split_set_of(numbered)

    def test_a_missing_first_or_last_part_is_told(self) -> None:
        files = self.split_zip()
        del files["moon.zip"]
        with self.assertRaisesRegex(DamagedArchive, r"part \d of \d is missing"):
            self.open(self.write(files))
        volumes = self.rar()
        with self.assertRaisesRegex(DamagedArchive, f"part {len(volumes)}"):
            self.open(self.write({f"m.part{n}.rar": volume for n, volume in enumerate(volumes[:-1], 1)}))
        with self.assertRaisesRegex(DamagedArchive, "part 1 of"):
            self.open(self.write({f"m.part{n}.rar": volume for n, volume in enumerate(volumes[1:], 2)}))
        seven = cut(zip_bytes(FILES, compression=0), 1300, "moon.zip")
        last = max(seven)
        with self.assertRaises(DamagedArchive) as caught:
            self.open(self.write({name: data for name, data in seven.items() if name != last}))
        self.assertIn("part 5 missing", caught.exception.remedy)

    def test_a_last_part_that_is_larger_than_the_others_is_of_another_set(self) -> None:
        parts = cut(zip_bytes(FILES), 100, "moon.zip")
        last = list(parts)[-1]
        self.assertEqual(len(self.open(self.write(parts)).facts.volumes), len(parts))
        with self.assertRaisesRegex(DamagedArchive, "belongs to another archive"):
            self.open(self.write(parts | {last: parts[last] + bytes(200)}))

    def test_a_truncated_part_is_named(self) -> None:
        files = cut(zip_bytes(FILES, compression=0), 1300, "moon.zip")
        files["moon.zip.002"] = files["moon.zip.002"][:500]
        with self.assertRaisesRegex(DamagedArchive, r"moon\.zip\.002, part 2 of \d, has 500 bytes"):
            self.open(self.write(files))

    def test_volumes_of_a_tar_in_both_forms_and_by_both_habits_of_naming(self) -> None:
        files = {"d/moon.gel": bytes(range(250)) * 20, "d/sun.gel": b"sun" * 700, "star.gel": b"star"}
        for is_pax in (False, True):
            volumes = taped(tar_bytes(files), [3072, 6144], is_pax=is_pax)
            for names in (("disk 1.tar", "disk 2.tar", "disk 3.tar"), ("pack.tar", "pack.tar-2", "pack.tar-3")):
                for named in names:
                    path = self.write(dict(zip(names, volumes, strict=True))).with_name(named)
                    archive = self.open(path)
                    self.assertEqual(contents(archive), {name: as_bytes(content) for name, content in files.items()})
                    self.assertEqual([Path(one).name for one in archive.facts.volumes], list(names))
                    self.assertEqual((archive.size, archive.facts.unread), (sum(map(len, volumes)), ()))

    def test_volumes_of_a_tar_that_lack_one_or_are_of_another_are_never_read_as_whole(self) -> None:
        files = {"moon.gel": bytes(range(250)) * 20, "sun.gel": b"sun" * 700}
        one, two, three = taped(tar_bytes(files), [3072, 6144])
        other = taped(tar_bytes({"moon.gel": b"m" * 5000, "sun.gel": b"s" * 2200}), [2560, 6144])
        for volumes in ([one, two], [two, three], [three], [one], [one, three], [one, other[1], three]):
            named = {f"disk{number}.tar": volume for number, volume in enumerate(volumes, 1)}
            with self.assertRaises(ArchiveError):
                contents(self.open(self.write(named)))
        # A later volume under the first one's name: nothing comes before it, however often that is asked.
        with self.assertRaises(ArchiveError):
            self.open(self.write({"pack.tar": two, "pack.tar-2": three}))
        # Alone, a later volume of the other form looks like a tar of its own, with a part of a file.
        with self.assertRaisesRegex(IncompleteArchive, "later volume"):
            self.open(self.write({"disk2.tar": taped(tar_bytes(files), [3072], is_pax=True)[1]}))
        with self.assertRaisesRegex(ArchiveError, "does not go on where"):
            self.open(self.write({"disk1.tar": tar_bytes(files), "disk2.tar": three}))
        # Two tars of their own whose names count are two archives.
        both = self.write({"disk1.tar": tar_bytes(files), "disk2.tar": tar_bytes(files)})
        self.assertEqual(len(self.open(both).facts.volumes), 1)

    def test_a_truncated_volume_is_found_while_reading(self) -> None:
        volumes = self.rar()
        volumes[1] = volumes[1][:400]
        with self.assertRaisesRegex(ArchiveError, "volume 2"):
            contents(self.open(self.write({f"m.part{n}.rar": volume for n, volume in enumerate(volumes, 1)})))

    def test_a_part_downloaded_twice_counts_once(self) -> None:
        files = {f"moon.part{n}.rar": volume for n, volume in enumerate(self.rar(), 1)}
        again = {
            **files,
            "moon.part2 (1).rar": files["moon.part2.rar"],
            "moon.part1 (1).rar": files["moon.part1.rar"][:9],
        }
        self.assertEqual(contents(self.open(self.write(again))), FILES)

    def test_a_part_known_only_by_its_copy_mark_is_found(self) -> None:
        files = {f"moon.part{n}.rar": volume for n, volume in enumerate(self.rar(), 1)}
        files["moon.part2 (1).rar"] = files.pop("moon.part2.rar")
        self.assertEqual(contents(self.open(self.write(files))), FILES)

    def test_a_mark_or_an_accent_inside_the_name_does_not_hide_a_part(self) -> None:
        for first, other in (("moon.hill", "moon (1).hill"), ("caf\u00e9 moon", "cafe\u0301 moon")):
            files = {f"{other if n == 2 else first}.part{n}.rar": volume for n, volume in enumerate(self.rar(), 1)}
            self.assertEqual(contents(self.open(self.write(files))), FILES, first)

    def test_two_different_files_for_one_part_are_not_guessed_between(self) -> None:
        files = {f"moon.part{n}.rar": volume for n, volume in enumerate(self.rar(), 1)}
        files["moon.part2 (1).rar"] = bytes(len(files["moon.part2.rar"]))
        with self.assertRaisesRegex(DamagedArchive, "claim to be the same part, but differ"):
            self.open(self.write(files))

    def test_neighbours_are_no_parts(self) -> None:
        first = self.write({"moon.zip": zip_bytes(FILES), "moon (1).zip": b"x", "moons.z01": b"x", "moon.rar": b"x"})
        self.assertEqual(contents(self.open(first)), FILES)


if __name__ == "__main__":
    unittest.main()
