"""How names are compared, tidied and matched by patterns."""

import random
import signal
import unittest

from usufruct.model.entries import Entry, Listing
from usufruct.planning.dangers import disguised_in
from usufruct.planning.everyday import EVERYDAY, suffix_of
from usufruct.planning.junk import can_run, is_junk, is_notes, only_content_tells
from usufruct.planning.names import (
    fault_in_name,
    folded,
    folded_path,
    free_name,
    is_archive_name,
    spelling_key,
    suggestion,
    tidy_name,
    version_of,
)
from usufruct.planning.patterns import NamesByForm, Patterns, is_own_type
from usufruct.planning.tree import Tree

TIDY = [
    # file name, tidy name, version, why
    ("Owls.zip", "Owls", "", "the extension goes"),
    ("Owls v2.zip", "Owls", "2", "v and a number is a version"),
    ("owls_v1.2.3.tar.gz", "owls", "1.2.3", "a compound extension goes whole"),
    ("owls-1.4.7z", "owls", "1.4", "numbers joined by dots are a version"),
    ("Gels 2.zip", "Gels 2", "", "a bare integer is never a version"),
    ("Gels 2 2024-11-05.zip", "Gels 2", "2024-11-05", "an ISO date is a version"),
    ("Owls (1).zip", "Owls", "", "a copy mark goes"),
    ("Owls v2 (1).zip", "Owls", "2", "a copy mark behind a version"),
    ("Owls - Copy.zip", "Owls", "", "a copy mark in words"),
    ("Owls - Copy (3).zip", "Owls", "", "and with its number"),
    ("Owls.part01.rar", "Owls", "", "a volume number goes"),
    ("Owls.7z.001", "Owls", "", "and behind the extension too"),
    ("Owls.z03", "Owls", "", "a part of a split zip"),
    ("Owls.r12", "Owls", "", "a part in the old naming"),
    ("Owls (v2).zip", "Owls", "2", "a version in brackets"),
    ("v2.zip", "v2", "", "the name as it was if nothing is left"),
    ("1.2.zip", "1.2", "", "the same for numbers"),
    (".zip", ".zip", "", "and for a name that is an extension"),
    ("Owls 1.2", "Owls", "1.2", "a number is not an extension"),
    ("Owls.lbpack", "Owls", "", "any other extension goes"),
    ("owlsv2.zip", "owlsv2", "", "a version stands apart"),
    ("Owls v1.2-beta.zip", "Owls", "1.2-beta", "a version on trial"),
    ("Owls 1.2rc2.zip", "Owls", "1.2rc2", "and another"),
    ("Owls v1.2 night.zip", "Owls v1.2 night", "", "only a trailing version"),
    ("Owls beta.zip", "Owls beta", "", "a trial of no version is none"),
    ("owl-puppets_1.2-3_all.deb", "owl-puppets", "1.2-3", "a package says name, version and machine"),
    ("owls_v1.2.deb", "owls", "1.2", "but not every name that ends so is one"),
]


class NamesTest(unittest.TestCase):
    def test_where_nothing_was_typed_all_that_there_is_is_named(self) -> None:
        self.assertEqual(suggestion("", ["gels", "puppets"]), "There are gels, puppets.")
        self.assertEqual(suggestion("gel", ["gels", "puppets"]), "Did you mean gels?")

    def test_tidy_names_and_versions(self) -> None:
        for name, tidy, version, why in TIDY:
            with self.subTest(why, name=name):
                self.assertEqual((tidy_name(name), version_of(name)), (tidy, version))

    def test_names_compare_without_case_form_spaces_hyphens_underscores(self) -> None:
        for one, other in [("Back-Drops", "back_drops"), ("\u00e9t\u00e9", "E\u0301TE\u0301"), ("Straße", "STRASSE")]:
            self.assertEqual(folded(one), folded(other))
        self.assertEqual(folded_path("My Back-Drops_2/E"), "mybackdrops2/e")
        self.assertNotEqual(spelling_key("a-b"), spelling_key("a_b"))

    def test_a_name_of_nothing_but_ignored_characters_keeps_them(self) -> None:
        # What has no one sign as a capital has one as a small letter: Greek with two marks.
        self.assertEqual(folded("\u03aa\u0301"), folded("\u0390"))
        self.assertNotEqual(folded("---"), folded("_"))

    def test_names_that_show_as_others_have_marks_that_turn_the_text_or_control_characters(self) -> None:
        names = [
            "owl",
            "夜",
            "naïve",
            "exe.\u202egnp",
            "a\u2066b",
            "a\x07b",
            "a\x9bb",
            "é\nb",
            "joined\u200dup",
            "no\xa0break",
            "of private use \ue000",
        ]
        listing = Listing.of(Entry(path=name) for name in names)
        self.assertEqual([listing.names[row] for row in disguised_in(listing)], names[3:8])

    def test_what_a_holding_can_be_called(self) -> None:
        for name, fault in (
            ("owl", ""), ("a" * 200, ""), ("a" * 201, "longer than 200"), ("", "empty"), (" ", "empty"), (".", "empty"),
            ("..", "empty"), ("a/b", "path"), ("a\\b", "path"), ("a\nb", "cannot be shown"),
        ):  # fmt: skip
            with self.subTest(name[:9]):
                self.assertRegex(fault_in_name(name), fault or "^$")

    def test_free_names_count_up_and_keep_the_extension(self) -> None:
        self.assertEqual(free_name("moon.gel", set()), "moon (2).gel")
        self.assertEqual(free_name("moon.gel", {"moon (2).gel"}), "moon (3).gel")
        self.assertEqual(free_name(".hidden", set()), ".hidden (2)")
        taken, begun = set[str](), dict[str, int]()
        for expected in ("moon (2).gel", "moon (3).gel", "moon (4).gel"):
            self.assertEqual(name := free_name("moon.gel", taken, begun), expected)
            taken.add(spelling_key(name))
        self.assertEqual(free_name("sun.gel", taken, begun), "sun (2).gel")


PATTERNS = [
    # pattern, path, matches, why
    ("*.gel", "a/b/Moon.GEL", True, "without a slash: a file name at any depth"),
    ("*.gel", ".gel", True, "* may be nothing"),
    ("extras", "x/Extras/y/z.png", True, "a matching directory covers all below it"),
    ("a/*.png", "a/b/c.png", False, "* stays within a component"),
    ("a/*.png", "a/c.png", True, "with a slash: the path from the top"),
    ("a/*.png", "x/a/c.png", False, "from the top only"),
    ("a/**", "a/b/c.png", True, "** does not"),
    ("a/**/c.png", "a/c.png", True, "** may be nothing"),
    ("a/**.png", "a/b/c.png", True, "** inside a component"),
    ("/readme.txt", "sub/readme.txt", False, "a leading slash is the top"),
    ("my-pack*", "MyPack 2/z", True, "compared as names are"),
    ("_*", "plain", False, "a pattern of ignored characters alone is taken to the letter"),
    ("_*", "_hidden", True, "and so it matches"),
    ("[0-9]*.csv", "3 x.csv", True, "classes"),
    ("[!a]*", "abc", False, "and their complement"),
    ("moon?.gel", "moon1.gel", True, "? is one character"),
    ("*.tar.gz", "x.tar.gz", True, "a compound suffix"),
    ("a\\b.png", "a/b.png", True, "a backslash is a slash"),
    ("[", "[", True, "a lone bracket is itself"),
]


def _is_match(pattern: str, name: str) -> bool:
    if not pattern:
        return not name
    if pattern[0] == "*":
        return any(_is_match(pattern[1:], name[at:]) for at in range(len(name) + 1))
    return bool(name) and pattern[0] in ("?", name[0]) and _is_match(pattern[1:], name[1:])


class PatternsTest(unittest.TestCase):
    def test_stars_match_as_by_trying_all_that_they_could_stand_for(self) -> None:
        chance = random.Random(3)
        for _ in range(4000):
            pattern = "".join(chance.choice("ab*?") for _ in range(chance.randint(1, 6)))
            name = "".join(chance.choice("ab") for _ in range(chance.randint(1, 7)))
            found = Patterns([pattern]).by_name(name) is not None
            self.assertEqual(found, _is_match(pattern, name), (pattern, name))

    def test_a_pattern_of_many_stars_ends_and_an_empty_set_matches_nothing(self) -> None:
        signal.alarm(20)
        self.addCleanup(signal.alarm, 0)
        self.assertIsNone(Patterns(["*a" * 30 + "*b"]).match("a" * 250))
        self.assertIsNone(Patterns(["**/a/" * 12 + "**/b"]).match("/".join("a" * 150)))
        self.assertIsNone(Patterns(["a**a**a**a**a**a**b/x"]).match("a" * 250 + "/y"))
        self.assertIsNone(Patterns(["[z-a]x"]).match("zx"))

    def test_a_type_of_its_own_is_told_by_the_last_two_suffixes(self) -> None:
        for pattern, is_own in (("*.gel", True), ("*.png", False), ("*.gel.png", True), ("*.gel.txt.png", False),
                                ("*.txt.png", False), ("*", False), ("moon*", True)):  # fmt: skip
            self.assertEqual(is_own_type(pattern), is_own, pattern)

    def test_what_patterns_match(self) -> None:
        for pattern, path, matches, why in PATTERNS:
            with self.subTest(why, pattern=pattern, path=path):
                self.assertEqual(Patterns([pattern]).match(path), pattern if matches else None)

    def test_very_many_names_are_found_as_each_of_them_would_be(self) -> None:
        names = [
            "a.gel",
            "A GEL",
            "a_gel.png",
            "rig.toml",
            "Rig.TOML",
            "r-i-g.toml",
            "_x",
            "x_",
            "a[b]",
            "ab",
            "ä.gel",
            "m.crate.zip",
            "M.Crate.Zip",
            "gel",
        ]
        wanted = [
            "rig.toml",
            "a gel",
            "*.gel",
            "_*",
            "*_x*",
            "a?gel.png",
            "m*n",
            "a[b]",
            "[!a]*",
            "RIG_TOML",
            "x_",
            "*.crate.zip",
            "a.*",
            "a*.gel",
            "*",
            "ri*",
            "r-ig*",
            "*gel",
            "?.g-el",
            "[a.]b",
        ]
        chance = random.Random(5)
        for _ in range(400):
            patterns = Patterns(chance.sample(wanted, chance.randint(1, 4)))
            there = chance.choices(names, k=chance.randint(1, 9))
            each = {number for number, name in enumerate(there) if patterns.by_name(name)}
            self.assertEqual({*patterns.found_in(NamesByForm(there))}, each, (patterns.patterns, there))


class TreeTest(unittest.TestCase):
    def test_what_a_tree_knows_of_all_names_is_what_each_of_them_says(self) -> None:
        names = (
            "a.png .png .sh a.sh run .run a.so.1 .so.1 a.1 b.dat B.DAT README readme.md .txt "
            "a.zip A.ZIP a.tar.gz a.gz a.zip.001 a.001 .zip p.part1.rar"
        ).split()
        tree = Tree(Listing.of(Entry(path=name) for name in names))
        rows = range(len(names))
        self.assertEqual([bool(tree.is_everyday[row]) for row in rows], [suffix_of(name) in EVERYDAY for name in names])
        for found, says in (
            (tree.untold, only_content_tells),
            (tree.notes, is_notes),
            (tree.archives, is_archive_name),
        ):
            self.assertEqual({names[row] for row in found}, {name for name in names if says(name)}, says)


class JunkTest(unittest.TestCase):
    def test_junk_is_what_nobody_meant_to_pack(self) -> None:
        for name in ("__MACOSX", "._owl.png", ".DS_Store", "THUMBS.DB", "desktop.ini", "owl.png~", ".owl.swp", ".git"):
            self.assertTrue(is_junk(name), name)
        for name in ("MacOSX", "owl.png", ".config", "thumbs.png", "#owl", "a~b"):
            self.assertFalse(is_junk(name), name)

    def test_notes_are_written_for_people(self) -> None:
        for name in ("README", "Read Me First.txt", "LICENSE.OFL", "copying", "preview.png", "cover.jpg", "info.nfo"):
            self.assertTrue(is_notes(name), name)
        for name in ("newsboard.txt", "licensed.gel", "coverage.png", "installer.txt", "owl.txt"):
            self.assertFalse(is_notes(name), name)
        # Where a name says whose a directory is, only a whole name makes notes of a file.
        long = "Readme of the owls from the great wood.txt"
        for name, whole in (("READ ME.txt", True), ("install notes.txt", False), ("how to.txt", True), (long, False),
                            ("Readme of the owls.txt", True)):  # fmt: skip
            self.assertEqual((is_notes(name), is_notes(name, by_whole_name=True)), (True, whole), name)

    def test_what_can_run(self) -> None:
        for name, marked, runs in [
            ("setup.exe", False, True),
            ("run.sh", False, True),
            ("owl.png", True, False),
            ("install", True, True),
            ("install", False, False),
        ]:
            self.assertEqual(can_run(name, is_marked=marked), runs, name)


if __name__ == "__main__":
    unittest.main()
