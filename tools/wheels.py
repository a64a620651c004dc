"""Which dependency has no wheel for which system and Python: `python tools/wheels.py [PYTHON…]`.

What is named must be optional there, with a way round, or be built by whoever installs. Ends with 1 if anything is.
"""

import subprocess
import sys
import tempfile
import tomllib
from pathlib import Path

from packaging.requirements import Requirement

PYTHONS = ("3.11", "3.14")
_LINUX = ("manylinux2014", "manylinux_2_17", "manylinux_2_24", "manylinux_2_26", "manylinux_2_28", "manylinux_2_34")
_MACOS = ("10_9", "10_13", "10_15", "11_0", "12_0", "13_0", "14_0", "15_0")
SYSTEMS = {
    "Windows": ("AMD64", ["win_amd64"]),
    "Windows on ARM": ("ARM64", ["win_arm64"]),
    "macOS": ("arm64", [f"macosx_{one}_{kind}" for one in _MACOS for kind in ("arm64", "universal2")]),
    "macOS on Intel": ("x86_64", [f"macosx_{one}_{kind}" for one in _MACOS for kind in ("x86_64", "universal2")]),
    "Linux": ("x86_64", [f"{one}_x86_64" for one in _LINUX]),
    "Linux on ARM": ("aarch64", [f"{one}_aarch64" for one in _LINUX]),
    "Linux with musl": ("x86_64", ["musllinux_1_1_x86_64", "musllinux_1_2_x86_64"]),
}
"""What `platform_machine` says there, and the tags of wheels that install there."""


def has_wheel(requirement: Requirement, python: str, tags: list[str]) -> bool:
    """Whether the index has a wheel of it for one of the tags."""
    with tempfile.TemporaryDirectory() as kept:
        command = [sys.executable, "-m", "pip", "download", "--quiet", "--no-deps", "--only-binary=:all:"]
        platforms = [word for tag in tags for word in ("--platform", tag)]
        wanted = f"{requirement.name}{requirement.specifier}"
        command += ["--python-version", python, *platforms, "--dest", kept, wanted]
        return subprocess.run(command, capture_output=True).returncode == 0


def main() -> int:
    """Ask for each dependency, system and Python."""
    text = (Path(__file__).parents[1] / "pyproject.toml").read_text("utf-8")
    requirements = [Requirement(line) for line in tomllib.loads(text)["project"]["dependencies"]]
    are_missing = False
    for python in sys.argv[1:] or PYTHONS:
        for system, (machine, tags) in SYSTEMS.items():
            here = {"platform_machine": machine, "python_version": python}
            wanted = [one for one in requirements if one.marker is None or one.marker.evaluate(here)]
            missing = [one.name for one in wanted if not has_wheel(one, python, tags)]
            are_missing = are_missing or bool(missing)
            print(f"Python {python}, {system}: {'lacks ' + ', '.join(missing) if missing else 'all'}", flush=True)
    return are_missing


if __name__ == "__main__":
    sys.exit(main())
