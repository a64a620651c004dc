"""What the code was written from: only what decision 17 allows, and no name of what it forbids."""

import ast
import hashlib
import re
import subprocess
import unittest
from itertools import pairwise
from pathlib import Path

PROJECT = Path(__file__).parents[2]
ALLOWED = (
    "libarchive (archive_read_support_format_rar.c, BSD licence",
    "PPMd variant H by Dmitry Shkarin, in the public domain",
    "the technical note of RAR 5",
    "the format's published technical note",
    "published analyses of the format",
    "the format's description in the wiki of the xar project",
    "the public domain LZMA SDK's Methods.txt; for two filters, liblzma (arm64.c, in the public domain)",
    "the magic database of `file`",
    "the manual of GNU tar",
    "IEEE Std 1003.1 (POSIX)",
    "Microsoft's",
    "freedesktop.org's",
    "Unicode's character database",
    "APPNOTE",
)
FORBIDDEN = {
    "004ce6fc79fa6400", "05a8d24205bf369c", "0ce9aff717bb6e36", "14a25e31a5fbddea", "1d97f33a3f78bde9",
    "296aa82fe798860b", "42744147a9d2d76e", "4b04c8a3f4a1979d", "55ac829b6484033d", "5ded18bff1251d59",
    "621ee4ac34200e59", "746083e26c05e68c", "775d4a47aa5d69dd", "80dc79ede13672a9", "967814c8750d0fc6",
    "9783e2f0e6bf9cbc", "9caebebecf6fbb07", "a18c45ea3a55da7a", "aaa5bf5651bcfc6a", "aedba2c710c4b115",
    "b29d2e09c956a5bf", "bf1ecc878d892547", "d5165061c9d0aa78", "dcc198f997b09925", "ec47d469d380f3a2",
    "ff412a7d33392928",
}  # fmt: skip
"""The first 16 digits of the SHA-256 of words, or of two words as one, in small letters."""


def _statements() -> list[tuple[str, str]]:
    """Where each docstring says what it was written from, and what it says."""
    found = []
    for file in sorted((PROJECT / "src").rglob("*.py")):
        for node in ast.walk(ast.parse(file.read_text("utf-8"))):
            if isinstance(node, ast.Constant) and isinstance(node.value, str):
                found += [(file.name, text) for text in re.findall(r"\bSources?: (.+)", node.value)]
    return found


def _files() -> list[Path]:
    """Every text file of the tree."""
    listed = subprocess.run(["git", "ls-files"], cwd=PROJECT, capture_output=True, text=True, check=False).stdout.split(
        "\n"
    )
    names = [name for name in listed if name] or [str(path) for path in PROJECT.rglob("*") if path.is_file()]
    return [PROJECT / name for name in names if not name.endswith((".png", ".json"))]


def forbidden_in(text: str) -> set[str]:
    """The words of a text whose hashes are forbidden."""
    words = re.findall(r"[a-z0-9]+", text.lower())
    terms = {*words, *map("".join, pairwise(words))}
    return {term for term in terms if hashlib.sha256(term.encode()).hexdigest()[:16] in FORBIDDEN}


class SourcesTest(unittest.TestCase):
    def test_each_module_that_says_its_source_names_an_allowed_one(self) -> None:
        statements = _statements()
        self.assertGreater(len(statements), 6)
        self.assertEqual([one for one in statements if not one[1].startswith(ALLOWED)], [])

    def test_no_forbidden_name_stands_in_the_tree(self) -> None:
        found = {}
        for path in _files():
            if path.is_file() and (words := forbidden_in(path.read_text("utf-8", "replace"))):
                found[str(path.relative_to(PROJECT))] = words
        self.assertEqual(found, {})

    def test_the_search_would_find_one(self) -> None:
        self.assertEqual(len(forbidden_in("as in " + "x" + "ad" + "master's handle")), 1)


if __name__ == "__main__":
    unittest.main()
