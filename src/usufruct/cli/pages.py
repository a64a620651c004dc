"""The pages of the docs that are installed with Usufruct, to be read offline."""

import re
import sys
from collections.abc import Iterator
from importlib import metadata
from pathlib import Path

import usufruct
from usufruct.cli.screen import is_plain, styled, wrapped
from usufruct.errors import MachineError

PAGES = {
    "definitions": "How to write a definition of an application.",
    "formats": "What archives are read and written, and by what.",
    "judgement": "How the place of content is found, and when Usufruct asks.",
    "safety": "What holds whatever happens, and what cannot be.",
    "troubleshooting": "What to do when something is not as expected.",
}
"""Name of a page → what it is about."""


def page_text(name: str) -> str:
    """Return the text of a page, in Markdown. Raises MachineError if this installation has none."""
    for path in _places(f"{name}.md"):
        if path.is_file():
            return path.read_text(encoding="utf-8")
    raise MachineError(
        f"The page {name} did not come with this installation.",
        remedy="Install Usufruct again from its package, which has it.",
    )


def _places(file: str) -> list[Path]:
    beside = Path(usufruct.__file__).parents[2] / "docs" / file
    try:
        installed = metadata.files("usufruct") or []
    except metadata.PackageNotFoundError:
        installed = []
    return [*(Path(str(one.locate())) for one in installed if one.name == file and "doc" in one.parts), beside]


def drawn_page(text: str) -> str:
    """Return the page as a person at a terminal reads it; elsewhere as it is written."""
    if not sys.stdout.isatty() or is_plain():
        return text
    return "\n".join(line for block in _blocks(text) for line in (*_drawn(block), ""))


def _blocks(text: str) -> Iterator[str]:
    """Return paragraphs, headings, lists, tables and code as one block each."""
    for number, part in enumerate(re.split(r"^```\w*\n(.*?)^```\n", text, flags=re.MULTILINE | re.DOTALL)):
        if number % 2:
            yield f"```{part}"
        else:
            yield from filter(None, map(str.strip, re.split(r"\n\s*\n", part)))


def _drawn(block: str) -> Iterator[str]:
    """Return the lines of one block."""
    if block.startswith("```"):
        yield from (f"    {line}" for line in block[3:].splitlines())
    elif block.startswith("#"):
        yield styled(_plain(block.lstrip("# ")), "title")
    elif block.startswith("|"):
        yield from _table(block)
    else:
        # A list item begins a line; other text continues across lines.
        for item in re.split(r"\n(?=(?:[-*]|\d+\.) )", block):
            mark = re.match(r"(?:[-*]|\d+\.) ", item)
            indent = " " * len(mark[0]) if mark else ""
            lines = wrapped(_plain(" ".join(item[len(indent) :].split())), indent)
            yield f"{mark[0] if mark else ''}{lines[0]}"
            yield from (f"{indent}{line}" for line in lines[1:])


def _table(block: str) -> Iterator[str]:
    """Return a table with each row as a paragraph: its subject, then each column with its name."""
    rows = [[_plain(cell.strip()) for cell in re.split(r"(?<!\\)\|", line)[1:-1]] for line in block.splitlines()]
    names, _, *rows = rows
    for row in rows:
        yield styled(row[0], "title")
        for name, cell in zip(names[1:], row[1:], strict=False):
            if cell:
                first, *rest = wrapped(f"{name}: {cell}", "    ")
                yield f"  {first}"
                yield from (f"    {line}" for line in rest)


def _plain(text: str) -> str:
    """Return a text without the signs for code, emphasis and links."""
    text = re.sub(r"\[([^]]*)\]\([^)]*\)", r"\1", text)
    return re.sub(r"\*\*(.+?)\*\*", r"\1", text).replace("`", "").replace("\\|", "|")
