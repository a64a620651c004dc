"""Judges real content packages of Debian, npm and the Python index: right, asked or wrong, against a table.

    python tools/real_packages.py DIRECTORY [--write] [NAME ...]

The packages named in real_packages.toml are fetched into DIRECTORY with the ordinary package clients, unless they are
there, and looked at in a scratch home in which every shipped definition is here. Ends with 1 if any is wrong. With
--write the counts go into docs/judgement.md.
"""

import argparse
import json
import os
import subprocess
import sys
import tempfile
import time
import tomllib
from collections import Counter
from collections.abc import Mapping
from pathlib import Path

from usufruct.definitions.load import load_applications

PROGRAM = str(Path(sys.executable).with_name("usufruct"))
PAGE = Path(__file__).parents[1] / "docs" / "judgement.md"
BEGIN, END = "<!-- real packages -->", "<!-- end of real packages -->"
CLIENTS = {
    "deb": ["apt-get", "download", "-q"],
    "npm": ["npm", "pack", "--silent"],
    "pypi": [sys.executable, "-m", "pip", "download", "-q", "--no-deps"],
}
OUTCOMES = ("right", "asked well", "asked needlessly", "wrong", "not fetched")


def main() -> int:
    """Fetch, judge, count."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("directory", type=Path)
    parser.add_argument("names", nargs="*")
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    rows = tomllib.loads(Path(__file__).with_suffix(".toml").read_text(encoding="utf-8"))["package"]
    counted: Counter[str] = Counter()
    with tempfile.TemporaryDirectory(prefix="usufruct-packages-") as home:
        around = _home(Path(home))
        for row in rows:
            if options.names and row["name"] not in options.names:
                continue
            file = _fetched(options.directory, row["from"], row["name"])
            outcome, said = _judged(file, row, around) if file else ("not fetched", "")
            counted[outcome] += 1
            if outcome != "right":
                print(f"{outcome:16}  {row['name']}  {said}  {row.get('why', '')}".rstrip())
    words = ", ".join(f"{counted[outcome]} {outcome}" for outcome in OUTCOMES if counted[outcome])
    print(f"Of {counted.total()}: {words}")
    if options.write:
        before, _, rest = PAGE.read_text(encoding="utf-8").partition(BEGIN)
        said = f"{time.strftime('%Y-%m-%d')}: of {counted.total()} packages {words}."
        PAGE.write_text(f"{before}{BEGIN}\n{said}\n{END}{rest.partition(END)[2]}", encoding="utf-8")
    return int(counted["wrong"] > 0)


def _home(home: Path) -> Mapping[str, str]:
    """The environment of somebody who has every program."""
    kept = {name: value for name, value in os.environ.items() if not name.startswith("XDG_")}
    around = {**kept, "HOME": str(home), "USUFRUCT_HOME": str(home / "state")}
    os.environ.clear()
    os.environ.update(around)
    for application in load_applications(home / "none", lambda fault: sys.exit(str(fault))):
        Path(application.root.replace("[0-9]*", "3.0").replace("*", "1")).mkdir(parents=True, exist_ok=True)
    return around


def _fetched(directory: Path, client: str, name: str) -> Path | None:
    """The package's file, fetched if it is not there; None where it cannot be had."""
    place = directory / client / name.replace("/", "-")
    place.mkdir(parents=True, exist_ok=True)
    if not any(place.iterdir()):
        subprocess.run([*CLIENTS[client], name], cwd=place, capture_output=True, timeout=180, check=False)
    return next(iter(sorted(place.iterdir())), None)


def _judged(file: Path, row: Mapping[str, str], around: Mapping[str, str]) -> tuple[str, str]:
    done = subprocess.run(
        [PROGRAM, "look", str(file), "--json"], env=around, capture_output=True, text=True, check=False
    )
    (found,) = json.loads(done.stdout)["archives"]
    folders = sorted({one["folder"] for one in found["placements"]})
    if found["decision"]:
        said = found["decision"]["question"][:80]
        return ("asked well" if row.get("asks") else "asked needlessly"), said
    if found["error"] and not found["placements"]:
        return "wrong", str(found["error"]["message"])[:80]
    is_right = found["application"] == row.get("for") and set(folders) <= set(row.get("folders", folders))
    return ("right" if is_right else "wrong"), f"{found['application']}: {', '.join(folders)}"


if __name__ == "__main__":
    sys.exit(main())
