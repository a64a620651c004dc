"""What is offered where it is asked which program an archive is for: every answer does what it says."""

import os
import unittest
from collections.abc import Iterator
from pathlib import Path
from unittest import mock

from msgspec.structs import replace

from tests.planning.test_packs import PACKS, applications_of, entries_of
from tests.support import WorldTest, sample_application, zip_bytes
from usufruct.actions.download import Download
from usufruct.actions.request import Request
from usufruct.actions.taking import Taken, taken
from usufruct.model.applications import Application, Programs
from usufruct.model.rulings import Decision


class OffersTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.home = self.world.folder / "person"
        self.home.mkdir()
        patched = mock.patch.dict(os.environ, {"HOME": str(self.home), "USERPROFILE": str(self.home)})
        patched.start()
        self.addCleanup(patched.stop)

    def archive(self, name: str, entries: list[str]) -> Path:
        path = self.world.folder / name
        path.write_bytes(zip_bytes({entry: entry for entry in entries}))
        return path

    def taken(self, path: Path, request: Request) -> Taken:
        download = Download([path], request)
        self.addCleanup(download.close)
        return taken(download)

    def questions(self) -> Iterator[tuple[Path, Request, Decision]]:
        for number, pack in enumerate(PACKS):
            entries = entries_of(pack)
            path = self.archive(pack["download"], [*entries, "bring.exe"] if number % 2 else entries)
            known = tuple(applications_of(pack))
            for policy in (Programs.ASK, Programs.REFUSE):
                applications = tuple(replace(one, programs=policy) for one in known)
                for request in (
                    Request(applications=applications),
                    Request(applications=applications[:1], known=applications, is_named=True),
                ):
                    way = self.taken(path, request)
                    yield from ((path, request, one) for one in way.decisions if one.is_of_whole)

    def test_each_answer_places_and_leaves_out_what_it_says(self) -> None:
        asked = tried = 0
        for path, request, decision in self.questions():
            asked += 1
            self.assertLessEqual(len([one for one in decision.options if one.answer]), 5)
            self.assertEqual([one.answer == () for one in decision.options][:1], [decision.is_open])
            for option in decision.options[decision.is_open :]:
                tried += 1
                with self.subTest(path.name, answer=option.answer):
                    variant = self.taken(path, request.with_answer(option.answer)).variant
                    assert variant
                    self.assertEqual((variant.layout.files, variant.layout.left_out), (option.files, option.left_out))
                    self.assertGreater(option.files, 0)
        self.assertGreater(asked, 100)
        self.assertGreater(tried, 200)

    def offered(self, path: Path, *applications: Application) -> list[tuple[str, ...]]:
        (decision,) = self.taken(path, Request(applications=applications)).decisions
        return [option.answer for option in decision.options]

    def test_the_one_whose_name_the_archive_bears_is_offered_first(self) -> None:
        lanternbox, weftline = sample_application("lanternbox"), sample_application("weftline")
        odd = self.archive("odd.zip", ["a/b.zzz", "a/c.zzz"])
        own = ("--to", str(self.world.folder))
        self.assertEqual(self.offered(odd, lanternbox, weftline)[:2], [(), own])
        named = self.archive("Weftline odds.zip", ["a/b.zzz", "a/c.zzz"])
        self.assertEqual(self.offered(named, lanternbox, weftline)[1][:2], ("--app", "weftline"))

    def test_so_is_a_directory_of_its_name_in_the_home_directory(self) -> None:
        odd = self.archive("odd.zip", ["Odd Things/b.zzz", "Odd Things/c.zzz"])
        self.assertEqual(self.offered(odd)[1:], [("--to", str(self.world.folder))])
        (self.home / "odd-things").mkdir()
        self.assertEqual(self.offered(odd)[1:], [("--to", str(self.home)), ("--to", str(self.world.folder))])


if __name__ == "__main__":
    unittest.main()
