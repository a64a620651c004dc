"""Draw the rooms of the code, and the way of one archive through them, into ARCHITECTURE.md: from the code itself.

python tools/architecture.py          # writes it
python tools/architecture.py --check  # ends with 1 where what is written is not what is so
"""

import ast
import inspect
import re
import sys
import tempfile
import textwrap
from collections.abc import Iterator
from pathlib import Path
from types import FrameType

PROJECT = Path(__file__).parents[1]
SOURCE, PAGE = PROJECT / "src" / "usufruct", PROJECT / "ARCHITECTURE.md"
_ROOMS = re.search(r"^layers = \[(.*?)^\]", (PROJECT / "pyproject.toml").read_text("utf-8"), re.M | re.S)
_WIDTH, _NAME = 118, 46
"""Columns of the drawings, and of a name in the second."""
_TOLD = frozenset({"actions", "archives", "planning", "survey", "transaction"})
"""The rooms whose functions are told on the way; the others serve them."""
_TELLERS = ("actions.", "planning.layout", "transaction.place", "transaction.finish", "transaction.tidying")
"""Modules that tell a story; what only serves what they call is left out."""


def rooms() -> Iterator[str]:
    """Each room from the top down: which rooms it imports, and what is in it."""
    assert _ROOMS, "the layers are named"
    names = re.findall(r"\w+", _ROOMS[1])
    for room in names:
        files = sorted((SOURCE / room).rglob("*.py")) or [SOURCE / f"{room}.py"]
        imported = {found for file in files for found in _imports(file)} - {room}
        below = " ".join(name for name in names if name in imported)
        yield f"{room} → {below}" if below else room
        inside: dict[str, list[str]] = {}
        for file in files:
            if file.stem != "__init__" and (SOURCE / room).is_dir():
                inside.setdefault(file.parent.relative_to(SOURCE / room).as_posix(), []).append(file.stem)
        for folder, stems in sorted(inside.items()):
            words = " ".join(stems) if folder == "." else f"{folder}/ {' '.join(stems)}"
            yield from textwrap.wrap(words, _WIDTH, initial_indent="    ", subsequent_indent="      ")


def _imports(file: Path) -> Iterator[str]:
    for node in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
        if isinstance(node, ast.ImportFrom) and node.module and node.module.startswith("usufruct."):
            yield node.module.split(".")[1]


def way() -> Iterator[str]:
    """The public functions through which an archive that replaces a file goes, as it is really added."""
    sys.path.insert(0, str(PROJECT))
    from tests.support import World

    from usufruct.actions.adding import add_archives

    met: dict[tuple[str, str], object] = {}

    def follow(frame: FrameType, event: str, _: object) -> None:
        module, name = frame.f_globals.get("__name__", ""), frame.f_code.co_name
        if event != "call" or not module.startswith("usufruct.") or module.split(".")[1] not in _TOLD:
            return
        function, caller = frame.f_globals.get(name), _caller(frame)
        if caller and not caller.removeprefix("usufruct.").startswith(_TELLERS):
            return
        if inspect.isfunction(function) and function.__module__ == module != caller and not name.startswith("_"):
            met.setdefault((module.removeprefix("usufruct."), name), function)

    with tempfile.TemporaryDirectory() as passing:
        world = World(Path(passing))
        world.write({"Gels/moon.gel": "mine"})
        archive = world.archive("pack.zip", {"wrapper/gels/moon.gel": "theirs", "wrapper/readme.txt": "read me"})
        sys.setprofile(follow)
        try:
            add_archives(world.context, [archive], world.request(), lambda _: None)
        finally:
            sys.setprofile(None)
    for (module, name), function in met.items():
        meaning = (inspect.getdoc(function) or "").partition("\n")[0].partition(";")[0].rstrip(".")
        told = textwrap.shorten(meaning, _WIDTH - _NAME, placeholder=" …")
        yield f"{f'{module} · {name}':<{_NAME}} {told}"


_WAY = re.compile(r"usufruct\.(?!model\.layout$)")


def _caller(frame: FrameType) -> str:
    """The module of ours that called, past the language and the Layout that hears a rule; empty where none did."""
    above = frame.f_back
    while above and not _WAY.match(above.f_globals.get("__name__", "")):
        above = above.f_back
    return above.f_globals["__name__"] if above else ""


def drawn(page: str) -> str:
    """The page with both drawings as they are now."""
    for name, lines in (("rooms", rooms()), ("way", way())):
        block = "\n".join(line.rstrip() for line in lines)
        pattern = re.compile(rf"(<!-- {name}: tools/architecture.py -->\n```\n).*?(\n```\n)", re.S)
        page, count = pattern.subn(lambda found, block=block: found[1] + block + found[2], page)  # type: ignore[misc]
        assert count == 1, f"{PAGE.name} has one place for the {name}"
    return page


def main() -> int:
    """Write it, or see whether it is so."""
    before = PAGE.read_text(encoding="utf-8")
    after = drawn(before)
    if "--check" in sys.argv[1:]:
        return before != after
    PAGE.write_text(after, encoding="utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main())
