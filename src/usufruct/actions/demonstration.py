"""Lay out the sample data of Usufruct in a folder to try things in."""

import os
import shutil
from importlib.resources import as_file, files
from pathlib import Path

from usufruct.files.looking import state_at, with_digest
from usufruct.model.records import FileKind, FileState

_YEARS_AGO = 1_577_880_000_000_000_000
"""Time of the files that the demo's user has had for long: 2020-01-01, in nanoseconds."""

_OWN_FILES = {
    "Lanternbox/Backdrops/Forest/path.png": "the path as its owner painted it, years ago\n",
    "Lanternbox/Gels/candle.gel": "gel 1\nname candle\nrgb 255 190 120\n",
    "Lanternbox/Puppets/Fox/rig.toml": '[puppet]\nname = "Fox"\n',
    "Weftline/Drafts/twill/plain.weft": "weft 1\nshafts 2\n",
    "Tidebook/harbours/Home.tide": "tide 1\n",
}


def prepare_demo(folder: Path) -> None:
    """Make three applications' folders with a few of the user's files, their definitions, and downloads."""
    for name, content in _OWN_FILES.items():
        file = folder / name
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(content, encoding="utf-8")
        os.utime(file, ns=(_YEARS_AGO, _YEARS_AGO))
    definitions = folder / "usufruct" / "apps"
    definitions.mkdir(parents=True)
    with as_file(files("usufruct") / "samples") as samples:
        for definition in sorted((samples / "apps").glob("*.toml")):
            text = definition.read_text(encoding="utf-8").replace('"~/', f'"{folder.as_posix()}/')
            (definitions / definition.name).write_text(text, encoding="utf-8")
        shutil.copytree(samples / "downloads", folder / "Downloads")


Tree = dict[str, FileState]
"""Path relative to a folder → its state; inodes left out, for the same file may have a new one."""


def tree_of(folder: Path) -> Tree:
    """Return content, mode and time of every path below a folder, and of the folder itself as an empty path."""
    tree: Tree = {}
    for directory, directories, names in os.walk(folder):
        for path in [directory, *(os.path.join(directory, name) for name in (*directories, *names))]:
            relative = Path(path).relative_to(folder).as_posix()
            tree[relative] = with_digest(state_at(path), path)._replace(inode=0)
    return tree


def differences(before: Tree, after: Tree) -> list[str]:
    """Return the differences between two trees, one per line; empty if path, content, mode and time are equal."""
    lines = []
    for path in sorted({*before, *after}):
        if path not in after:
            lines.append(f"{path} is missing")
        elif path not in before:
            lines.append(f"{path} is left over")
        elif before[path] != after[path]:
            what = "content" if before[path].digest != after[path].digest else "mode or time"
            lines.append(f"{path} differs in {what}")
    return lines


def count_of_files(tree: Tree) -> int:
    """Return how many files a tree has."""
    return sum(1 for state in tree.values() if state.kind is FileKind.FILE)
