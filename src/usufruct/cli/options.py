"""The options that `look` and `add` share, and the Request they make."""

from __future__ import annotations

import codecs
import os
import sys
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from usufruct.cli import words
from usufruct.cli.habits import meant_path
from usufruct.cli.screen import echo, shell_words
from usufruct.errors import MissingArchive, UsufructError, WrongUsage
from usufruct.files.paths import expanded
from usufruct.files.printable import printable
from usufruct.model.applications import Programs
from usufruct.model.choices import Choices, OnClash

if TYPE_CHECKING:
    from usufruct.actions.context import Context
    from usufruct.actions.outcomes import Examined
    from usufruct.actions.request import Request
    from usufruct.archives.reading import Access
    from usufruct.model.facts import Facts

F = TypeVar("F", bound=Callable[..., Any])


def _encoding(click_context: click.Context, option: click.Parameter, value: str | None) -> str | None:
    if value is not None:
        try:
            codecs.lookup(value)
        except LookupError:
            raise click.BadParameter(f"{value} is no encoding that is known; cp437, cp866 and cp932 are.") from None
    return value


archives_argument = click.argument(
    "archives",
    metavar="ARCHIVE...",
    nargs=-1,
    required=True,
    type=click.Path(path_type=Path),
    shell_complete=words.archives,
)
"""The archives of commands that need at least one."""
ACCESS_OPTIONS = (
    click.option(
        "--password-file",
        metavar="FILE",
        type=click.Path(path_type=Path, allow_dash=True),
        help="File with passwords for locked archives, one per line; `-` reads standard input.",
    ),
    click.option(
        "--names",
        metavar="ENCODING",
        callback=_encoding,
        shell_complete=words.encodings,
        help="Encoding of the file names in an old archive, such as cp437.",
    ),
)
"""What opening an archive may need."""

_OPTIONS = [
    click.option(
        "--app",
        "apps",
        metavar="NAME",
        multiple=True,
        shell_complete=words.applications,
        help="Which program it is for; otherwise Usufruct finds out. Given twice, each program gets its part.",
    ),
    click.option(
        "--into",
        metavar="FOLDER",
        shell_complete=words.folders,
        help="Put everything into this folder of the program, or into a folder inside it: FOLDER/SUB.",
    ),
    click.option(
        "--to", metavar="DIR", type=click.Path(path_type=Path), help="Place the files in this directory instead."
    ),
    click.option("--flat", is_flag=True, help="With --to: skip folders that contain nothing but one other folder."),
    click.option(
        "--only",
        metavar="PATTERN",
        multiple=True,
        shell_complete=words.entries,
        help="Only files with this path or name; repeatable.",
    ),
    click.option(
        "--skip",
        metavar="PATTERN",
        multiple=True,
        shell_complete=words.entries,
        help="No files with this path or name; repeatable.",
    ),
    click.option(
        "--choose",
        metavar="NAME",
        multiple=True,
        shell_complete=words.answers,
        help="Which of several versions to place; repeatable; `all` places all.",
    ),
    click.option("--pick", "picks", is_flag=True, help="Choose the files from a checklist, at a terminal."),
    click.option("--nested", is_flag=True, help="Also unpack archives inside the archive."),
    click.option("--every-format", is_flag=True, help="Place every file format, not only the one the program prefers."),
    click.option(
        "--on-clash",
        type=click.Choice([value.value for value in OnClash]),
        help="What to do if a different file is already there: back it up and replace it, keep it, replace it only if "
        "the new one is newer, place only files that exist already, place both, or ask. By default your files are "
        "replaced, and files of other holdings are asked about.",
    ),
    click.option(
        "--update",
        metavar="HOLDING",
        shell_complete=words.holdings,
        help="Treat the archive as a new version of this holding.",
    ),
    click.option(
        "--claim",
        is_flag=True,
        help="Adopt identical files that are already there, so that removing the holding removes them too.",
    ),
    click.option("--unpacked", is_flag=True, help="ARCHIVE is a folder that you have already unpacked."),
    click.option("--as", "name", metavar="NAME", help="Name of the holding."),
    click.option("--programs", type=click.Choice(["allow", "refuse"]), help="Whether to place program files."),
    click.option("--together", is_flag=True, help="Add several archives as one holding."),
    click.option(
        "--yes", "takes_safe", is_flag=True, help="Answer questions automatically when the answer loses nothing."
    ),
    click.option(
        "--autostart",
        type=click.Choice(["allow"]),
        help="Place files even where the system, a login or a shell runs them automatically.",
    ),
    click.option("--skip-unsafe", is_flag=True, help="Leave out unsafe entries and place the rest."),
    click.option("--rescue", "rescues", is_flag=True, help="From a damaged archive, take the files that are intact."),
    *ACCESS_OPTIONS,
]


def request_options(command: F) -> F:
    """Give a command the options that say what to do with archives."""
    for option in reversed(_OPTIONS):
        command = option(command)
    return command


def access_options(command: F) -> F:
    """Give a command the options for opening archives."""
    for option in reversed(ACCESS_OPTIONS):
        command = option(command)
    return command


def access_of(context: Context, options: dict[str, Any], *, may_ask: bool = True) -> Access:
    """Return what these options say about opening archives; a person at a terminal may be asked."""
    from usufruct.actions.passwords import known_passwords
    from usufruct.archives.allowance import Limits
    from usufruct.archives.reading import Access

    ask = _ask_password if may_ask and sys.stdin.isatty() and str(options["password_file"]) != "-" else None
    settings = context.settings()
    return Access(
        passwords=known_passwords(context.paths, options["password_file"], ask, context.on_fault),
        names=options["names"],
        rescues=options.get("rescues", False),
        limits=Limits(entries=settings.most_entries, ratio=settings.most_ratio, levels=settings.most_levels),
    )


def _ask_password(name: str, attempt: int) -> str | None:
    again = " (Enter skips it)" if attempt == 1 else " (that one does not fit; Enter skips it)"
    try:
        word: str = click.prompt(
            f"Password for {printable(name)}{again}", hide_input=True, default="", show_default=False, err=True
        )
    except click.Abort:
        return None
    return word or None


def request_of(context: Context, options: dict[str, Any], *, may_ask: bool = True) -> Request:
    """Return the request that these options make."""
    from usufruct.actions.applications import (
        application_named,
        applications_here,
        applications_with_folder,
        known_applications,
    )
    from usufruct.actions.request import Request

    for option in ("apps", "into"):
        if options["to"] and options[option]:
            raise WrongUsage(
                f"--to and --{option.removesuffix('s')} contradict each other: --to places without an application.",
                remedy="Give one of them.",
            )
    if options["flat"] and not options["to"]:
        raise WrongUsage("--flat belongs to --to.", remedy="For an application, its definition decides about folders.")
    known = applications = [] if options["to"] else applications_here(context)
    if options["apps"]:
        every = known_applications(context)
        applications = list(dict.fromkeys(application_named(every, name) for name in options["apps"]))
    if options["into"]:
        applications = applications_with_folder(applications, options["into"])
    on_clash = options["on_clash"] or (not options["claim"] and context.settings().on_clash)
    return Request(
        applications=tuple(applications),
        known=() if applications is known else tuple(known),
        is_named=bool(options["apps"] or options["into"]),
        together=options["together"],
        is_unpacked=options["unpacked"],
        password_file=str(options["password_file"] or ""),
        takes_safe=options["takes_safe"],
        to=str(expanded(options["to"]).absolute()) if options["to"] else None,
        update=options["update"],
        conflict_is_said=bool(on_clash or options["claim"]),
        name=options["name"],
        access=access_of(context, options, may_ask=may_ask),
        choices=Choices(
            only=options["only"],
            skip=options["skip"],
            into=options["into"],
            choose=options["choose"],
            nested=options["nested"],
            flat=options["flat"],
            every_format=options["every_format"],
            programs=Programs(options["programs"]) if options["programs"] else None,
            on_clash=OnClash(on_clash or (OnClash.KEEP if options["claim"] else OnClash.REPLACE)),
            claim=options["claim"],
            autostart=options["autostart"] == "allow",
            skip_unsafe=options["skip_unsafe"],
        ),
    )


def paths_of(context: Context, words: Sequence[Path], options: dict[str, Any]) -> list[Path]:
    """Return the downloads that a command's words mean; with `--unpacked`, directories that were unpacked already.

    A bare name that is not here is searched for in the downloads folders.
    """
    from usufruct.actions.gathering import gathered

    words = [_in_downloads(context, word) for word in received_all(context, words, options.get("name"))]
    _refuse_missing(context, words)
    if not options["unpacked"]:
        return gathered(words)
    for word in words:
        if not word.is_dir():
            raise WrongUsage(
                f"{word} is not a directory.",
                remedy="--unpacked is for one that was unpacked already; else leave it out.",
            )
    return list(words)


RECEIVED = "usufruct.received"
"""Under it a command keeps which word a received file stands for: it is gone when the command ends."""


def received_all(context: Context, words: Sequence[Path], name: str | None = None) -> list[Path]:
    """Return the same with streams received as files, which exist until the command ends; `name` is their name."""
    from usufruct.actions.streams import is_stream, received

    click_context = click.get_current_context()
    paths = []
    for word in words:
        paths.append(click_context.with_resource(received(context, word, name)) if is_stream(word) else word)
        if paths[-1] is not word:
            click_context.meta.setdefault(RECEIVED, {})[str(paths[-1])] = str(word)
    return paths


def _in_downloads(context: Context, word: Path) -> Path:
    """Return the path that a word means: here, or in the downloads folders if it is a bare name or a pattern."""
    meant = Path(meant_path(str(word)))
    if len(meant.parts) != 1 or meant.is_absolute() or os.path.lexists(meant):
        return meant
    from usufruct.actions.arrivals import folders_of

    folders = folders_of(context)
    if any(sign in meant.name for sign in "*?[") and not any(Path().glob(meant.name)):
        return next((folder / meant for folder in folders if folder.is_dir() and any(folder.glob(meant.name))), meant)
    return next((folder / meant for folder in folders if os.path.lexists(folder / meant)), meant)


def _refuse_missing(context: Context, words: Sequence[Path]) -> None:
    """Raise MissingArchive for one archive that does not exist, or WrongUsage for a directory meant for `--to`.

    If there are several archives, a missing one does not stop the others.
    """
    missing = [word for word in words if not os.path.lexists(word) and not any(sign in word.name for sign in "*?[")]
    if not missing or (len(words) > 1 and missing[-1].suffix):
        return
    if len(words) > 1:
        raise WrongUsage(
            f"There is no archive {missing[-1]}.",
            remedy=f"To place into a directory, say `--to {shell_words([str(missing[-1])])}`.",
        )
    from usufruct.actions.arrivals import folders_of
    from usufruct.planning.names import suggestion

    word = words[0]
    names = [
        one.name
        for folder in dict.fromkeys([word.parent, *folders_of(context)])
        if folder.is_dir()
        for one in folder.iterdir()
        # A name with a file type is not a folder.
        if not one.name.startswith(".") and not (word.suffix and one.is_dir())
    ]
    near = suggestion(word.name, names) if names else ""
    remedy = near if near.startswith("Did you mean") else "`usufruct downloads` lists what waits."
    raise MissingArchive(f"There is no archive {word}.", remedy=remedy)


def tell_unheard(request: Request, results: Sequence[Examined]) -> None:
    """Print which `--choose` was not used, if there is no question left that it could answer."""
    from usufruct.actions.outcomes import Asked, Refused
    from usufruct.planning.names import folded_path

    if any(isinstance(result, (Asked, Refused)) or result.layout is None for result in results):
        return
    used = {folded_path(word.strip("/")) for result in results if result.layout for word in result.layout.used_choices}
    for word in request.choices.choose:
        if folded_path(word.strip("/")) not in used and folded_path(word) not in used:
            echo(f"--choose {word} was not used: nothing in the archive has this name.", err=True)


def afterwards_of(context: Context, option: str | None) -> str:
    """Return what happens to archives afterwards: by the option, or by the settings."""
    return option or context.settings().afterwards


def code_of(error: UsufructError | None, facts: Facts | None) -> int:
    """Return the exit code for one archive: of its error, or 1 if a part of it is unknown or lost."""
    return error.exit_code if error else int(bool(facts and (facts.unread or facts.lost)))


def ending(errors: list[int]) -> int:
    """Return the exit code of a command with several archives: their common one, or 1 if only some failed."""
    return errors[0] if len(set(errors)) == 1 else 1
