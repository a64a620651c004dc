"""The package: what it says of itself, and the ways of running it that cannot be."""

import ast
import subprocess
import sys
import tempfile
import tomllib
import unittest
import zipfile
from importlib import metadata
from pathlib import Path
from unittest import mock

import usufruct
from usufruct.cli import pages
from usufruct.errors import MachineError

PROJECT = Path(__file__).parents[2]


class PackageTest(unittest.TestCase):
    def test_the_version_stands_in_one_place(self) -> None:
        project = tomllib.loads((PROJECT / "pyproject.toml").read_text(encoding="utf-8"))
        self.assertIn("version", project["project"]["dynamic"])
        self.assertEqual(metadata.version("usufruct"), usufruct.__version__)

    def test_what_is_no_code_is_installed_too(self) -> None:
        """The index of definitions was once left behind: an installed Usufruct could list nothing and add nothing."""
        project = tomllib.loads((PROJECT / "pyproject.toml").read_text(encoding="utf-8"))
        source = PROJECT / "src" / "usufruct"
        patterns = project["tool"]["setuptools"]["package-data"]["usufruct"]
        installed = {path for pattern in patterns for path in source.glob(pattern)}
        here = {path for path in source.rglob("*") if path.is_file() and path.suffix not in (".py", ".pyc")}
        self.assertGreater(len(here), 50)
        self.assertEqual(here - installed, set())

    def test_no_two_classes_share_a_name(self) -> None:
        """One word, one thing: whoever reads of a Removal must not have to ask which."""
        places: dict[str, list[str]] = {}
        for file in sorted((PROJECT / "src").rglob("*.py")):
            for node in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
                if isinstance(node, ast.ClassDef):
                    places.setdefault(node.name.lstrip("_"), []).append(str(file.relative_to(PROJECT)))
        self.assertGreater(len(places), 200)
        self.assertEqual({name: files for name, files in places.items() if len(files) > 1}, {})

    @unittest.skipUnless(sys.platform == "linux", "drawn where processes may go on as two")
    def test_the_drawings_of_the_architecture_are_what_the_code_is(self) -> None:
        checked = subprocess.run([sys.executable, "tools/architecture.py", "--check"], cwd=PROJECT)
        self.assertEqual(checked.returncode, 0, "`python tools/architecture.py` draws them anew")

    def test_from_within_a_zip_it_is_refused_in_words(self) -> None:
        with tempfile.TemporaryDirectory() as passing:
            packed = Path(passing) / "usufruct.pyz"
            source = Path(usufruct.__file__).parent
            with zipfile.ZipFile(packed, "w") as archive:
                for file in source.rglob("*.py"):
                    archive.write(file, Path("usufruct") / file.relative_to(source))
                archive.writestr("__main__.py", "from usufruct.__main__ import main\nmain()\n")
            done = subprocess.run(
                [sys.executable, packed, "list"], capture_output=True, text=True, check=False, cwd=passing
            )
            self.assertEqual(done.returncode, 5)
            self.assertIn("cannot run from within a zip", done.stderr)
            self.assertIn("pip install", done.stderr)
            self.assertNotIn("Traceback", done.stderr)

    def test_the_pages_are_found_where_the_package_puts_them_and_in_a_source_tree(self) -> None:
        for name in pages.PAGES:
            self.assertEqual(pages.page_text(name), (PROJECT / "docs" / f"{name}.md").read_text(encoding="utf-8"))
        project = tomllib.loads((PROJECT / "pyproject.toml").read_text(encoding="utf-8"))
        packed = project["tool"]["setuptools"]["data-files"]["share/doc/usufruct"]
        self.assertEqual(packed, [f"docs/{name}.md" for name in sorted(pages.PAGES)])
        with tempfile.TemporaryDirectory() as passing:
            (Path(passing) / "formats.md").write_text("installed", encoding="utf-8")
            file = metadata.PackagePath("../../share/doc/usufruct/formats.md")
            file.dist = mock.Mock(locate_file=lambda _: Path(passing) / "formats.md")
            with mock.patch.object(metadata, "files", lambda _: [file]):
                self.assertEqual(pages.page_text("formats"), "installed")
            with (
                mock.patch.object(metadata, "files", lambda _: None),
                mock.patch.object(usufruct, "__file__", f"{passing}/lib/usufruct/__init__.py"),
                self.assertRaisesRegex(MachineError, "did not come with this installation"),
            ):
                pages.page_text("formats")


if __name__ == "__main__":
    unittest.main()
