"""What only the user can decide, from values alone: every question, when it is put and what its answers are."""

import unittest
from collections.abc import Sequence

from msgspec.structs import replace

from tests.planning.test_conflicts import MINE, NOW, at, gel, plan
from tests.support import sample_application
from usufruct.model.choices import OnClash
from usufruct.model.entries import Entry
from usufruct.model.holdings import Holding
from usufruct.model.records import FileKind, FileState, Layer
from usufruct.model.rulings import Decision
from usufruct.planning.names import folded
from usufruct.planning.questions import (
    Naming,
    autostart_question,
    conflict_question,
    in_the_way,
    naming,
    nothing_fits_question,
    others_question,
)

PACK = Holding(
    number=1,
    name="pack",
    application="lanternbox",
    root="/world",
    archive="/downloads/pack v1.zip",
    archive_size=9,
    archive_digest=b"one",
    format="zip",
    tidy_name="pack",
    version="1",
    origin="",
    choices="{}",
    added=NOW,
    files=1,
    size=4,
)
THEIRS = FileState(FileKind.FILE, 6, NOW, 0o644, 8, b"theirs")


def answers(decision: Decision | None) -> list[tuple[str, ...]]:
    return [option.answer for option in decision.options] if decision else []


class NamingTest(unittest.TestCase):
    def named(self, *taken: str, same: Sequence[Holding] = (), wished: str = "", file: str = "pack v2.zip") -> Naming:
        keys = set(map(folded, taken))
        return naming(
            plan(gel()), file, wished or "pack", same, lambda name: folded(name) in keys, is_wished=bool(wished)
        )

    def test_a_name_that_is_free_is_taken_as_it_is(self) -> None:
        self.assertEqual(self.named(), Naming(name="pack"))
        self.assertEqual(self.named("pack", wished="moons"), Naming(name="moons"))

    def test_a_name_that_is_taken_by_something_else_gets_a_number_that_no_holding_has_in_any_spelling(self) -> None:
        """`pack (2)` is taken by `Pack-(2)`: names that are compared as one cannot both be given."""
        self.assertEqual(self.named("Pack", "Pack-(2)"), Naming(name="pack (3)"))

    def test_a_name_that_is_wished_for_and_taken_is_asked_about(self) -> None:
        found = self.named("moons", "moons (2)", wished="moons")
        assert found.question
        self.assertIn("There is a holding called moons already", found.question.question)
        self.assertEqual(answers(found.question), [("--as", "moons (3)")])

    def test_an_archive_of_the_same_name_is_an_update_or_stands_beside(self) -> None:
        for file, said in (
            ("pack v2.zip", "2 is newer than 1"),
            ("pack v0.9.zip", "0.9 is older than 1"),
            ("pack.zip", "from another archive. Is"),
        ):
            found = self.named("pack", same=[PACK], file=file)
            assert found.question
            self.assertIn(said, found.question.question)
            self.assertEqual(answers(found.question), [("--update", "pack"), ("--as", "pack (2)")])
        self.assertIsNone(self.named("pack", same=[PACK], wished="moons").question)

    def test_the_very_same_content_in_another_archive_is_there_already(self) -> None:
        there = {"moon.gel": at(MINE, Layer(0, PACK.number, MINE))}
        for holding, same, is_there in (
            (PACK, {0}, True),
            (PACK, set(), False),
            (replace(PACK, files=2), {0}, False),
            (replace(PACK, is_partial=True), {0}, False),
            (replace(PACK, number=2), {0}, False),
        ):
            shared = plan(gel(), there=there, same=same)
            found = naming(shared, "pack.zip", "pack", [holding], {"pack"}.__contains__, is_wished=False)
            self.assertEqual(found.is_there, is_there)
            self.assertEqual(found.question is None, is_there)


class InTheWayTest(unittest.TestCase):
    OTHERS = at(THEIRS, Layer(0, 7, THEIRS))

    def name_of(self, number: int) -> str:
        return f"holding {number}"

    def test_it_is_said_of_both_how_large_and_old_they_are_and_whose(self) -> None:
        for found, whose in ((at(THEIRS), "yours"), (self.OTHERS, "of holding 7")):
            said = in_the_way(plan(gel(), there={"moon.gel": found}), 0, self.name_of)
            self.assertRegex(said, rf"moon.gel: there 6 B, 2023-11-1\d .*, {whose}; in the archive 4 B, 2023-11-1")

    def test_clashes_are_asked_about_as_one(self) -> None:
        there = {"moon.gel": at(THEIRS), "sun.gel": at(THEIRS, name="sun.gel")}
        one = conflict_question(plan(gel(), there=there, on_clash=OnClash.ASK))
        self.assertIn("There is another file already where gels/moon.gel should go", one.question)
        two = conflict_question(plan(gel(), gel("sun.gel"), there=there, on_clash=OnClash.ASK))
        self.assertIn("2 files are there already with other content", two.question)
        self.assertEqual([option.files for option in two.options], [2] * 4)

    def test_files_of_other_holdings_are_asked_about_and_only_those(self) -> None:
        mine, others = at(THEIRS), self.OTHERS
        for found, own, is_asked in ((mine, None, False), (others, None, True), (others, 7, False), (others, 3, True)):
            question = others_question(plan(gel(), there={"moon.gel": found}), self.name_of, own)
            self.assertEqual(question is not None, is_asked)
        question = others_question(plan(gel(), there={"moon.gel": others}), self.name_of)
        assert question
        self.assertIn("moon.gel is there already from holding 7", question.question)
        self.assertIn(("--update", "holding 7"), answers(question))
        self.assertIn("of holding 7", question.detail[0])
        # One that is added to cannot be another's update too.
        self.assertNotIn(
            ("--update", "holding 7"),
            answers(others_question(plan(gel(), there={"moon.gel": others}), self.name_of, 3)),
        )

    def test_two_are_counted(self) -> None:
        there = {name: at(THEIRS, Layer(0, 7, THEIRS), name=name) for name in ("a.gel", "b.gel")}
        question = others_question(plan(*map(gel, there), there=there), self.name_of)
        assert question
        self.assertIn("2 files are there already from holding 7 (such as a.gel)", question.question)

    def test_no_more_than_three_are_shown(self) -> None:
        names = [f"{number}.gel" for number in range(5)]
        there = {name: at(THEIRS, Layer(0, 7, THEIRS), name=name) for name in names}
        question = others_question(plan(*map(gel, names), there=there), self.name_of)
        assert question
        self.assertEqual(len(question.detail), 3)
        self.assertIn("5 files are there already from holding 7", question.question)

    def test_nothing_that_is_the_same_is_asked_about(self) -> None:
        shared = plan(gel(), there={"moon.gel": self.OTHERS}, same={0})
        self.assertIsNone(others_question(shared, self.name_of))
        self.assertIsNone(autostart_question(shared, set()))


class AutostartTest(unittest.TestCase):
    def test_only_what_starts_by_itself_is_counted(self) -> None:
        owl = {"rig.toml": 70, ".bashrc": 5}
        found = plan(*(Entry(path=f"puppets/Owl/{name}", size=size, modified=NOW) for name, size in owl.items()))
        question = autostart_question(found, set())
        assert question
        self.assertEqual([(option.files, option.size) for option in question.options], [(1, 5)])


class WhereTest(unittest.TestCase):
    def test_what_fits_nothing_says_what_was_looked_for_unless_that_is_too_much(self) -> None:
        lanternbox, weftline = sample_application("lanternbox"), sample_application("weftline")
        shipped = replace(weftline, is_shipped=True)
        for applications, lines in (([lanternbox], 2), ([lanternbox, weftline, shipped], 3), ([lanternbox] * 4, 2)):
            question = nothing_fits_question(applications)
            self.assertEqual(len(question.detail), lines)
            self.assertIn("usufruct app learn", question.detail[-1])
            self.assertTrue(question.is_open and question.is_of_whole)
        self.assertIn("4 applications", question.detail[0])
        self.assertEqual(
            nothing_fits_question([lanternbox]).detail[0],
            "lanternbox looks for folders called puppets, backdrops, gels; folders that contain rig.toml; "
            "files like *.png, *.webp, *.gel, *.csv",
        )


if __name__ == "__main__":
    unittest.main()
