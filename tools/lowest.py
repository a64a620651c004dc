"""Run the tests with the lowest version of every library that pyproject.toml allows.

    python tools/lowest.py [--only MODULE...] [DIRECTORY]

In DIRECTORY (by default a temporary one) an environment is made with exactly those versions; what a library needs of
others is left to it. Fails if one cannot be installed, or a test fails.
"""

import argparse
import re
import subprocess
import sys
import tempfile
import tomllib
import venv
from pathlib import Path

_PROJECT = Path(__file__).parents[1]
_BOUND = re.compile(r"([\w.-]+)>=([\w.]+)")


def lowest() -> list[str]:
    """`name==version` for each library that Usufruct itself needs."""
    project = tomllib.loads((_PROJECT / "pyproject.toml").read_text(encoding="utf-8"))["project"]
    extras = project["optional-dependencies"]
    needed = [*project["dependencies"], *extras["lz4"], *extras["brotli"]]
    return [f"{name}=={version}" for line in needed for name, version in _BOUND.findall(line.partition(";")[0])]


def main() -> int:
    """Make the environment, install, run; the exit code is that of the tests."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("directory", nargs="?", type=Path)
    parser.add_argument("--only", nargs="*", default=[], metavar="MODULE", help="modules of tests; otherwise all")
    options = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="usufruct-lowest-") as passing:
        directory = options.directory or Path(passing)
        venv.create(directory, with_pip=True)
        python = str(directory / ("Scripts" if sys.platform == "win32" else "bin") / "python")
        constraints = directory / "lowest.txt"
        constraints.write_text("\n".join(lowest()) + "\n", encoding="utf-8")
        install = [python, "-m", "pip", "install", "-q", "-c", str(constraints), "-e", f"{_PROJECT}[dev]"]
        if code := subprocess.call(install):
            return code
        tests = ["unittest", *options.only] if options.only else ["tests"]
        return subprocess.call([python, "-m", *tests], cwd=_PROJECT)


if __name__ == "__main__":
    sys.exit(main())
