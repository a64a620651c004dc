"""Archives that Usufruct makes: what others read in them is what was on disk, and nothing half made stays."""

import io
import os
import random
import tarfile
import zipfile
from pathlib import Path
from typing import Any
from unittest import mock

import py7zr
import pyzipper
from msgspec.structs import replace

from tests.support import WorldTest
from usufruct.actions.packing import Made, Packing, pack_planned, plan_packing
from usufruct.archives.opening import open_archive
from usufruct.archives.passwords import Passwords
from usufruct.archives.reading import Access
from usufruct.archives.writing import Member
from usufruct.errors import DamagedArchive, MachineError, WrongPassword, WrongUsage
from usufruct.model.progress import Progress

_TIME = 1_600_000_000_250_000_000


class PackingTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.top = self.world.folder / "shelf"
        self.content = {
            "moon.gel": b"moon" * 900,
            "Übung/großer Himmel.gel": b"",
            "Übung/noise.gel": random.Random(7).randbytes(3000),
            "large.gel": bytes(range(256)) * 20_000,
        }
        self.world.write(dict(self.content), self.top)
        for path in self.top.rglob("*"):
            os.utime(path, ns=(_TIME, _TIME))
        (self.top / "run.sh").write_text("#!/bin/sh\n")
        (self.top / "run.sh").chmod(0o755)
        (self.top / "also.gel").symlink_to("moon.gel")
        (self.top / "hollow").mkdir()
        self.content["run.sh"] = b"#!/bin/sh\n"

    def pack(self, *sources: Path | str, out: str, **options: Any) -> Made:
        packing = Packing(sources=tuple(map(str, sources)), out=self.world.folder / out, **options)
        return pack_planned(self.world.context, plan_packing(self.world.context, packing), packing)

    def left(self) -> list[str]:
        return sorted(path.name for path in self.world.folder.iterdir() if path.is_file() or "pack" in path.name)

    def test_zip_as_another_reader_sees_it(self) -> None:
        for effort in (0, 1, 9):
            made = self.pack(self.top, out=f"e{effort}.zip", effort=effort)
            with zipfile.ZipFile(made.volumes[0]) as archive:
                self.assertIsNone(archive.testzip())
                names = {info.filename: info for info in archive.infolist()}
                for name, data in self.content.items():
                    self.assertEqual(archive.read(f"shelf/{name}"), data)
                self.assertEqual(archive.read("shelf/also.gel"), b"moon.gel")
                self.assertEqual(names["shelf/also.gel"].external_attr >> 28, 0o12)
                self.assertEqual(names["shelf/run.sh"].external_attr >> 16 & 0o777, 0o755)
                self.assertTrue(names["shelf/hollow/"].is_dir())
                self.assertEqual(len(names), 7)
            stored = effort == 0
            self.assertEqual(made.size > made.plan.size, stored)

    def test_sizes_of_eight_bytes_are_read_by_others_too(self) -> None:
        """Real ones begin at 4 GB; the bound is lowered here so that every size is written so."""
        with (
            mock.patch("usufruct.archives.zip.writer._WIDE", 1),
            mock.patch("usufruct.archives.zip.writer._SMALL", 0),
        ):
            path = self.pack(self.top / "large.gel", self.top / "moon.gel", out="wide.zip").volumes[0]
        self.assertIn(b"PK\x06\x06", path.read_bytes())
        with zipfile.ZipFile(path) as archive:
            self.assertEqual(archive.read("wide/large.gel"), self.content["large.gel"])
            self.assertEqual(archive.read("wide/moon.gel"), self.content["moon.gel"])

    def test_a_locked_zip_opens_with_its_password_elsewhere_and_here(self) -> None:
        made = self.pack(self.top, out="locked.zip", is_locked=True, password="Schattenspiel ü")
        path = made.volumes[0]
        with zipfile.ZipFile(path) as archive:
            self.assertTrue(all(info.flag_bits & 1 for info in archive.infolist() if not info.is_dir()))
        path = self.pack(self.top / "Übung", out="files.zip", is_locked=True, password="Schattenspiel ü").volumes[0]
        with pyzipper.AESZipFile(path) as archive:
            archive.setpassword("Schattenspiel ü".encode())
            found = {info.filename: archive.read(info) for info in archive.infolist() if not info.is_dir()}
        self.assertEqual(found, {name: data for name, data in self.content.items() if name.startswith("Übung")})
        wrong = open_archive(path, Access(passwords=Passwords(("no",), given=True)))
        self.addCleanup(wrong.close)
        with self.assertRaises(WrongPassword):
            wrong.unlock()

    def test_tars_as_another_reader_sees_them(self) -> None:
        for suffix, mode in (("tar", "r:"), ("tar.gz", "r:gz"), ("tar.xz", "r:xz")):
            with tarfile.open(self.pack(self.top, out=f"a.{suffix}").volumes[0], mode) as archive:
                found = {info.name: info for info in archive}
                for name, data in self.content.items():
                    file = archive.extractfile(found[f"shelf/{name}"])
                    assert file
                    self.assertEqual(file.read(), data)
            self.assertEqual(found["shelf/also.gel"].linkname, "moon.gel")
            self.assertEqual(found["shelf/moon.gel"].mtime, (self.top / "moon.gel").stat().st_mtime)
            self.assertEqual((found["shelf/run.sh"].mode, found["shelf/moon.gel"].mode), (0o755, 0o644))
            self.assertEqual({(one.uid, one.uname) for one in found.values()}, {(0, "")})
            self.assertTrue(found["shelf/hollow"].isdir())

    def test_seven_hides_names_where_it_is_locked(self) -> None:
        plain = self.pack(self.top, out="a.7z", effort=0).volumes[0]
        locked = self.pack(self.top, out="b.7z", is_locked=True, password="owl").volumes[0]
        for path, password in ((plain, None), (locked, "owl")):
            target = self.world.folder / path.stem
            with py7zr.SevenZipFile(path, password=password) as archive:
                archive.extractall(target)
            for name, data in self.content.items():
                self.assertEqual((target / "shelf" / name).read_bytes(), data)
        with self.assertRaises(Exception):  # noqa: B017 - whatever the other reader says
            py7zr.SevenZipFile(locked).getnames()

    def test_volumes_are_whole_together_and_none_is_larger(self) -> None:
        for out in ("v.zip", "v.7z", "v.tar.gz"):
            made = self.pack(self.top / "Übung", out=out, volume=1000)
            self.assertGreater(len(made.volumes), 3)
            self.assertEqual([path.name for path in made.volumes[:2]], [f"{out}.001", f"{out}.002"])
            self.assertTrue(all(path.stat().st_size == 1000 for path in made.volumes[:-1]))
            joined = io.BytesIO(b"".join(path.read_bytes() for path in made.volumes))
            if out == "v.zip":
                self.assertIsNone(zipfile.ZipFile(joined).testzip())
            archive = open_archive(made.volumes[1])
            self.assertEqual(len(archive.listing), 2)
            archive.close()
        only = self.pack(self.top / "moon.gel", out="one.zip", volume=1 << 20)
        self.assertEqual([path.name for path in only.volumes], ["one.zip"])

    def test_wrappers_junk_and_what_leads_out(self) -> None:
        (self.top / "Thumbs.db").write_text("junk")
        (self.top / "away.gel").symlink_to("/etc/hostname")
        plan = plan_packing(self.world.context, Packing(sources=(str(self.top),), out=Path("x.zip")))
        self.assertEqual(
            {Path(one.path).name: one.reason.split(" ")[0] for one in plan.left_out},
            {"Thumbs.db": "Thumbs.db", "away.gel": "the"},
        )

        def tops(*sources: str, **options: Any) -> set[str]:
            packing = Packing(sources=tuple(f"{self.top}/{one}" for one in sources), out=Path("pack.zip"), **options)
            plan = plan_packing(self.world.context, packing)
            return {"/".join(member.entry.split("/")[:2]) for member in plan.members}

        self.assertEqual(tops("moon.gel"), {"pack/moon.gel"})
        self.assertEqual(tops("moon.gel", "hollow"), {"pack/moon.gel", "pack/hollow"})
        self.assertEqual(tops("hollow", wrapper="Other"), {"Other"})
        self.assertEqual(tops("moon.gel", wrapper=""), {"moon.gel"})
        self.assertEqual(tops("also.gel", "moon.gel", wrapper=""), {"also.gel", "moon.gel"})

    def test_more_volumes_than_can_be_numbered(self) -> None:
        before = self.left()
        with (
            mock.patch("usufruct.actions.packing._MOST_VOLUMES", 5),
            self.assertRaisesRegex(MachineError, "more than 5 volumes"),
        ):
            self.pack(self.top, out="v.zip", volume=500, effort=0)
        self.assertEqual(self.left(), before)

    def test_a_holding_is_packed_as_it_is_on_disk_now_and_places_again(self) -> None:
        self.world.add_files("sky.zip", {"gels/moon.gel": "1", "gels/star.gel": "2", "Owl/rig.toml": "owl"})
        (self.world.lanternbox / "Gels/moon.gel").write_text("edited")
        (self.world.lanternbox / "Gels/star.gel").unlink()
        made = self.pack("sky", out="again.zip")
        self.assertEqual([Path(one.path).name for one in made.plan.left_out], ["star.gel"])
        with zipfile.ZipFile(made.volumes[0]) as archive:
            self.assertEqual(
                {name: archive.read(name) for name in archive.namelist()},
                {"sky/Gels/moon.gel": b"edited", "sky/Puppets/Owl/rig.toml": b"owl"},
            )
        self.world.remove("sky")
        self.world.add(made.volumes[0])
        self.assertEqual(self.world.contents()["Puppets/Owl/rig.toml"], "owl")

    def test_what_makes_no_sense_is_told_and_writes_nothing(self) -> None:
        before = self.left()
        (self.world.folder / "there.zip").write_text("mine")
        for sources, options, error in (
            (["nothing"], {"out": "a.zip"}, WrongUsage),
            ([self.top], {"out": "a.rar"}, WrongUsage),
            ([self.top], {"out": "a.zip", "format": "7z"}, WrongUsage),
            ([self.top], {"out": "a.tar.gz", "is_locked": True, "password": "x"}, WrongUsage),
            ([self.top], {"out": "a.zip", "wrapper": "../up"}, WrongUsage),
            ([self.top / "hollow" / "..", self.top], {"out": "a.zip"}, WrongUsage),
            ([self.top], {"out": "there.zip"}, MachineError),
            ([self.top], {"out": "no/where.zip"}, MachineError),
        ):
            with self.subTest(options=options), self.assertRaises(error):
                self.pack(*sources, **options)  # type: ignore[arg-type]
        self.assertEqual(self.left(), sorted([*before, "there.zip"]))
        self.assertEqual((self.world.folder / "there.zip").read_text(), "mine")

    def test_a_file_that_changes_meanwhile_makes_no_archive(self) -> None:
        """Found by the reading back where it has the same size, and at once where it has not."""
        for out, change, phase in (
            ("a.zip", "MOON" * 900, "reading back"),
            ("b.zip", "longer" * 900, "packing"),
            ("c.tar", "short", "packing"),
            ("d.7z", "MOON" * 900, "reading back"),
        ):
            path = self.top / "moon.gel"
            path.write_bytes(self.content["moon.gel"])
            packing = Packing(sources=(str(self.top),), out=self.world.folder / out)
            plan = plan_packing(self.world.context, packing)

            changed: list[Progress] = []

            def watch(
                progress: Progress, phase: str = phase, change: str = change, path: Path = path,
                changed: list[Progress] = changed,
            ) -> None:  # fmt: skip
                if progress.phase == phase and progress.files >= 1 and not changed:
                    changed.append(progress)
                    path.write_text(change)

            context = replace(self.world.context, watch=watch)
            with (
                self.subTest(out),
                mock.patch("os.cpu_count", lambda: 1),
                mock.patch("usufruct.archives.zip.writer._SMALL", 0),
                self.assertRaisesRegex(MachineError, "changed while"),
            ):
                pack_planned(context, plan, packing)
            self.assertEqual([name for name in self.left() if "pack" in name or name == out], [])

    def test_an_archive_that_reads_back_otherwise_is_taken_away(self) -> None:
        def forgetful(out: Any, members: list[Member], *_: Any, **__: Any) -> None:
            with zipfile.ZipFile(out, "w") as archive:
                archive.writestr(members[0].entry, b"something else")

        with (
            mock.patch("usufruct.actions.packing.pack_members", forgetful),
            self.assertRaisesRegex(DamagedArchive, "reads back otherwise"),
        ):
            self.pack(self.top, out="a.zip")
        self.assertEqual([name for name in self.left() if "pack" in name or name == "a.zip"], [])
