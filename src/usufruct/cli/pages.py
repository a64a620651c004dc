"""The pages of the docs that an installed Usufruct has beside it, for whoever is not connected."""

import io
import sys
from importlib import metadata
from pathlib import Path

import usufruct
from usufruct.cli.screen import is_plain, width
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
    """The text of a page, in Markdown. Raises MachineError where this installation has none."""
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
    """The page as a person at a terminal reads it; elsewhere, and where nothing is drawn, as it is written."""
    if not sys.stdout.isatty() or is_plain():
        return text
    from rich.console import Console
    from rich.markdown import Markdown

    file = io.StringIO()
    # Its own colours would be others than ours mean.
    console = Console(file=file, width=min(width(), 110), color_system=None, legacy_windows=False)
    console.print(Markdown(text, hyperlinks=False))
    return "\n".join(line.rstrip() for line in file.getvalue().splitlines())
