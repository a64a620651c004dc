"""What people read has short sentences and none of the words that our first readers stumbled over."""

import ast
import re
import unittest
from collections.abc import Iterator
from pathlib import Path

SOURCES = Path(__file__).parents[2] / "src" / "usufruct"
STUMBLED_OVER = (
    "aside", "dropped", "told by", "in the way", "of its own", "beneath", "comes to nothing", "as far as", "everyday",
    "nobody's", "of no holding", "cut off", "files that can run", "file that can run", "came whole", "given back",
    "gives back", "the like",
)  # fmt: skip
MOST_WORDS = 30
"""In one sentence."""


def texts(tree: ast.Module) -> Iterator[str]:
    """Each string of more than one word that is not a docstring; `…` stands for what is filled in."""
    silent: set[ast.AST] = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant):
            silent.add(node.value)
        elif isinstance(node, ast.JoinedStr):
            silent.update(node.values)
            yield "".join(str(part.value) if isinstance(part, ast.Constant) else "…" for part in node.values)
        elif isinstance(node, ast.Assert) and node.msg:
            silent.add(node.msg)
        elif isinstance(node, ast.Constant) and isinstance(node.value, str) and node not in silent:
            yield node.value


def faults(text: str) -> list[str]:
    """What a reader would stumble over."""
    found = [words for words in STUMBLED_OVER if " " in text and re.search(rf"\b{words}\b", text, re.IGNORECASE)]
    sentences = re.split(r"(?<=[.?!:;])\s", text) if text.rstrip().endswith((".", "?")) else []
    return found + [one for one in sentences if len(one.split()) > MOST_WORDS]


class PlainWordsTest(unittest.TestCase):
    def test_no_message_has_a_word_or_a_length_that_people_stumble_over(self) -> None:
        found = {
            (str(file.relative_to(SOURCES)), text[:90]): fault
            for file in sorted(SOURCES.rglob("*.py"))
            for text in texts(ast.parse(file.read_text("utf-8")))
            if (fault := faults(text))
        }
        self.assertEqual(found, {})

    def test_one_would_be_found(self) -> None:
        self.assertEqual(faults("1 file is in the way, 2 were dropped"), ["dropped", "in the way"])
        self.assertEqual(len(faults("so " * 31 + "on.")), 1)
        self.assertEqual(faults("aside"), [])


if __name__ == "__main__":
    unittest.main()
