"""Asks programs themselves whether they see what Usufruct places for them.

    python tools/consumers.py [--install] [--write] [NAME ...]

For each program: a made-up pack is added in a scratch home, the program is asked for it, the pack is removed, and the
program is asked again. With --install what is missing is installed from Debian (as root); with --write the table in
docs/programs.md is written. Ends with 1 if a program that was asked did not see its content, or still sees it.
"""

import argparse
import json
import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
import tomllib
import zipfile
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from usufruct.definitions.load import SHIPPED, load_application

DOCS = Path(__file__).parents[1] / "docs" / "programs.md"
BEGIN, END = "<!-- asked -->", "<!-- end of asked -->"
PROGRAM = str(Path(sys.executable).with_name("usufruct"))
_PATIENCE = 120


@dataclass
class Probe:
    """One program and what it is asked."""

    definition: str
    package: str
    """Debian's package that has the program; several with spaces between."""
    files: Mapping[str, str]
    """The made-up pack: path in it → content, one byte a character."""
    ask: str
    """A shell command that tells what the program sees; `$OUT` is a directory for its output."""
    sees: str
    """What it says then, as a regular expression."""
    made: tuple[str, ...] = ()
    """Directories below the home that the program's first start makes."""
    font: str = ""
    """Path in the pack of a font, which is built."""
    beside: Mapping[str, str] = field(default_factory=dict)
    """Files below `$OUT` that the command needs."""


def _font() -> bytes:
    """A font with one letter, built with the library that Matplotlib's package brings."""
    script = (
        "from fontTools.fontBuilder import FontBuilder\n"
        "from fontTools.pens.ttGlyphPen import TTGlyphPen\n"
        "import sys, io\n"
        "pen = TTGlyphPen(None)\n"
        "pen.moveTo((0, 0)); pen.lineTo((0, 700)); pen.lineTo((500, 700)); pen.lineTo((500, 0)); pen.closePath()\n"
        "glyph = pen.glyph()\n"
        "font = FontBuilder(1000, isTTF=True)\n"
        "font.setupGlyphOrder(['.notdef', 'A'])\n"
        "font.setupCharacterMap({65: 'A'})\n"
        "font.setupGlyf({'.notdef': glyph, 'A': glyph})\n"
        "font.setupHorizontalMetrics({'.notdef': (600, 0), 'A': (600, 0)})\n"
        "font.setupHorizontalHeader(ascent=800, descent=-200)\n"
        "font.setupNameTable({'familyName': 'Moonlit Serif', 'styleName': 'Regular'})\n"
        "font.setupOS2(); font.setupPost()\n"
        "font.save('/dev/stdout')\n"
    )
    return subprocess.run(["/usr/bin/python3", "-c", script], capture_output=True, check=True).stdout


def probes() -> list[Probe]:
    """All of them, from the table beside this script."""
    rows = tomllib.loads(Path(__file__).with_suffix(".toml").read_text(encoding="utf-8"))["probe"]
    return [Probe(**{**row, "made": tuple(row.get("made", ()))}) for row in rows]


@dataclass
class Answer:
    """What came of one probe."""

    probe: Probe
    version: str = ""
    said: str = ""
    """In words for the table; empty while nothing went wrong."""


def main() -> int:
    """Ask each program, print the table."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("names", nargs="*")
    parser.add_argument("--install", action="store_true")
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    answers = []
    for probe in probes():
        if options.names and probe.definition not in options.names:
            continue
        if options.install and not _version(probe):
            for package in probe.package.split():
                subprocess.run(
                    ["apt-get", "install", "-y", "-q", "--no-install-recommends", package],
                    env={**os.environ, "DEBIAN_FRONTEND": "noninteractive"}, capture_output=True, check=False,
                )  # fmt: skip
        answer = Answer(probe, _version(probe))
        answer.said = _asked(probe) if answer.version else "not asked: Debian's package could not be had"
        print(f"{probe.definition}: {answer.said}", flush=True)
        answers.append(answer)
    if options.write:
        _write(answers)
    return int(any(one.version and (not one.said.startswith("sees it") or "FAULT" in one.said) for one in answers))


def _version(probe: Probe) -> str:
    package = probe.package.split()[0]
    done = subprocess.run(
        ["dpkg-query", "-W", "-f", "${db:Status-Status} ${Version}", package],
        capture_output=True,
        text=True,
        check=False,
    )
    state, _, version = done.stdout.partition(" ")
    return version if state == "installed" else ""


def _asked(probe: Probe) -> str:
    """What the program says before, with and after the pack, in words."""
    with tempfile.TemporaryDirectory(prefix="usufruct-consumers-") as scratch:
        home, out = Path(scratch) / "home", Path(scratch) / "out"
        for directory in (home, out, *(home / made for made in probe.made)):
            directory.mkdir(parents=True, exist_ok=True)
        for name, content in probe.beside.items():
            (out / name).write_text(content)
        archive = Path(scratch) / f"moonlit for {probe.definition}.zip"
        with zipfile.ZipFile(archive, "w") as packed:
            for name, content in probe.files.items():
                packed.writestr(name, content.encode("latin-1"))
            if probe.font:
                packed.writestr(probe.font, _font())
        kept = {name: value for name, value in os.environ.items() if not name.startswith("XDG_")}
        around = {
            **kept,
            "PATH": f"{kept['PATH']}:/usr/games",
            "HOME": str(home),
            "USUFRUCT_HOME": str(Path(scratch) / "state"),
            "OUT": str(out),
        }
        if re.search(probe.sees, _said(probe, around, out), re.MULTILINE):
            return "FAULT: seen before it was placed"
        placed = "without a question"
        if _usufruct(around, "add", str(archive), "--yes").returncode:
            placed = f"with --app {probe.definition}{_alone(around, probe, Path(scratch), archive)}"
            words = ("--app", probe.definition, "--programs", "allow", "--autostart", "allow")
            named = _usufruct(around, "add", str(archive), *words)
            if named.returncode:
                return f"FAULT: not placed: {named.stdout[-300:]}{named.stderr[-300:]}"
        if not re.search(probe.sees, said := _said(probe, around, out), re.MULTILINE):
            return f"FAULT: not seen; it says {said[-300:]!r}"
        _usufruct(around, "remove", "--app", probe.definition)
        if re.search(probe.sees, _said(probe, around, out), re.MULTILINE):
            return "FAULT: still seen after it was removed"
    return f"sees it, placed {placed}; gone once removed"


def _alone(around: Mapping[str, str], probe: Probe, scratch: Path, archive: Path) -> str:
    """What becomes of the pack where this program is the only one, in words."""
    alone = scratch / "bin"
    alone.mkdir()
    for name in load_application(SHIPPED / f"{probe.definition}.toml", is_shipped=True).program:
        if found := shutil.which(name, path=around["PATH"]):
            (alone / name).symlink_to(found)
    only = {**around, "PATH": str(alone), "USUFRUCT_HOME": str(scratch / "alone")}
    seen = json.loads(_usufruct(only, "look", str(archive), "--json").stdout)["archives"][0]
    if seen["decision"]:
        return ", alone on a machine too"
    application = seen["application"]
    return ", alone on a machine without" if application == probe.definition else f" (FAULT: {application})"


def _usufruct(around: Mapping[str, str], *words: str) -> "subprocess.CompletedProcess[str]":
    return subprocess.run([PROGRAM, *words], env=around, capture_output=True, text=True, check=False)


def _said(probe: Probe, around: Mapping[str, str], out: Path) -> str:
    (out / "said").unlink(missing_ok=True)
    try:
        done = subprocess.run(["bash", "-c", probe.ask], env=around, capture_output=True, text=True, errors="replace",
                              timeout=_PATIENCE, cwd=out, stdin=subprocess.DEVNULL, check=False)  # fmt: skip
    except subprocess.TimeoutExpired:
        return "(no answer in time)"
    return done.stdout


def _write(answers: list[Answer]) -> None:
    rows = ["| definition | Debian's package | asked with | outcome |", "|---|---|---|---|"]
    for one in answers:
        command = shutil.which(one.probe.ask.split()[0]) or one.probe.ask.split()[0]
        package = f"{one.probe.package.split()[0]} {one.version}".strip()
        rows.append(f"| {one.probe.definition} | {package} | `{Path(command).name}` | {one.said} |")
    text = DOCS.read_text(encoding="utf-8")
    before, _, rest = text.partition(BEGIN)
    date = time.strftime("%Y-%m-%d")
    table = "\n".join(rows)
    DOCS.write_text(
        f"{before}{BEGIN}\nAsked on {date}, Debian 12.\n\n{table}\n{END}{rest.partition(END)[2]}", encoding="utf-8"
    )


if __name__ == "__main__":
    sys.exit(main())
