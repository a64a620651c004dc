"""A download opened, opened with what is in it, or whole; locked, badly named, still arriving."""

import contextlib
import os
import unittest

from msgspec.structs import replace

from tests.archives.zip_writer import Item, zip_of
from tests.support import DOWNLOADS, WorldTest, zip_bytes
from usufruct.actions.adding import add_archives
from usufruct.actions.applications import known_applications
from usufruct.actions.download import Download
from usufruct.actions.looking import look_at
from usufruct.actions.repairing import repair
from usufruct.actions.request import Request
from usufruct.archives.allowance import Limits
from usufruct.archives.passwords import Passwords
from usufruct.archives.reading import Access
from usufruct.errors import PasswordNeeded, StillArriving, UnsafeArchive, WrongPassword
from usufruct.files.platform import Platform
from usufruct.model.choices import Choices
from usufruct.model.rulings import SkippedKind

OWL = zip_bytes({"rig.toml": "joints = 3", "parts/head.svg": "head"})
GELS = zip_bytes({"moon.gel": "moon", "sun.gel": "sun"})


class NestedTest(WorldTest):
    def test_an_archive_that_only_holds_archives_is_opened_in_turn(self) -> None:
        self.world.add_files("season.zip", {"Barn Owl v2.zip": OWL, "gels/dusk.zip": GELS, "readme.txt": "hello"})
        self.assertEqual(
            self.world.contents(),
            {
                "Puppets/Barn Owl/rig.toml": "joints = 3",
                "Puppets/Barn Owl/parts/head.svg": "head",
                "Gels/moon.gel": "moon",
                "Gels/sun.gel": "sun",
            },
        )

    def test_the_name_of_an_archive_inside_counts_only_if_it_says_something(self) -> None:
        """Pictures in a `content.zip` came into a folder called content, whatever the download was called."""
        for number, (inner, name) in enumerate((("content.zip", "Moths"), ("Night Moths.zip", "Night Moths"))):
            pictures = zip_bytes({f"{number}.png": "a", f"{number} more.png": "b"})
            self.world.add_files("Moths.zip", {inner: pictures}, name=f"moths {number}")
            self.assertIn(f"Backdrops/{name}/{number}.png", self.world.contents())

    def test_a_repair_opens_the_archive_as_it_was_opened_when_it_was_added(self) -> None:
        """A puppet's yarn kept the archive inside closed, because the repair did not know that it was a puppet."""
        files = {"Owl/rig.toml": "owl", "Owl/tail.yarn": "tail", "more.zip": zip_bytes({"blue.yarn": "blue"})}
        request = Request(applications=self.world.applications).with_answer(("--app", "weftline"))
        context = self.world.context_with_definitions()
        (added,) = add_archives(context, [self.world.archive("yarns.zip", files)], request, lambda _: None)
        self.assertEqual(added.state, "added")
        placed = self.world.folder / "apps/Weftline/Yarns/blue.yarn"
        placed.unlink()
        repair(context, "yarns", Access(), None, gives_back_changed=False)
        self.assertEqual(placed.read_text(), "blue")

    def test_beside_something_to_place_it_stays_closed_unless_asked_for(self) -> None:
        files = {"gels/day.gel": "day", "more.zip": GELS}
        self.world.add_files("mixed.zip", files)
        self.assertEqual(set(self.world.contents()), {"Gels/day.gel"})
        added = self.world.add_files("mixed.zip", files, name="again", nested=True)
        self.assertEqual(set(self.world.contents()), {"Gels/day.gel", "Gels/moon.gel", "Gels/sun.gel"})
        entries = {added.examined.layout.listing.path(row) for row in added.examined.layout.placed_rows()}
        self.assertIn("more.zip/moon.gel", entries)

    def test_a_picture_and_check_sums_beside_it_keep_no_archive_closed(self) -> None:
        files = {"Owls.zip": zip_bytes({"Owl/rig.toml": "r", "Owl/head.svg": "h"}), "SHA256SUMS.txt": "0 Owls.zip",
                 "shop.png": "picture"}  # fmt: skip
        self.world.add_files("owls and more.zip", files)
        self.assertLessEqual({"Puppets/Owl/rig.toml", "Puppets/Owl/head.svg"}, set(self.world.contents()))

    def test_what_is_inside_counts_where_it_says_more_than_what_lies_beside(self) -> None:
        inner = zip_bytes({"Owl/rig.toml": "r"})
        self.world.add_files("owls.zip", {"sample.gel": "g", "Owls.zip": inner})
        self.assertEqual(set(self.world.contents()), {"Puppets/Owl/rig.toml", "Gels/sample.gel"})

    def test_parts_that_are_named_together_complete_one_another_and_the_later_lies_over_the_earlier(self) -> None:
        parts = [
            self.world.archive("disk 1.zip", {"Owl/rig.toml": "r", "Owl/index.json": "one"}),
            self.world.archive("disk 2.zip", {"Owl/wing.svg": "w", "Owl/index.json": "one and two"}),
        ]
        request = replace(self.world.request(), together=True)
        added = add_archives(self.world.context, parts, request, lambda _: None)
        self.assertEqual([one.state for one in added], ["added"])
        self.assertEqual(
            self.world.contents(),
            {"Puppets/Owl/rig.toml": "r", "Puppets/Owl/wing.svg": "w", "Puppets/Owl/index.json": "one and two"},
        )
        layout = added[0].examined.layout
        assert layout
        self.assertIn("a later part replaces", " ".join(aside.reason for aside in layout.skipped))

    def test_two_archives_inside_that_clash_are_alternatives_by_their_names(self) -> None:
        other = zip_bytes({"moon.gel": "another moon", "sun.gel": "another sun"})
        archive = self.world.archive("both.zip", {"Warm v1.zip": GELS, "Cold v1.zip": other})
        added = self.world.add(archive)
        self.assertEqual(added.state, "refused")
        names = {option.name for option in added.examined.decisions[0].options}
        self.assertLessEqual({"Warm", "Cold"}, names)
        self.world.add_files("both.zip", {"Warm v1.zip": GELS, "Cold v1.zip": other}, choose=("cold",))
        self.assertEqual(self.world.contents()["Gels/moon.gel"], "another moon")
        self.world.remove("both")
        # Those of one tidy name are called as their files are.
        alike = {"Warm v1.zip": GELS, "Warm v2.zip": other}
        added = self.world.add(self.world.archive("both.zip", alike))
        names = {option.name for option in added.examined.decisions[0].options}
        self.assertLessEqual({"Warm v1.zip", "Warm v2.zip"}, names)

    def test_three_levels_are_opened_and_no_more(self) -> None:
        def wrapped(levels: int) -> dict[str, bytes]:
            content = GELS
            for number in range(levels - 1):
                content = zip_bytes({f"level{number}.zip": content})
            return {"inner.zip": content}

        self.world.add_files("three.zip", wrapped(3))
        self.assertEqual(set(self.world.contents()), {"Gels/moon.gel", "Gels/sun.gel"})
        deep = self.world.add(self.world.archive("four.zip", wrapped(4)))
        self.assertEqual(deep.state, "refused")

    def test_what_is_called_an_archive_but_is_none_stays_a_file(self) -> None:
        added = self.world.add(self.world.archive("odd.zip", {"a.zip": "no archive", "b.zip": GELS}))
        self.assertEqual(added.state, "added")
        kinds = {aside.kind for aside in added.examined.layout.skipped}
        self.assertEqual(kinds, {SkippedKind.ARCHIVE})

    def test_a_bomb_of_archives_in_archives_stops(self) -> None:
        bomb = zip_bytes({f"{n}.zip": zip_bytes({"x.gel": bytes(3_000_000)}) for n in range(9)})
        path = self.world.archive("bomb.zip", {"in.zip": bomb})
        request = replace(self.world.request(nested=True), access=Access(limits=Limits(free=1 << 20, ratio=200)))
        result = next(look_at(self.world.context, [path], request))
        self.assertIsInstance(result.error, UnsafeArchive)
        self.assertEqual(self.world.contents(), {})

    def test_unsafe_entries_of_an_inner_archive_refuse_the_whole(self) -> None:
        added = self.world.add(self.world.archive("sly.zip", {"in.zip": zip_bytes({"../up.gel": "x", "a.gel": "a"})}))
        self.assertIsInstance(added.error, UnsafeArchive)
        self.assertIn("in.zip/../up.gel", added.error.message)


class WholeTest(WorldTest):
    """Lanternbox here also takes `.lbpack` files, which are zips inside."""

    def setUp(self) -> None:
        super().setUp()
        lanternbox, *others = self.world.applications
        *folders, gels = lanternbox.folders
        gels = replace(gels, takes=(*gels.takes, "*.lbpack", "*.lbp"))
        self.world.applications = (replace(lanternbox, folders=(*folders, gels)), *others)

    def test_a_container_that_a_folder_takes_is_placed_whole(self) -> None:
        self.world.add_files("dusk.lbpack.zip", {"dusk.lbpack": GELS})
        self.assertEqual(set(self.world.contents()), {"Gels/dusk.lbpack"})

    def test_the_download_itself_is_placed_whole_where_its_content_says_no_more(self) -> None:
        path = self.world.archive("moon.lbpack.zip", {"x": "x"}).with_name("moon.lbpack")
        path.write_bytes(zip_bytes({"data.bin": "z"}))
        self.assertEqual(self.world.add(path).state, "added")
        self.assertEqual(set(self.world.contents()), {"Gels/moon.lbpack"})

    def test_both_alike_is_a_question_with_two_answers(self) -> None:
        path = self.world.folder / "downloads" / "dusk.lbp"
        path.write_bytes(GELS)
        asked = self.world.add(path)
        self.assertEqual(
            [option.answer for option in asked.examined.decisions[0].options],
            [("--choose", "whole"), ("--choose", "opened")],
        )
        self.world.add(path, choose=("opened",))
        self.assertEqual(set(self.world.contents()), {"Gels/moon.gel", "Gels/sun.gel"})
        self.world.remove("dusk")
        self.world.add(path, choose=("whole",))
        self.assertEqual(set(self.world.contents()), {"Gels/dusk.lbp"})

    def test_of_two_alike_the_narrower_pattern_says_more(self) -> None:
        path = self.world.folder / "downloads" / "dusk.lbpack"
        path.write_bytes(GELS)
        self.assertEqual(self.world.add(path).state, "added")
        self.assertEqual(set(self.world.contents()), {"Gels/dusk.lbpack"})

    def test_content_of_its_own_type_says_more_than_that_a_folder_takes_zips(self) -> None:
        lanternbox, *others = self.world.applications
        *folders, gels = lanternbox.folders
        gels = replace(gels, takes=(*gels.takes, "*.zip"))
        self.world.applications = (replace(lanternbox, folders=(*folders, gels)), *others)
        self.world.add_files("dusk.zip", {"moon.gel": "moon", "sun.gel": "sun"})
        self.assertEqual(set(self.world.contents()), {"Gels/moon.gel", "Gels/sun.gel"})

    def test_a_download_that_is_no_archive_is_one_entry(self) -> None:
        path = self.world.folder / "downloads" / "moon.gel"
        path.write_text("moon")
        os.utime(path, (1e9, 1e9))
        self.assertEqual(self.world.add(path).state, "added")
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "moon"})
        self.assertEqual((self.world.lanternbox / "Gels/moon.gel").stat().st_mtime, 1e9)


class AccessTest(WorldTest):
    def locked(self) -> "os.PathLike[str]":
        path = self.world.folder / "downloads" / "locked.zip"
        path.write_bytes(zip_of([Item(b"Gels/moon.gel", b"moon", "moth", 32)])[0])
        return path

    def test_the_password_is_asked_before_anything_is_staged(self) -> None:
        path = self.locked()
        for known, error in (((), None), (("wasp",), WrongPassword)):
            access = Access(passwords=Passwords(known, given=bool(known)))
            added = add_archives(
                self.world.context, [path], replace(self.world.request(), access=access), lambda _: None
            )[0]
            self.assertEqual(added.state, "refused")
            if error:
                self.assertIsInstance(added.error, error)
            self.assertEqual(self.world.contents(), {})
        access = Access(passwords=Passwords(("moth",), given=True))
        add_archives(self.world.context, [path], replace(self.world.request(), access=access), lambda _: None)
        self.assertEqual(self.world.contents(), {"Gels/moon.gel": "moon"})

    def test_look_shows_a_locked_archive_and_asks_nobody(self) -> None:
        asked = []
        access = Access(passwords=Passwords((), lambda name, attempt: asked.append(name)))
        result = next(look_at(self.world.context, [self.locked()], replace(self.world.request(), access=access)))
        self.assertEqual([placement.to for placement in result.layout.placements], ["Gels/moon.gel"])
        self.assertEqual(result.obstacle.exit_code, PasswordNeeded.exit_code)
        self.assertEqual(asked, [])

    def test_half_a_download_is_still_arriving(self) -> None:
        path = self.world.archive("moon.zip", {"Gels/moon.gel": "moon"})
        os.rename(path, f"{path}.part")
        for name in (f"{path}.part", path):
            if name is path:  # the name that a browser reserves for the finished file
                path.write_bytes(b"")
            result = next(look_at(self.world.context, [type(path)(name)], self.world.request()))
            self.assertIsInstance(result.error, StillArriving)

    def test_names_that_the_destination_cannot_spell_get_another(self) -> None:
        windows = replace(self.world.context, platform=Platform(has_windows_names=True))
        files = {"Gels/what?.gel": "a", "Gels/what_.gel": "b", "Gels/dots..gel": "c", "Gels/aux.gel": "d"}
        path = self.world.archive("odd.zip", files)
        refused = next(look_at(windows, [path], self.world.request()))
        self.assertIsInstance(refused.error, UnsafeArchive)
        self.assertIn("aux.gel", refused.error.message)
        add_archives(windows, [path], self.world.request(skip_unsafe=True), lambda _: None)
        self.assertEqual(
            self.world.contents(), {"Gels/what_.gel": "b", "Gels/what_ (2).gel": "a", "Gels/dots..gel": "c"}
        )

    def test_what_is_unsafe_is_told_as_such_where_there_is_a_question_too(self) -> None:
        """It used to be asked, whose answer was then refused; and nothing was said where nothing else was left."""
        deep = self.world.archive("deep.zip", {"a/" * 600 + "x.zzz": "deep"})
        mixed = self.world.archive("mixed.zip", {"../../x.zzz": "out", "x.zzz": "in"})
        split = self.world.archive("split.zip", {"../x.gel": "out", "a/x.gel": "a", "b/x.gel": "b"})
        for path, choices, rest in (
            (deep, {}, False),
            (deep, {"skip_unsafe": True}, False),
            (mixed, {}, True),
            (split, {}, True),
        ):
            with self.subTest(path=path.name, choices=choices):
                result = next(look_at(self.world.context, [path], self.world.request(**choices)))
                self.assertIsInstance(result.error, UnsafeArchive)
                self.assertEqual("--skip-unsafe" in result.error.remedy, rest)
                self.assertLess(len(result.error.message), 300)
        rest = next(look_at(self.world.context, [mixed], self.world.request(skip_unsafe=True)))
        self.assertIn("does not know which program", rest.decisions[0].question)

    def test_a_name_longer_than_the_file_system_holds_is_shortened(self) -> None:
        self.world.add_files("long.zip", {f"Gels/{'moon' * 70}.gel": "a", f"Gels/{'moon' * 71}.gel": "b"})
        names = list(self.world.contents())
        self.assertEqual(len(names), 2)
        self.assertTrue(all(name.endswith(".gel") and len(name) <= 260 for name in names))


class VariantsTest(WorldTest):
    """Who is left out by names alone would have been given nothing, archives inside and whole files too."""

    def test_nobody_is_left_out_who_would_be_given_anything(self) -> None:
        inner = zip_bytes({"Owl/rig.toml": "r", "Owl/a.svg": "a"})
        deeper = zip_bytes({"pack.zip": inner, "readme.txt": "hi"})
        more = {
            "inner.zip": {"wrap/inner.zip": inner, "readme.txt": "hi"},
            "deeper.zip": {"wrap/deeper.zip": deeper},
            "beside.zip": {"gels/moon.gel": "m", "wool.zip": zip_bytes({"threads/wool.yarn": "w"})},
            "nobody's.zip": {"a.xyz": "a", "b/c.xyz": "b"},
            "by name.zip": {"Some Lanternbox/x.xyz": "x", "linen.yarn": "l"},
        }
        paths = [self.world.archive(name, files) for name, files in more.items()]
        paths += sorted(
            one for one in DOWNLOADS.iterdir() if one.suffix in (".zip", ".gz", ".xz") and "half" not in one.name
        )
        applications = tuple(known_applications(self.world.context_with_definitions()))
        counts = []
        for path in paths:
            for nested in (False, True):
                request = Request(applications=applications, access=Access(), choices=Choices(nested=nested))
                with self.subTest(path.name, nested=nested), contextlib.closing(Download([path], request)) as download:
                    taken = {one.layout.application for one in download.variants()}
                    counts.append(len(taken))
                    for application in applications:
                        if application not in taken:
                            layout = download.variant_for(application).layout
                            self.assertEqual((layout.files, max(layout.evidence_of)), (0, 0), application.name)
        self.assertLess(min(counts), len(applications))


if __name__ == "__main__":
    unittest.main()
