"""`usufruct demo`: the real commands on sample data, shown as a user would type them."""

import os
import shlex
import site
import subprocess
import sys
import tempfile
from pathlib import Path

import click

from usufruct.actions.demonstration import count_of_files, differences, prepare_demo, tree_of
from usufruct.cli.screen import echo, echo_json, json_option, styled
from usufruct.errors import UsufructError, WrongUsage
from usufruct.files.paths import expanded
from usufruct.files.shells import quoted, setting
from usufruct.files.state_paths import HOME_VARIABLE

_SCENES: tuple[tuple[str, tuple[str, ...]], ...] = (
    (
        "Lanternbox is a shadow theatre. A short definition says where it looks for puppets, backdrops and gels.",
        ("app show lanternbox",),
    ),
    (
        "You downloaded some puppets. They are inside two folders with meaningless names. Where do they belong?",
        ("look Downloads/owl-family-v1.2.zip", "add Downloads/owl-family-v1.2.zip"),
    ),
    (
        "These gels come in two file formats. Lanternbox prefers one of them, so only that one is placed.",
        ("add Downloads/dusk-gels.tar.gz",),
    ),
    (
        "One of these backdrops replaces a picture that you painted yourself. Usufruct backs up yours first.",
        ("add Downloads/forest-backdrops.zip", "show forest-backdrops"),
    ),
    (
        "This download contains two versions of the same gels. Usufruct does not guess: it asks.",
        ("add Downloads/moon-gels.zip", "add Downloads/moon-gels.zip --choose dim"),
    ),
    (
        "This one is for Weftline, a weaving program. Usufruct sees that from its files and folders.",
        ("add Downloads/herringbone-and-more.tar.xz",),
    ),
    (
        "This archive tries to write outside its folder, and this download is incomplete. Nothing is placed.",
        ("add Downloads/sneaky-gels.zip", "add Downloads/half-a-download.zip"),
    ),
    (
        "A zip inside a zip, Russian file names from an old computer, and a set of four parts with one missing.",
        (
            "add Downloads/winter-season.zip",
            "look Downloads/old-harbours.zip",
            "look Downloads/night-sky.zip.001",
        ),
    ),
    ("What have you added so far?", ("list",)),
    (
        "You no longer want them. Remove them in any order, and your own picture is restored.",
        ("remove forest-backdrops moon-gels", "remove owl-family dusk-gels herringbone-and-more winter-season", "list"),
    ),
)


_ENDS = {
    "add Downloads/moon-gels.zip": 3,
    "add Downloads/sneaky-gels.zip": 4,
    "add Downloads/half-a-download.zip": 4,
    "look Downloads/night-sky.zip.001": 4,
}
"""Exit codes of commands that are to end with another than 0."""


@click.command()
@click.option(
    "--keep",
    metavar="DIR",
    type=click.Path(path_type=Path),
    help="Run it in this new folder and keep it to play with; nothing is removed at the end.",
)
@click.option("--bare", is_flag=True, help="With --keep: only create the sample data, place nothing.")
@json_option
def demo(*, keep: Path | None, bare: bool, as_json: bool) -> int:
    """Run a full example on sample data, in a separate folder.

    Your own folders, holdings and settings are not touched.
    """
    if bare and keep is None:
        raise WrongUsage("--bare needs a folder to leave the sample data in.", remedy="Add --keep DIR.")
    if keep is None:
        with tempfile.TemporaryDirectory(prefix="usufruct-demo-") as passing:
            return _play(Path(passing).resolve(), is_kept=False, as_json=as_json)
    folder = expanded(keep).absolute()
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise WrongUsage(f"{folder} is there already and not empty.", remedy="Name a folder that does not exist yet.")
    folder.mkdir(parents=True, exist_ok=True)
    if bare:
        prepare_demo(folder)
        _tell_kept(folder, as_json=as_json)
        return 0
    return _play(folder, is_kept=True, as_json=as_json)


def _play(folder: Path, *, is_kept: bool, as_json: bool) -> int:
    prepare_demo(folder)
    programs = [folder / name for name in ("Lanternbox", "Weftline", "Tidebook")]
    before = [tree_of(program) for program in programs]
    unexpected = []
    for title, commands in _SCENES[:-1] if is_kept else _SCENES:
        echo(styled(f"## {title}", "title"), err=as_json)
        for command in commands:
            if (code := _run(folder, command, as_json=as_json)) != _ENDS.get(command, 0):
                unexpected.append(f"`usufruct {command}` ended with exit code {code}.")
    if unexpected:
        raise UsufructError(
            f"The demo did not go as it should. {' '.join(unexpected)}",
            kept="Your own folders were not touched.",
            remedy="Please report this output.",
        )
    if is_kept:
        _tell_kept(folder, as_json=as_json)
        return 0
    faults = [
        fault for program, tree in zip(programs, before, strict=True) for fault in differences(tree, tree_of(program))
    ]
    echo(styled("## Are the folders exactly as they were?", "title"), err=as_json)
    if faults:
        for fault in faults:
            echo(f"  {fault}", err=as_json)
        raise UsufructError(
            "The demo's folders are not as they were before.",
            kept="Your own folders were not touched.",
            remedy="Please report this output: it must never happen.",
        )
    count = sum(map(count_of_files, before))
    echo(
        f"  Yes: {count} files in {len(programs)} folders have the same paths, content, permissions and times.",
        err=as_json,
    )
    if as_json:
        echo_json({"folder": None, "files": count, "folders": len(programs), "as_before": True})
    return 0


def _tell_kept(folder: Path, *, as_json: bool) -> None:
    if as_json:
        echo_json({"folder": str(folder), "home": str(folder / "usufruct")})
        return
    echo(styled("## The example is yours to play with.", "title"))
    echo(f"  cd {quoted(str(folder))}")
    echo(f"  {setting(HOME_VARIABLE, str(folder / 'usufruct'))}")
    echo("  usufruct list")


def _run(folder: Path, command: str, *, as_json: bool) -> int:
    """Show one command and let the real program run it; return its exit code."""
    words = shlex.split(command)
    echo(err=as_json)
    echo(f"{styled('$', 'good')} usufruct {command}", err=as_json)
    sys.stdout.flush()
    # The folder is also the home directory: no other program has content there, and paths are short.
    environment = {name: value for name, value in os.environ.items() if not name.startswith("XDG_")}
    environment |= {"HOME": str(folder), "USERPROFILE": str(folder), HOME_VARIABLE: str(folder / "usufruct")}
    environment.setdefault("PYTHONUSERBASE", site.getuserbase())  # where `pip install --user` installs
    done = subprocess.run(
        [sys.executable, "-m", "usufruct", *words],
        cwd=folder,
        env=environment,
        check=False,
        stdin=subprocess.DEVNULL,  # the demo answers its own question, even at a terminal
        stdout=sys.stderr if as_json else None,
        stderr=subprocess.STDOUT,  # questions and errors appear in the right order
    )
    if done.returncode:
        echo(styled(f"(exit code {done.returncode})", "quiet"), err=as_json)
    echo(err=as_json)
    return done.returncode
