"""The README as an index of packages shows it: nothing lies beside it there that a relative link could mean."""

import re
import tomllib
from pathlib import Path

from setuptools import setup

_PICTURE = re.compile(r"^!\[([^]]*)\]\(([^)#:]+)\)\n", re.MULTILINE)
_LINK = re.compile(r"(?<!!)\[([^]]*)\]\(([^)#:]+)\)")


def long_description(readme: str, address: str | None) -> str:
    """The README with pictures and links at `address`, where the files can be fetched from (it ends with "/").

    None: pictures are left out, and a link is its text with the file's place in the source distribution.
    """
    if address:
        return _LINK.sub(rf"[\1]({address}\2)", _PICTURE.sub(rf"![\1]({address}\2)\n", readme))

    def told(link: re.Match[str]) -> str:
        text, place = " ".join(link[1].split()), link[2]
        return text if place == text else f"{text} ({place})"

    return _LINK.sub(told, _PICTURE.sub("", readme))


if __name__ == "__main__":
    here = Path(__file__).parent
    project = tomllib.loads((here / "pyproject.toml").read_text("utf-8"))["project"]
    setup(
        long_description=long_description(
            (here / "README.md").read_text("utf-8"), project.get("urls", {}).get("Files")
        ),
        long_description_content_type="text/markdown",
    )
