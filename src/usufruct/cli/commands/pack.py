"""`usufruct pack`."""

from __future__ import annotations

import re
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from usufruct.archives.writing import EFFORTS, FORMATS, USUAL_EFFORT
from usufruct.cli import words
from usufruct.cli.context import real_context
from usufruct.cli.screen import (
    count_words,
    echo,
    echo_json,
    json_option,
    page,
    path_words,
    shortened,
    size_words,
    styled,
    wrapped,
)
from usufruct.errors import PasswordNeeded, WrongUsage
from usufruct.files.printable import printable
from usufruct.model.entries import EntryKind

if TYPE_CHECKING:
    from usufruct.actions.packing import Made, Packing, ToPack

_UNITS = {"": 1, "k": 10**3, "m": 10**6, "g": 10**9, "ki": 2**10, "mi": 2**20, "gi": 2**30}
_SIZE = re.compile(r"(\d+(?:\.\d+)?)\s*([kmg]i?)?b?", re.IGNORECASE)
_SHOWN = 8
"""Entries and things left out that are named one by one."""


def _volume(click_context: click.Context, option: click.Parameter, value: str | None) -> int | None:
    from usufruct.actions.packing import LEAST_VOLUME

    if value is None:
        return None
    found = _SIZE.fullmatch(value.strip())
    if not found:
        raise click.BadParameter(f"{value} is no size; 700MB, 4GB and 650MiB are.")
    size = int(float(found[1]) * _UNITS[(found[2] or "").lower()])
    if size < LEAST_VOLUME:
        raise click.BadParameter(f"a volume has at least {LEAST_VOLUME >> 10} KiB.")
    return size


@click.command()
@click.argument("sources", metavar="SOURCE...", nargs=-1, required=True, shell_complete=words.sources)
@click.option(
    "--out",
    metavar="FILE",
    type=click.Path(path_type=Path),
    help="The archive to write; its suffix decides the format.",
)
@click.option("--format", "archive_format", type=click.Choice(list(FORMATS)), help="The format; zip by default.")
@click.option(
    "--effort",
    type=click.IntRange(EFFORTS[0], EFFORTS[-1]),
    default=USUAL_EFFORT,
    show_default=True,
    help="0 does not compress, 9 is slowest and smallest.",
)
@click.option("--lock", is_flag=True, help="Ask for a password and encrypt with it (AES; zip and 7z).")
@click.option(
    "--password-file",
    metavar="FILE",
    type=click.Path(path_type=Path, allow_dash=True),
    help="Encrypt with the password in the first line of this file; `-` reads standard input.",
)
@click.option(
    "--volume", metavar="SIZE", callback=_volume, help="Split the archive into files of this size, such as 700MB."
)
@click.option(
    "--wrapper", metavar="NAME", help="Name of the folder around everything; by default the name of the source."
)
@click.option("--no-wrapper", is_flag=True, help="No folder around everything.")
@click.option("--with-junk", is_flag=True, help="Also include junk files of systems and editors.")
@click.option("--dry-run", is_flag=True, help="Only show what the archive would contain.")
@json_option
def pack(sources: tuple[str, ...], *, dry_run: bool, as_json: bool, **options: Any) -> None:
    """Make an archive of each SOURCE: files, a folder, or a holding as it is on disk now.

    Everything goes into one folder inside the archive; junk files are left out. The archive is read back and compared
    with the disk before it gets its name. An existing file is never overwritten.
    """
    from msgspec.structs import replace

    from usufruct.actions.packing import pack_planned, plan_packing
    from usufruct.cli.progress import Watching

    packing = _packing(sources, options)
    context = real_context()
    plan = plan_packing(context, packing)
    if dry_run:
        _tell_plan(plan, as_json=as_json)
        return
    if packing.is_locked:
        packing = replace(packing, password=_password(options["password_file"]))
    with Watching() as watching:
        made = pack_planned(replace(context, watch=watching), plan, packing)
    if as_json:
        echo_json(_document(plan) | {"archive": [str(path) for path in made.volumes], "packed": made.size})
    else:
        _tell_made(made, packing)


def _packing(sources: tuple[str, ...], options: dict[str, Any]) -> Packing:
    """Return what the options ask for; the password is asked for later."""
    from usufruct.actions.packing import Packing

    if options["no_wrapper"] and options["wrapper"] is not None:
        raise WrongUsage("--wrapper and --no-wrapper contradict each other.", remedy="Give one of them.")
    return Packing(
        sources=sources,
        out=options["out"],
        format=options["archive_format"],
        effort=options["effort"],
        volume=options["volume"],
        wrapper="" if options["no_wrapper"] else options["wrapper"],
        with_junk=options["with_junk"],
        is_locked=bool(options["lock"] or options["password_file"]),
    )


def _password(file: Path | None) -> str:
    from usufruct.actions.passwords import lines_of

    if file:
        words = lines_of(file)
        if not words:
            raise WrongUsage(f"{file} holds no password.", remedy="Write it in the file's first line.", path=str(file))
        return words[0]
    if not sys.stdin.isatty():
        raise PasswordNeeded(
            "A password is needed, and nobody can be asked.", remedy="Give it with --password-file FILE."
        )
    word: str = click.prompt("Password for the new archive", hide_input=True, confirmation_prompt="Once more", err=True)
    return word


def _document(plan: ToPack) -> dict[str, object]:
    return {
        "format": plan.format,
        "files": plan.files,
        "bytes": plan.size,
        "entries": [member.entry for member in plan.members],
        "left_out": [{"path": one.path, "reason": one.reason} for one in plan.left_out],
    }


def _tell_plan(plan: ToPack, *, as_json: bool) -> None:
    if as_json:
        echo_json(_document(plan))
        return
    echo(
        f"{styled(path_words(str(plan.out)), 'title')}  would hold {count_words(plan.files, 'file')},"
        f" {size_words(plan.size)}"
    )
    for member in plan.members[:_SHOWN]:
        size = "empty folder" if member.kind is EntryKind.DIRECTORY else size_words(member.size)
        echo(f"  {shortened(member.entry, max(20, page() - 16))}  {styled(size, 'quiet')}")
    if len(plan.members) > _SHOWN:
        echo(f"  … and {len(plan.members) - _SHOWN:,} more")
    _tell_left_out(plan)


def _tell_made(made: Made, packing: Packing) -> None:
    plan = made.plan
    share = f", {made.size / plan.size:.0%} of it" if made.size < plan.size else ""
    locked = ", locked" if packing.is_locked else ""
    echo(
        f"{styled('Packed', 'good')} {count_words(plan.files, 'file')}, {size_words(plan.size)}, into"
        f" {size_words(made.size)}{share}"
    )
    for path in made.volumes[:_SHOWN]:
        echo(f"  {styled(path_words(str(path)), 'place')}")
    if len(made.volumes) > _SHOWN:
        echo(f"  … to {printable(made.volumes[-1].name)}, {len(made.volumes):,} volumes")
    inside = f"everything inside the folder {printable(plan.wrapper)}" if plan.wrapper else "no folder around it"
    for line in wrapped(f"{plan.format}{locked}, {inside}; read back and compared with the disk", "  "):
        echo(f"  {line}")
    _tell_left_out(plan)


def _tell_left_out(plan: ToPack) -> None:
    for one in plan.left_out[:_SHOWN]:
        echo(f"  {styled('left out', 'care')}  {path_words(one.path)}: {printable(one.reason)}")
    if len(plan.left_out) > _SHOWN:
        echo(f"  {styled('left out', 'care')}  and {len(plan.left_out) - _SHOWN:,} more; --json names all")
