"""Make every picture in docs/screenshots from the demo data, in a real terminal window.

    python tools/screenshots.py [NAME...]

Needs Xvfb, xterm and ImageMagick (Debian: xvfb xterm imagemagick fonts-dejavu-core). Each scene lists the commands
that come before, unseen, and the one that is shown.
"""

import argparse
import os
import shlex
import subprocess
import sysconfig
import tempfile
import time
from pathlib import Path

from usufruct.actions.demonstration import prepare_demo

PICTURES = Path(__file__).resolve().parent.parent / "docs" / "screenshots"
WIDTH, HEIGHT = 1280, 800
COLUMNS, LINES = 105, 36

ADDED = (
    "add Downloads/owl-family-v1.2.zip",
    "add Downloads/dusk-gels.tar.gz",
    "add Downloads/forest-backdrops.zip",
    "add Downloads/herringbone-and-more.tar.xz",
)
SCENES: dict[str, tuple[tuple[str, ...], tuple[str, ...]]] = {
    # name: commands before, commands shown
    "look": ((), ("look Downloads/owl-family-v1.2.zip",)),
    "add": ((), ("add Downloads/forest-backdrops.zip",)),
    "question": ((), ("add Downloads/moon-gels.zip",)),
    "learn": (ADDED, ("app learn Tidebook --name again",)),
    "list": (ADDED, ("list", "show forest-backdrops")),
    "downloads": (ADDED, ("downloads", "archives")),
    "check": (
        (*ADDED, "add Downloads/winter-season.zip"),
        ("!rm Lanternbox/Gels/frost.gel", "check", "repair winter-season", "whose Lanternbox --nobodys"),
    ),
    "undo": (
        (*ADDED, "remove dusk-gels forest-backdrops"),
        ("history", "undo", "undo", "history", "redo"),
    ),
    "many": ((), ("add Downloads/*-gels.*",)),
    "nothing": (("!rm usufruct/apps/lanternbox.toml",), ("look Downloads/forest-backdrops.zip",)),
    "away": (
        # A drive that can be pulled out; only who may mount can take this picture.
        (
            "!mv Lanternbox own; mkdir Lanternbox; mount -t tmpfs tmpfs Lanternbox; cp -a own/. Lanternbox",
            *ADDED,
            "!umount -l Lanternbox",
        ),
        ("list", "remove owl-family herringbone-and-more", "check dusk-gels"),
    ),
    "sizes": (
        (*ADDED, "add Downloads/old-harbours.zip --afterwards store"),
        ("list --sizes", "archives", "check --store"),
    ),
    "pack": (
        ADDED,
        (
            "pack owl-family --out for-a-friend.zip",
            "pack Lanternbox/Gels Lanternbox/Puppets --out theatre.tar.zst --effort 9",
            "pack Lanternbox --out parts.zip --volume 64KiB --password-file words",
        ),
    ),
    "carry": (
        (*ADDED, "add Downloads/evening-gels.zip --to shelf"),
        (
            "carry out everything",
            "!export USUFRUCT_HOME=there/usufruct; mkdir -p there/Lanternbox",
            "carry in everything.zip --map ~/Lanternbox=there/Lanternbox --yes",
        ),
    ),
    "settings": ((), ("settings set patience 10", "settings")),
    "remove": (ADDED, ("remove forest-backdrops owl-family", "list")),
    "reading": (
        (),
        (
            "look Downloads/old-harbours.zip",
            "look Downloads/night-sky.zip.001",
            "look --verify Downloads/*.zip",
        ),
    ),
    "refused": ((), ("add Downloads/sneaky-gels.zip", "add Downloads/half-a-download.zip")),
    "standing": ((*ADDED, "downloads"), ("", "--plain look Downloads/moon-gels.zip")),
}


NO_PROGRAMS = "/none"
"""A search path without the programs of this machine, which have no place in a picture of the sample world."""
UNASKED = frozenset({"many"})
"""Scenes in which nobody sits at the terminal, so that nothing is asked."""


def take(name: str, folder: Path, display: str) -> None:
    """Play one scene in a terminal window and take its picture."""
    program = Path(sysconfig.get_path("scripts")) / "usufruct"
    home = folder / "user"
    home.mkdir()
    environment = {
        **os.environ,
        "DISPLAY": display,
        "HOME": str(home),
        "TERM": "xterm-256color",
        "PAGER": "cat",
        "LC_ALL": "C.UTF-8",
        "TZ": "UTC",
    }
    for variable in ("USUFRUCT_HOME", "NO_COLOR", "COLUMNS", "XDG_DATA_HOME", "XDG_CONFIG_HOME"):
        environment.pop(variable, None)
    # The demo's folder is the user's home, so that paths read as on a real desk.
    prepare_demo(home)
    for definition in (home / "usufruct" / "apps").iterdir():
        definition.write_text(definition.read_text().replace(str(home), "~"))
    environment["USUFRUCT_HOME"] = str(home / "usufruct")
    environment["USUFRUCT_DOWNLOADS"] = str(home / "Downloads")
    (home / "words").write_text("shadow play\n", encoding="utf-8")
    before, shown = SCENES[name]
    for command in before:
        words = ["sh", "-c", command[1:]] if command.startswith("!") else [str(program), *shlex.split(command)]
        around = environment if command.startswith("!") else {**environment, "PATH": NO_PROGRAMS}
        subprocess.run(words, cwd=home, env=around, check=False, capture_output=True)
    lines = ["clear"]
    for command in shown:
        if command.startswith("!"):
            lines += [f"printf '\\033[32m$\\033[0m %s\\n' {shlex.quote(command[1:])}", command[1:], "echo"]
            continue
        lines.append(f"printf '\\033[32m$\\033[0m usufruct %s\\n' {shlex.quote(command)}")
        lines.append(
            f"PATH={NO_PROGRAMS} {shlex.quote(str(program))} {command}{' </dev/null' if name in UNASKED else ''}"
        )
        lines.append("echo")
    lines += [f"touch {shlex.quote(str(folder / 'shown'))}", "sleep 60"]
    script = folder / "scene.sh"
    script.write_text("\n".join(lines), encoding="utf-8")
    window = subprocess.Popen(
        [
            "xterm",
            "-geometry",
            f"{COLUMNS}x{LINES}+0+0",
            "-fa",
            "DejaVu Sans Mono",
            "-fs",
            "14",
            "-bg",
            "#14171c",
            "-fg",
            "#d8dee4",
            "-b",
            "12",
            "+sb",
            "-cr",
            "#14171c",
            "-e",
            "sh",
            str(script),
        ],
        cwd=home,
        env=environment,
    )
    try:
        for _ in range(200):
            if (folder / "shown").exists():
                break
            time.sleep(0.1)
        time.sleep(0.6)
        picture = PICTURES / f"{name}.png"
        subprocess.run(
            [
                "import",
                "-window",
                "root",
                "-crop",
                f"{WIDTH}x{HEIGHT}+0+0",
                "+repage",
                "-strip",
                "+dither",
                "-colors",
                "64",
                picture,
            ],
            env=environment,
            check=True,
        )
    finally:
        window.terminate()
        window.wait()
    print(f"{picture.name}: {picture.stat().st_size:,} bytes")


def main() -> None:
    """Take the pictures named, or all."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("names", nargs="*", choices=[*SCENES, []], metavar="NAME")
    names = parser.parse_args().names
    PICTURES.mkdir(parents=True, exist_ok=True)
    display = f":{90 + os.getpid() % 900}"
    server = subprocess.Popen(
        ["Xvfb", display, "-screen", "0", f"{WIDTH}x{HEIGHT}x24"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    try:
        time.sleep(1)
        for name in names or SCENES:
            with tempfile.TemporaryDirectory(prefix="usufruct-picture-") as folder:
                take(name, Path(folder), display)
    finally:
        server.terminate()
        server.wait()


if __name__ == "__main__":
    main()
