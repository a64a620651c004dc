"""Where an application is: several places, versions, other systems, and whether it is here at all."""

import os
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from usufruct.definitions.form import DefinitionForm
from usufruct.definitions.load import load_applications, parse_application, parsed_definition
from usufruct.definitions.whereabouts import Machine, Whereabouts, whereabouts
from usufruct.errors import BadDefinition
from usufruct.files.platform import Platform

TEXT = """
usufruct = 1

[application]
name = "loom"
root = {root}
program = ["loom", "loom-gtk"]
{more}

[[folder]]
name = "drafts"
path = "Drafts"
arrange = "tree"
"""
LINUX = Platform()
WINDOWS = Platform(has_open_desktop=False, has_windows_names=True)
MAC = Platform(has_open_desktop=False)


def form_of(root: str, more: str = "") -> DefinitionForm:
    return parsed_definition(TEXT.format(root=root, more=more), Path("loom.toml"))


class WhereaboutsTest(unittest.TestCase):
    def setUp(self) -> None:
        home = tempfile.TemporaryDirectory()
        self.addCleanup(home.cleanup)
        self.home = Path(os.path.realpath(home.name))
        around = {"HOME": str(self.home), "USERPROFILE": str(self.home), "PATH": str(self.home / "bin"), "APPDATA": ""}
        patched = mock.patch.dict(os.environ, around)
        patched.start()
        self.addCleanup(patched.stop)
        for variable in ("XDG_DATA_HOME", "XDG_CONFIG_HOME"):
            os.environ.pop(variable, None)

    def found(self, form: DefinitionForm, platform: Platform = LINUX) -> list[tuple[str, bool]]:
        places = whereabouts(form, is_shipped=True, here=Machine(platform))
        return [(one.root.removeprefix(f"{self.home}/"), one.is_here) for one in places]

    def test_the_first_place_that_is_there_counts(self) -> None:
        form = form_of('["$XDG_DATA_HOME/loom", "~/.loom", "%APPDATA%/Loom", "~/Library/Application Support/Loom"]')
        self.assertEqual(self.found(form), [(".local/share/loom", False)])
        (self.home / ".loom").mkdir()
        self.assertEqual(self.found(form), [(".loom", True)])
        (self.home / ".local/share/loom").mkdir(parents=True)
        self.assertEqual(self.found(form), [(".local/share/loom", True)])

    def test_a_program_shows_that_it_is_here_and_the_first_place_of_the_system_is_made(self) -> None:
        form = form_of('["%APPDATA%/Loom", "~/Library/Application Support/Loom", "~/.loom"]')
        self.assertEqual(self.found(form), [(".loom", False)])
        (self.home / "bin").mkdir()
        (self.home / "bin/loom-gtk").symlink_to(self.home / "gone")
        self.assertEqual(self.found(form), [(".loom", False)])
        (self.home / "bin/loom-gtk").unlink()
        (self.home / "bin/loom-gtk").touch()
        self.assertEqual(self.found(form), [(".loom", True)])
        self.assertEqual(self.found(form, MAC), [("Library/Application Support/Loom", True)])
        os.environ["APPDATA"] = f"{self.home}/Roaming"
        (self.home / "bin/loom.exe").touch()
        self.assertEqual(self.found(form, WINDOWS), [("Roaming/Loom", True)])

    def test_of_versions_the_highest_counts_and_each_where_each_is_meant(self) -> None:
        highest, each = form_of('"~/.loom/*"'), form_of('"~/.loom/*"', 'versions = "each"')
        self.assertEqual(self.found(highest), [(".loom/*", False)])
        for version in ("2.8", "2.10", "2.9"):
            (self.home / ".loom" / version).mkdir(parents=True)
        (self.home / ".loom/2.11").touch()  # no directory
        self.assertEqual(self.found(highest), [(".loom/2.10", True)])
        self.assertEqual(self.found(each), [(f".loom/{version}", True) for version in ("2.10", "2.9", "2.8")])
        apps = self.home / "apps"
        apps.mkdir()
        (apps / "loom.toml").write_text(TEXT.format(root='"~/.loom/*"', more='versions = "each"'))
        known = {one.name: one for one in load_applications(apps, self.fail) if one.name.startswith("loom")}
        self.assertEqual({name: one.yields for name, one in known.items()},
                         {"loom": False, "loom-2.9": True, "loom-2.8": True})  # fmt: skip

    def test_a_place_may_have_paths_of_its_own(self) -> None:
        more = '[[place]]\nroot = "~/.var/app/loom"\n[place.paths]\ndrafts = "data/Drafts"\n'
        text = TEXT.format(root='"~/.loom"', more=more)
        self.assertEqual(parse_application(text, Path("loom.toml")).folders[0].path, "Drafts")
        (self.home / ".var/app/loom").mkdir(parents=True)
        application = parse_application(text, Path("loom.toml"))
        self.assertEqual((application.root, application.folders[0].path),
                         (f"{self.home}/.var/app/loom", "data/Drafts"))  # fmt: skip

    def test_what_the_user_wrote_with_one_root_is_here_even_if_its_drive_is_away(self) -> None:
        text = TEXT.format(root='"/media/stick/Loom"', more="").replace('program = ["loom", "loom-gtk"]', "")
        self.assertEqual(whereabouts(parsed_definition(text, Path("x")), is_shipped=False),
                         [Whereabouts("/media/stick/Loom", True)])  # fmt: skip

    def test_only_those_here_take_part_and_all_are_known(self) -> None:
        some = {one.name for one in load_applications(self.home / "none", self.fail, only_here=True)}
        self.assertNotIn("gimp", some)
        (self.home / ".config/GIMP/2.10").mkdir(parents=True)
        some = {one.name for one in load_applications(self.home / "none", self.fail, only_here=True)}
        self.assertIn("gimp", some)
        every = {one.name: one for one in load_applications(self.home / "none", self.fail)}
        self.assertEqual((every["gimp"].is_here, every["krita"].is_here), (True, False))

    def test_another_version_is_found_by_its_own_name(self) -> None:
        """Only the definition's own name was looked for, so that nothing was known of what such a version has."""
        for version in ("4", "5"):
            (self.home / f".local/share/gtksourceview-{version}").mkdir(parents=True)
        every = {one.name for one in load_applications(self.home / "none", self.fail, only_here=True)}
        (other,) = (name for name in every if name.startswith("gtksourceview-"))
        named = load_applications(self.home / "none", self.fail, only_here=True, named={other})
        self.assertEqual({one.name for one in named}, {other, "gtksourceview"})

    def test_of_several_commands_the_first_that_is_there_is_run(self) -> None:
        more = 'after = [["loom-cache", "-f"], ["loomc", "-f"]]'
        text = TEXT.format(root='"~/.loom"', more=more)
        self.assertEqual(parse_application(text, Path("x")).after, ("loom-cache", "-f"))
        (self.home / "bin").mkdir()
        (self.home / "bin/loomc").touch()
        self.assertEqual(parse_application(text, Path("x")).after, ("loomc", "-f"))

    def test_faults_of_places(self) -> None:
        for root, more, words in (
            ("[]", "", "root names no place"),
            ('["loom"]', "", "must be an absolute path"),
            ('["~/a/../b"]', "", "root may not contain"),
            ("['~/a', 'C:\\a\\..\\b']", "", "root may not contain"),
            (
                '"~/a"',
                "[[place]]\nroot = '~/b'\n[place.paths]\ngels = 'x\\..\\..'\n",
                "path of gels is empty or contains",
            ),
            ('"~/a"', '[[place]]\nroot = "~/b"\n[place.paths]\nyarns = "x"\n', "no folder is called so"),
            ('"~/a"', 'after = ["a", ["b"]]', "a list of commands"),
        ):
            with self.subTest(root, more=more), self.assertRaisesRegex(BadDefinition, words):
                form_of(root, more)


if __name__ == "__main__":
    unittest.main()
