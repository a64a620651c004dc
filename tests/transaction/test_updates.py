"""Updates: one change, layers keep their order, nothing of the user's is lost."""

import os
import shutil
import unittest
from collections.abc import Callable
from pathlib import Path

import msgspec

from tests.support import WorldTest, no_trash
from tests.transaction.kills import killed_at
from usufruct.actions.adding import Added, add_archives
from usufruct.actions.demonstration import differences
from usufruct.actions.listing import list_holdings
from usufruct.actions.recovering import put_right
from usufruct.actions.removing import remove_holdings
from usufruct.actions.showing import show_holding
from usufruct.actions.undoing import redo, undo
from usufruct.archives.reading import Access
from usufruct.errors import MachineError
from usufruct.model.choices import OnClash

FIRST = {"gels/moon.gel": "moon 1", "gels/sun.gel": "sun 1", "gels/old.gel": "old"}
SECOND = {"gels/moon.gel": "moon 2", "gels/sun.gel": "sun 1", "gels/new.gel": "new"}


class UpdateTest(WorldTest):
    def update(self, name: str = "sky", files: dict | None = None, archive: str = "sky v2.zip") -> Added:
        return self.world.add(self.world.archive(archive, files or SECOND), update=name)

    def gels(self) -> dict[str, str]:
        return {path.removeprefix("Gels/"): text for path, text in self.world.contents().items()}

    def test_an_update_is_asked_about_and_told_with_its_versions(self) -> None:
        self.world.add_files("sky v1.zip", FIRST)
        (decision,) = self.world.add(self.world.archive("sky v2.zip", SECOND)).examined.decisions
        self.assertIn("2 is newer than 1", decision.question)
        self.assertEqual([option.answer for option in decision.options], [("--update", "sky"), ("--as", "sky (2)")])
        (decision,) = self.world.add(self.world.archive("sky v0.9.zip", SECOND)).examined.decisions
        self.assertIn("0.9 is older than 1", decision.question)

    def test_new_files_come_and_those_no_longer_shipped_go(self) -> None:
        before = self.world.tree()
        self.world.add_files("sky v1.zip", FIRST)
        updated = self.update()
        self.assertEqual((updated.state, updated.placed.taken), ("updated", 1))
        self.assertEqual(self.gels(), {"moon.gel": "moon 2", "sun.gel": "sun 1", "new.gel": "new"})
        self.assertEqual(self.world.strays(), [])
        self.world.remove("sky")
        self.assertEqual(differences(before, self.world.tree()), [])

    def test_files_of_the_earlier_version_are_not_said_to_be_backed_up(self) -> None:
        """An update said of its own files that they were backed up, and no backup of them was there."""
        self.world.write({"Gels/new.gel": "mine"})
        self.world.add_files("sky v1.zip", FIRST)
        placed = self.update().placed
        self.assertEqual((placed.renewed, len(placed.replaced), len(placed.shared)), (1, 1, 1))

    def test_what_the_first_version_replaced_comes_back_after_the_second(self) -> None:
        self.world.write({"Gels/moon.gel": "mine", "Gels/old.gel": "mine too", "Gels/new.gel": "and this"})
        before = self.world.tree()
        self.world.add_files("sky v1.zip", FIRST)
        self.update()
        self.assertEqual(self.gels()["old.gel"], "mine too")
        self.world.remove("sky")
        self.assertEqual(differences(before, self.world.tree()), [])

    def test_a_file_that_was_shared_with_the_original_is_backed_up_once_they_part(self) -> None:
        self.world.write({"Gels/moon.gel": "moon 1"})
        before = self.world.tree()
        self.world.add_files("sky v1.zip", FIRST)
        self.update()
        self.assertEqual(self.gels()["moon.gel"], "moon 2")
        self.world.remove("sky")
        self.assertEqual(differences(before, self.world.tree()), [])

    def test_a_holding_beneath_another_is_updated_without_touching_the_disk(self) -> None:
        before = self.world.tree()
        self.world.add_files("sky v1.zip", FIRST)
        self.world.add_files("moons.zip", {"moon.gel": "moon of another"})
        self.update()
        self.assertEqual(self.gels()["moon.gel"], "moon of another")
        self.world.remove("moons")
        self.assertEqual(self.gels()["moon.gel"], "moon 2")
        self.world.remove("sky")
        self.assertEqual(differences(before, self.world.tree()), [])

    def test_an_undone_update_leaves_the_first_version_with_its_files_and_size(self) -> None:
        self.world.add_files("sky v1.zip", FIRST)
        (first,) = list_holdings(self.world.context)
        self.update()
        undo(self.world.context_with_definitions(), Access())
        (again,) = list_holdings(self.world.context)
        self.assertEqual((again.files, again.size, again.is_partial), (first.files, first.size, False))

    def test_a_run_of_equal_layers_is_parted_in_the_middle(self) -> None:
        self.world.write({"Gels/moon.gel": "moon 1"})
        before = self.world.tree()
        self.world.add_files("sky v1.zip", FIRST)
        self.world.add_files("same.zip", {"moon.gel": "moon 1"})
        self.update()
        self.world.remove("same")
        self.assertEqual(self.gels()["moon.gel"], "moon 2")
        self.world.remove("sky")
        self.assertEqual(differences(before, self.world.tree()), [])

    def test_an_edited_file_keeps_its_name_and_the_new_one_goes_beside_it(self) -> None:
        self.world.add_files("sky v1.zip", FIRST)
        self.world.write({"Gels/moon.gel": "edited", "Gels/old.gel": "edited too"})
        updated = self.update()
        self.assertEqual(len(updated.placed.kept), 2)
        self.assertEqual(
            self.gels(),
            {
                "moon.gel": "edited",
                "moon (2).gel": "moon 2",
                "sun.gel": "sun 1",
                "new.gel": "new",
                "old.gel": "edited too",
            },
        )
        # All say the same of its size, which is that of what was placed.
        shown = show_holding(self.world.context, "sky")
        self.assertEqual(shown.holding.size, sum(file.state.size for file in shown.files))
        removal = self.world.remove("sky")[0]
        self.assertEqual(len(removal.removed.left), 2)
        self.assertEqual(self.gels(), {"moon.gel": "edited", "old.gel": "edited too"})

    def test_files_of_the_users_that_the_earlier_version_spared_are_spared_again(self) -> None:
        """Placed beside the user's own with `--on-clash both`, its update replaced that own file without a word."""
        beside, kept, replaced = (
            {"moon.gel": "mine", "moon (2).gel": "moon 2"},
            {"moon.gel": "mine"},
            {"moon.gel": "moon 2"},
        )
        asked = {"on_clash": "ask", "on_clash_of": (("gels/moon.gel", OnClash.BOTH),)}
        for earlier, now, expected in (
            ({"on_clash": "both"}, None, beside),
            ({"on_clash": "keep"}, None, kept),
            ({"on_clash": "newer"}, None, kept),
            ({"on_clash": "keep", "claim": True}, None, kept),
            (asked, None, beside),
            ({"on_clash": "both"}, "replace", replaced),
            ({"on_clash": "existing"}, None, replaced),
            ({}, None, replaced),
        ):
            with self.subTest(earlier=earlier, now=now):
                self.world.write({"Gels/moon.gel": "mine"})
                os.utime(self.world.lanternbox / "Gels/moon.gel")
                self.world.add_files("sky v1.zip", {**FIRST, "gels/moon.gel": "moon 1"}, **earlier)
                request = self.world.request(update="sky", **({"on_clash": now} if now else {}))
                request = msgspec.structs.replace(request, conflict_is_said=now is not None)
                archive = self.world.archive("sky v2.zip", SECOND)
                (added,) = add_archives(self.world.context, [archive], request, lambda _: None)
                self.assertEqual(added.state, "updated")
                found = {name: text for name, text in self.gels().items() if name.startswith("moon")}
                self.assertEqual(found, expected)
                # The command that is shown says so, and the next version goes on like this.
                is_said = earlier is not asked and (expected is not replaced or now)
                self.assertEqual("--on-clash" in added.examined.request.words(), bool(is_said))
                self.world.remove("sky")

    def test_an_update_takes_nothing_out_of_pieces_of_other_programs(self) -> None:
        self.world.add_files("yarns v1.zip", {"blue.yarn": "blue"})
        pieces = {"Owl/rig.toml": "owl", "Owl/tail.yarn": "tail", "blue.yarn": "blue 2"}
        self.assertEqual(self.update("yarns", pieces, "yarns v2.zip").state, "updated")
        weftline = self.world.contents(self.world.folder / "apps/Weftline")
        self.assertEqual(weftline, {"Yarns/blue.yarn": "blue 2"})

    def test_a_deleted_file_comes_back_with_an_update(self) -> None:
        self.world.write({"Gels/moon.gel": "mine"})
        before = self.world.tree()
        self.world.add_files("sky v1.zip", FIRST)
        (self.world.lanternbox / "Gels/moon.gel").unlink()
        self.update()
        self.assertEqual(self.gels()["moon.gel"], "moon 2")
        self.world.remove("sky")
        self.assertEqual(
            [path for path in differences(before, self.world.tree()) if "Lanternbox/Gels differs" not in path], []
        )

    def test_a_file_becomes_a_directory_and_a_directory_a_file(self) -> None:
        """Whatever the user did to either is kept, and what comes goes beside it."""
        file, folder = {"a/x": "file", "k": "k"}, {"a/x/y": "deep", "a/x/z/q": "q", "k": "k"}
        of_folder = {"a/x/y": "deep", "a/x/z/q": "q"}

        def edit(name: str) -> Callable[[Path], object]:
            return lambda top: (top / name).write_text("edited")

        def unlink(top: Path) -> None:
            (top / "a/x").unlink()

        def nothing(top: Path) -> None:
            pass

        table: tuple[tuple[dict[str, str], Callable[[Path], object], dict[str, str], dict[str, str]], ...] = (
            (file, nothing, folder, of_folder),
            (folder, nothing, file, {"a/x": "file"}),
            (file, unlink, folder, of_folder),
            (folder, lambda top: shutil.rmtree(top / "a/x"), file, {"a/x": "file"}),
            (file, edit("a/x"), folder, {"a/x": "edited", "a/x (2)/y": "deep", "a/x (2)/z/q": "q"}),
            (folder, edit("a/x/y"), file, {"a/x/y": "edited", "a/x (2)": "file"}),
            (folder, edit("a/x/mine"), file, {"a/x/mine": "edited", "a/x (2)": "file"}),
        )
        for number, (first, doing, second, after) in enumerate(table):
            with self.subTest(number):
                top = self.world.folder / "apps" / f"top-{number}"
                top.mkdir()
                self.world.add_files(f"pack-{number}.zip", first, to=str(top), name=f"one-{number}")
                doing(next(top.iterdir()))
                updated = self.world.add(
                    self.world.archive(f"pack-{number} v2.zip", second), to=str(top), update=f"one-{number}"
                )
                self.assertEqual((updated.state, updated.error), ("updated", None))
                self.assertEqual(self.world.contents(next(top.iterdir())), {**after, "k": "k"})
                self.world.remove(f"one-{number}")
                kept = {path: text for path, text in after.items() if text == "edited"}
                self.assertEqual(self.world.contents(next(top.iterdir(), top)), kept)

    def test_a_folder_of_the_users_in_the_way_is_refused_in_an_update_too(self) -> None:
        self.world.add_files("pack.zip", {"k": "k"}, to=str(self.world.lanternbox))
        self.world.write({"pack/x/mine": "mine"})
        newer = self.world.archive("pack v2.zip", {"x": "file", "k": "k"})
        updated = self.world.add(newer, to=str(self.world.lanternbox), update="pack")
        self.assertEqual(updated.state, "refused")
        self.assertIn("pack/x is already there", str(updated.error))

    def test_such_an_update_is_undone_and_redone_and_killed_like_any_other(self) -> None:
        to, file, folder = str(self.world.lanternbox), {"x": "file", "k": "k"}, {"x/y/z": "deep", "k": "k"}
        context = self.world.context_with_definitions()
        before = self.world.tree()
        for first, second in ((file, folder), (folder, file)):
            newer = self.world.archive("pack v2.zip", second)
            doings = (
                lambda newer=newer: self.world.add(newer, to=to, update="pack"),
                lambda: undo(context, Access()),
                lambda: redo(context, Access()),
            )
            of_first, of_second = ({f"pack/{path}": text for path, text in one.items()} for one in (first, second))
            self.world.add_files("pack v1.zip", first, to=to)
            for doing, started, ended in zip(
                doings, (of_first, of_second, of_first), (of_second, of_first, of_second), strict=True
            ):
                number, is_done = 0, False
                while not is_done:
                    point = killed_at(self.world, doing, number)
                    with self.subTest(point=point, number=number, ended=ended):
                        # Going back is cut off as well.
                        killed_at(self.world, lambda: put_right(context), number % 5)
                        put_right(context)
                        is_done = point is None or self.world.contents() == ended
                        self.assertEqual(self.world.contents(), ended if is_done else started)
                        self.assertEqual(self.world.strays(), [])
                    number += 1
            self.world.remove("pack")
            self.assertEqual(differences(before, self.world.tree()), [])

    def test_what_another_program_puts_into_the_place_of_a_folder_is_not_undone_over(self) -> None:
        context, to = self.world.context_with_definitions(), str(self.world.lanternbox)
        self.world.add_files("pack v1.zip", {"x/y": "deep", "k": "k"}, to=to)
        newer = self.world.archive("pack v2.zip", {"x": "file", "k": "k"})
        killed_at(self.world, lambda: self.world.add(newer, to=to, update="pack"), 0, "switched-all")
        theirs = self.world.lanternbox / "pack/x"
        theirs.write_text("another program's")
        put_right(context)
        self.assertEqual(theirs.read_text(), "another program's")
        theirs.rename(self.world.folder / "moved away")
        put_right(context)
        self.assertEqual(self.world.contents(), {"pack/x/y": "deep", "pack/k": "k"})
        self.assertEqual(self.world.add(newer, to=to, update="pack").state, "updated")
        theirs.write_text("edited")
        with self.assertRaisesRegex(MachineError, "is already there"):
            undo(context, Access())

    def test_a_name_as_long_as_names_can_be_goes_beside_and_into_the_trash(self) -> None:
        """A number behind it ended with "File name too long", and nothing else could be done with the holding."""
        name = "m" * 251 + ".gel"
        before = self.world.tree()
        self.world.add_files("long v1.zip", {f"gels/{name}": "first"})
        (self.world.lanternbox / "Gels" / name).write_text("edited")
        updated = self.world.add(self.world.archive("long v2.zip", {f"gels/{name}": "second"}), update="long")
        self.assertEqual((updated.state, updated.error), ("updated", None))
        self.assertEqual(self.gels(), {name: "edited", "m" * 247 + " (2).gel": "second"})
        beside = self.world.add(self.world.archive("x.zip", {f"gels/{name}": "third"}), on_clash="both")
        self.assertEqual((beside.state, self.gels()["m" * 247 + " (3).gel"]), ("added", "third"))
        with no_trash():
            removals = remove_holdings(self.world.context, ["long", "x"], lambda _: None, gives_back_changed=True)
        self.assertEqual(differences(before, self.world.tree()), [])
        self.assertEqual([Path(path).read_text() for one in removals for path in one.kept], ["edited"])

    def test_a_file_given_back_shares_no_bytes_with_a_backup_that_is_still_needed(self) -> None:
        """Edited in place, such a file once changed the backup of another file of the same content with it."""
        self.world.write({"Gels/own.gel": "alike"})
        self.world.add_files("sky v1.zip", {"gels/moon.gel": "alike"})
        self.world.add_files("moons.zip", {"gels/moon.gel": "over"})
        self.update(files={"gels/moon.gel": "other", "gels/own.gel": "theirs"})
        undo(self.world.context_with_definitions(), Access())
        with (self.world.lanternbox / "Gels/own.gel").open("r+") as file:
            file.write("ALIKE")
        self.world.remove("moons")
        self.assertEqual(self.gels(), {"moon.gel": "alike", "own.gel": "ALIKE"})

    def test_the_same_again_changes_nothing_and_another_application_is_refused(self) -> None:
        self.world.add_files("sky v1.zip", FIRST)
        self.assertEqual(self.world.add(self.world.archive("sky v1.zip", FIRST)).state, "already added")
        repacked = self.world.folder / "downloads" / "sky v1.tar"
        self.assertEqual(self.world.add(self.world.archive(repacked.name, FIRST)).state, "already added")
        self.assertIn("no holding called cloud", self.update("cloud").error.message)


class ClashTest(WorldTest):
    def setUp(self) -> None:
        super().setUp()
        self.world.write({"Gels/moon.gel": "mine", "Puppets/Owl/rig.toml": "mine"})
        self.before = self.world.tree()

    def add(self, files: dict[str, str], **options: object) -> dict[str, str]:
        self.world.add_files("sky.zip", files, **options)
        found = self.world.contents()
        self.world.remove("sky")
        self.assertEqual(differences(self.before, self.world.tree()), [])
        return found

    def test_each_policy(self) -> None:
        files = {"gels/moon.gel": "theirs", "gels/sun.gel": "sun"}
        both = self.add(files, on_clash="both")
        self.assertEqual((both["Gels/moon.gel"], both["Gels/moon (2).gel"]), ("mine", "theirs"))
        self.assertEqual(self.add(files, on_clash="keep")["Gels/moon.gel"], "mine")
        existing = self.add(files, on_clash="existing")
        self.assertEqual(existing["Gels/moon.gel"], "theirs")
        self.assertNotIn("Gels/sun.gel", existing)

    def test_newer_compares_times(self) -> None:
        files = {"gels/moon.gel": "theirs"}
        self.assertEqual(self.add(files, on_clash="newer")["Gels/moon.gel"], "theirs")
        import os

        os.utime(self.world.lanternbox / "Gels/moon.gel")
        self.before = self.world.tree()
        self.assertEqual(self.world.add(self.world.archive("sky.zip", files), on_clash="newer").state, "refused")

    def test_a_piece_goes_beside_another_as_a_whole(self) -> None:
        found = self.add({"Owl/rig.toml": "theirs", "Owl/parts/a.svg": "a"}, on_clash="both")
        self.assertEqual(found["Puppets/Owl/rig.toml"], "mine")
        self.assertEqual(found["Puppets/Owl (2)/rig.toml"], "theirs")
        self.assertEqual(found["Puppets/Owl (2)/parts/a.svg"], "a")

    def test_ask_is_a_question_with_each_answer(self) -> None:
        asked = self.world.add(self.world.archive("sky.zip", {"gels/moon.gel": "theirs"}), on_clash="ask")
        answers = [option.answer[1] for option in asked.examined.decisions[0].options]
        self.assertEqual(answers, ["replace", "keep", "newer", "both"])
        self.assertEqual(self.world.contents()["Gels/moon.gel"], "mine")

    def test_a_free_name_is_not_one_that_the_record_still_knows(self) -> None:
        self.world.add_files("one.zip", {"gels/moon (2).gel": "two"})
        (self.world.lanternbox / "Gels/moon (2).gel").unlink()
        self.world.add_files("sky.zip", {"gels/moon.gel": "theirs"}, on_clash="both")
        self.assertIn("Gels/moon (3).gel", self.world.contents())


if __name__ == "__main__":
    unittest.main()
