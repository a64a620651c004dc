"""Links on the disk that they will lie on: whoever brought which part, nothing leads out."""

import os
import unittest

from tests.support import WorldTest, tar_bytes
from usufruct.errors import UnsafeArchive


class LinksTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.place = self.world.folder / "place"
        self.place.mkdir()

    def bring(self, name: str, files: dict[str, str], **options: object) -> str:
        archive = self.world.folder / "downloads" / name
        archive.write_bytes(tar_bytes({"in/keep": "x", **files}))
        added = self.world.add(archive, to=str(self.place), **options)
        if isinstance(added.error, UnsafeArchive):
            return added.error.message
        self.assertEqual(added.state, "added", added.error)
        return ""

    def all_stay_inside(self) -> None:
        for directory, directories, names in os.walk(self.place):
            for name in (*directories, *names):
                path = os.path.realpath(os.path.join(directory, name))
                self.assertTrue(path.startswith(f"{os.path.realpath(self.place)}/"), path)

    def test_where_a_link_may_not_lead(self) -> None:
        for number, (target, said) in enumerate({
            "/etc/passwd": "outside the destination", "C:there": "outside the destination",
            "\\there": "outside the destination", "there/../..": "goes in and climbs out again",
            "../../there": "leads out of the destination", "link": "is a link to itself", "./.": "a link to nothing",
        }.items()):  # fmt: skip
            with self.subTest(target):
                self.assertIn(said, self.bring(f"{number}.tar", {"in/link": f"->{target}"}))

    def test_a_link_that_a_second_archive_leads_further_out(self) -> None:
        self.assertEqual(self.bring("first.tar", {"in/deep/up": "->.."}), "")
        said = self.bring("second.tar", {"in/deep/out": "->up/../.."})
        self.assertIn("which goes in and climbs out again", said)
        self.all_stay_inside()

    def test_a_link_that_waits_for_a_second_archive_to_lead_it_out(self) -> None:
        self.assertIn("goes in and climbs out", self.bring("first.tar", {"in/out": "->later/.."}))
        self.assertEqual(self.bring("second.tar", {"in/later": "->keep"}), "")
        self.all_stay_inside()

    def test_two_links_that_differ_only_in_case(self) -> None:
        said = self.bring("case.tar", {"in/Up": "->deep", "in/deep/up": "->..", "in/deep/out": "->up/../../x"})
        self.assertIn("goes in and climbs out", said)
        self.all_stay_inside()

    def test_a_link_of_the_users_that_leads_out_carries_no_other_with_it(self) -> None:
        (self.place / "in").mkdir()
        (self.world.folder / "private").mkdir()
        (self.place / "in/mine").symlink_to(self.world.folder / "private")
        files = {"in/out": "->mine/diary", "in/fine": "->keep"}
        said = self.bring("out.tar", files)
        self.assertIn(f"leads out of the destination, to {os.path.realpath(self.world.folder)}/private/diary", said)
        self.assertEqual(self.bring("out.tar", files, skip_unsafe=True), "")
        self.assertEqual(sorted(os.listdir(self.place / "in")), ["fine", "keep", "mine"])

    def test_a_directory_that_a_link_of_the_users_moved_nearer_to_the_border(self) -> None:
        (self.place / "near").mkdir()
        (self.place / "in").mkdir()
        (self.place / "in/far").symlink_to(self.place / "near")
        # From in/far this would stay inside; from near, where it really lies, it does not.
        said = self.bring("far.tar", {"in/far/out": "->../../x"})
        self.assertIn("leads out of the destination", said)

    def test_a_target_of_nothing_is_refused(self) -> None:
        self.assertIn("a link to nothing", self.bring("nothing.tar", {"in/link": "->."}))


if __name__ == "__main__":
    unittest.main()
