"""What a content folder teaches of its application."""

import unittest

from usufruct.model.applications import Arrange
from usufruct.model.entries import Entry, Listing
from usufruct.planning.learning import Learned, learned_from


def learned(*paths: str) -> Learned:
    return learned_from(Listing.of(Entry(path=path, size=7) for path in paths))


def shapes(found: Learned) -> dict[str, tuple[str, Arrange, tuple[str, ...], tuple[str, ...]]]:
    return {folder.name: (folder.path, folder.arrange, folder.mark, folder.takes) for folder in found.folders}


PUPPETS = [f"Puppets/{name}/{file}" for name in ("Owl", "Fox", "Bat") for file in ("rig.toml", "parts/a.svg")]


class LearningTest(unittest.TestCase):
    def test_a_sub_folder_of_each_kind(self) -> None:
        found = learned(
            *PUPPETS, "Backdrops/Forest/edge.png", "Backdrops/sky.webp", "Gels/moon.gel", "Gels/.DS_Store", "readme.txt"
        )
        self.assertEqual(
            shapes(found),
            {
                "puppets": ("Puppets", Arrange.PIECES, ("rig.toml",), ()),
                "backdrops": ("Backdrops", Arrange.TREE, (), ("*.png", "*.webp")),
                "gels": ("Gels", Arrange.LOOSE, (), ("*.gel",)),
            },
        )
        self.assertEqual(found.files, 9)
        self.assertEqual(found.folders[0].evidence, ("3 directories that hold rig.toml, with 6 of 6 files here",))

    def test_a_mark_by_its_type_by_a_path_and_in_groups(self) -> None:
        by_type = learned("P/Owl/owl.rig", "P/Owl/a.svg", "P/Owl/b.svg", "P/Fox/fox.rig", "P/Fox/c.svg", "P/Fox/d.svg")
        self.assertEqual(shapes(by_type)["p"][2], ("*.rig",))
        by_path = learned(*(f"L/{n}/{f}" for n in ("A", "B") for f in ("data/loom.toml", "side.png", "top.png")))
        self.assertEqual(shapes(by_path)["l"][2], ("data/loom.toml",))
        grouped = learned("P/birds/Owl/rig.toml", "P/birds/Owl/b.svg", "P/beasts/Fox/rig.toml", "P/beasts/Fox/a.svg")
        self.assertEqual(shapes(grouped)["p"][:3], ("P", Arrange.PIECES, ("rig.toml",)))
        self.assertIn("2 groups", grouped.folders[0].evidence[1])

    def test_the_mark_is_what_is_called_as_the_folder_is_and_no_picture_that_each_piece_has_too(self) -> None:
        found = learned(*(f"Plots/{n}/{f}" for n in ("Bean Row", "Herb Spiral", "Arch") for f in
                          ("plot.yml", "soil.png", "bed.yml")))  # fmt: skip
        self.assertEqual(shapes(found)["plots"][2], ("plot.yml",))
        found = learned(*(f"Beds/{n}/{f}" for n in ("North", "South") for f in ("a.json", "soil.png", "leaf.png")))
        self.assertEqual(shapes(found)["beds"][2], ("a.json",))
        files = ("a.json", "b.json", "soil.png", "leaf.png", "root.png")
        two_of_five = learned(*(f"Beds/{n}/{f}" for n in ("North", "South") for f in files))
        self.assertEqual(shapes(two_of_five)["beds"][1:3], (Arrange.PIECES, ("a.json",)))

    def test_of_two_names_as_telling_the_shorter_marks_the_piece(self) -> None:
        found = learned(*(f"Beds/{name}/{file}" for name in ("North", "South") for file in ("bed-plan.doc", "loom.x")))
        self.assertEqual(shapes(found)["beds"][2], ("loom.x",))

    def test_content_of_the_same_names_in_several_directories_is_no_mark(self) -> None:
        """Kits of `01.ogg`, `02.ogg` became pieces that `01.ogg` marks, and a pack without a 01 was placed nowhere."""
        for files in (("01.ogg", "02.ogg"), ("A.weft", "B.weft", "C.weft")):
            found = learned(*(f"Content/{kit}/{file}" for kit in ("narrow", "wide", "both") for file in files))
            kind = f"*.{files[0].rpartition('.')[2]}"
            self.assertEqual(shapes(found), {"content": ("Content", Arrange.TREE, (), (kind,))})
        by_type = learned("Drafts/narrow/narrow.weft", "Drafts/wide/wide.weft")
        self.assertEqual(shapes(by_type)["drafts"][1:], (Arrange.TREE, (), ("*.weft",)))
        index = learned(
            *(f"Looms/{name}/{file}" for name in ("Jack", "Dobby") for file in ("loom.json", "a.json", "b.json"))
        )
        self.assertEqual(shapes(index)["looms"][2], ("loom.json",))

    def test_a_directory_of_directories_that_differ_in_kind_is_several_folders(self) -> None:
        found = learned("Setup/Yarns/a.yarn", "Setup/Threads/b.thread", "Other/Yarns/c.wool")
        self.assertEqual({path for path, *_ in shapes(found).values()}, {"Setup/Yarns", "Setup/Threads", "Other"})

    def test_a_root_whose_directories_are_the_pieces(self) -> None:
        found = learned(*(f"{n}/{f}" for n in ("Dusk", "Dawn") for f in ("index.theme", "16/a.png", "32/a.png")))
        self.assertEqual(shapes(found), {"pieces": (".", Arrange.PIECES, ("index.theme",), ())})

    def test_types_that_every_program_uses_are_proposed_for_folders_of_nothing_else(self) -> None:
        """Pictures beside levels claimed every picture; a packed readme claimed every `.gz`."""
        takes = [
            ((), ("Notes/a.txt", "Notes/b.txt", "Notes/c.json")),
            (("*.png", "*.ogg"), ("Media/a.png", "Media/b.png", "Media/c.ogg")),
            (("*.level", "*"), ("Levels/a.level", "Levels/a.png", "Levels/b.level", "Levels/b.png")),
            (("*.level",), (*(f"Levels/{n}.level" for n in range(20)), "Levels/a.png")),
            (("*.thr.gz",), ("Patterns/a.thr.gz", "Patterns/b.thr.gz", "Patterns/readme.txt.gz")),
        ]  # fmt: skip
        for expected, paths in takes:
            with self.subTest(paths[0]):
                (folder,) = learned(*paths).folders
                self.assertEqual(folder.takes, expected)
                whatever = any("it takes whatever is named for it" in line for line in folder.evidence)
                self.assertEqual(whatever, not expected)

    def test_what_half_of_the_pieces_have_is_no_mark(self) -> None:
        mods = [f"mods/{name}/{file}" for name in "abcdefgh" for file in ("main.lua", "data/a.obj", "data/b.obj")]
        some = [f"mods/{name}/{file}" for name in "abcd" for file in ("depends.txt", "data/c.obj", "data/d.obj")]
        self.assertEqual(shapes(learned(*mods, *some))["mods"][2], ("main.lua",))
        few = ["mods/i/one.obj", "mods/j/two.obj", "mods/k/three.obj"]
        heavy = [f"mods/{name}/{n}.obj" for name in "abcd" for n in range(30)]
        self.assertEqual(shapes(learned(*heavy, *some, *few))["mods"][1:3], (Arrange.TREE, ()))

    def test_documentation_teaches_nothing(self) -> None:
        self.assertEqual(set(shapes(learned(*PUPPETS, "docs/a.html", "docs/b.css", "manual/c.page"))), {"puppets"})

    def test_what_no_folder_explains_is_told(self) -> None:
        found = learned(*PUPPETS, "lantern.conf")
        self.assertEqual(found.unexplained, ("lantern.conf",))
        self.assertEqual(shapes(learned("a.tide", "b.tide")), {"content": (".", Arrange.LOOSE, (), ("*.tide",))})
        self.assertEqual(learned("readme.txt", ".DS_Store").folders, ())


if __name__ == "__main__":
    unittest.main()
