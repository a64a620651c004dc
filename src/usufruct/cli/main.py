"""The command line's entrance: which commands there are."""

import contextlib
import importlib
import os
import sys
from collections.abc import Sequence

import click
from click.shell_completion import CompletionItem

from usufruct import __version__
from usufruct.cli.errors import exit_code_of, tell_error
from usufruct.cli.examples import epilog_of
from usufruct.cli.habits import in_order
from usufruct.cli.screen import (
    be_plain,
    be_quiet,
    echo,
    has_colours,
    is_narrow,
    lost_output,
    paged,
    width,
)
from usufruct.errors import MachineError, WrongUsage
from usufruct.files.small_texts import small_file

_SECTIONS: dict[str, dict[str, tuple[str, str]]] = {
    "Archives": {
        "look": ("look:look", "Show what an archive is and where its files would go."),
        "add": ("add:add", "Place the files of an archive where its program looks."),
    },
    "Downloads": {
        "downloads": ("downloads:downloads", "List the archives in your downloads folders."),
    },
    "What has been added": {
        "list": ("list:list_command", "List what you have added."),
        "show": ("show:show", "Show one holding: its files, what they replaced, where it came from."),
        "remove": ("remove:remove", "Remove what was added and restore what it replaced."),
        "whose": ("whose:whose", "Find out which holding a file belongs to."),
        "check": ("check:check", "Check that everything you added is still in place."),
        "repair": ("repair:repair", "Restore missing or damaged files from the archive."),
        "undo": ("undo:undo", "Undo the last change, or one by its number."),
        "redo": ("undo:redo", "Redo what was undone last."),
        "history": ("undo:history", "List all changes with their numbers, newest first."),
        "archives": ("archives:archives", "Show where the archives of your holdings are; trash or store them."),
        "recover": ("recover:recover", "Undo a change that a crash interrupted."),
    },
    "To hand on": {
        "pack": ("pack:pack", "Make an archive from files, a folder or a holding."),
        "carry": ("carry:carry", "Move everything you added to another computer: out, in."),
    },
    "Applications": {
        "app": ("app:app", "The programs Usufruct knows: list, show, learn, add, new, edit, try, agree, drop."),
    },
    "Usufruct itself": {
        "settings": ("settings:settings", "Show and change the settings."),
        "desktop": ("desktop:desktop", "Let your file manager offer Usufruct for archives: on, off."),
    },
    "To try it and to set it up": {
        "demo": ("demo:demo", "Run a full example on sample data, in a separate folder."),
        "completion": ("completion:completion", "Print the completion script for your shell."),
        "manual": ("manual:manual", "Print the manual page, or a page of the docs."),
    },
}
_COMMANDS = {name: command for section in _SECTIONS.values() for name, command in section.items()}


_READERS = frozenset({"demo", "list", "show", "whose", "check", "history", "archives", "completion", "manual"})
"""Commands that only read the record (or let others work) keep no log, and begin without what that needs."""


_PAGED = frozenset({"list", "show", "history", "archives", "whose", "look", "manual"})
"""Commands whose output a person reads, and which ask nothing: what is longer than the screen goes to a pager."""


class _Commands(click.Group):
    """A group that imports a command only when it is called: start-up is what every call pays."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(_COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in _COMMANDS:
            return None
        module, _, name = _COMMANDS[cmd_name][0].partition(":")
        command: click.Command = getattr(importlib.import_module(f"usufruct.cli.commands.{module}"), name)
        command.epilog = epilog_of(cmd_name)
        return command

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """As the library does, but a command that is not there is answered by the one that was meant."""
        word = args[0]
        if not ctx.resilient_parsing and not word.startswith("-") and word not in _COMMANDS:
            from usufruct.planning.names import suggestion

            near = suggestion(word, list(_COMMANDS))
            raise WrongUsage(f"There is no command {word}.", remedy=f"{near} `usufruct --help` lists all.")
        return super().resolve_command(ctx, args)

    def shell_complete(self, ctx: click.Context, incomplete: str) -> list[CompletionItem]:
        """The commands that begin so, told without importing any."""
        offered = [
            CompletionItem(name, help=help_line)
            for name, (_, help_line) in _COMMANDS.items()
            if name.startswith(incomplete)
        ]
        return [*offered, *click.Command.shell_complete(self, ctx, incomplete)]

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        for title, commands in _SECTIONS.items():
            with formatter.section(title):
                formatter.write_dl([(name, help_line) for name, (_, help_line) in commands.items()])


def _tell_version(click_context: click.Context, _: click.Parameter, is_wanted: bool) -> None:
    if not is_wanted or click_context.resilient_parsing:
        return
    import platform
    from importlib.util import find_spec

    from usufruct.archives.archive_library import library_version
    from usufruct.archives.opening import FORMATS, LIBRARY_FORMATS
    from usufruct.archives.writing import FORMATS as WRITTEN
    from usufruct.cli.screen import wrapped

    library = library_version()
    echo(f"usufruct {__version__}")
    lacks = "" if find_spec("lz4") else "tar.lz4"
    echo(f"reads {', '.join(one for one in FORMATS if one != lacks)}")
    if library:
        echo(f"and, with libarchive {'.'.join(map(str, library))}, {', '.join(LIBRARY_FORMATS)}")
    else:
        echo(f"but not {', '.join(LIBRARY_FORMATS)} and packed RAR 5: libarchive is not installed")
    echo(f"writes {', '.join(WRITTEN)}")
    for line in wrapped(f"with Python {platform.python_version()}, {', '.join(_libraries())}", "  "):
        echo(line)
    click_context.exit()


def _libraries() -> list[str]:
    """The libraries that this Usufruct works with, each with its version."""
    import re
    from importlib import metadata

    names = {re.split(r"[^\w.-]", words)[0] for words in metadata.requires("usufruct") or () if "extra ==" not in words}
    found = []
    for name in sorted(names):
        try:
            found.append(f"{name} {metadata.version(name)}")
        except metadata.PackageNotFoundError:
            found.append(f"no {name}")
    return found


@click.group(
    cls=_Commands,
    invoke_without_command=True,
    context_settings={
        "help_option_names": ["-h", "--help"],
        "max_content_width": 100,
        # Click's own minimum is 50 columns.
        "terminal_width": width() if is_narrow() else None,
    },
)
@click.option(
    "--version",
    is_flag=True,
    is_eager=True,
    expose_value=False,
    callback=_tell_version,
    help="Show the version and the formats that Usufruct can read here.",
)
@click.option("-v", "--verbose", is_flag=True, help="Show on standard error what is written to the log.")
@click.option("-q", "--quiet", is_flag=True, help="Show only errors, questions and JSON.")
@click.option("--plain", is_flag=True, help="Use no drawing, and one fact per line, for screen readers.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON document; without a command, an overview.")
@click.pass_context
def cli(click_context: click.Context, *, verbose: bool, quiet: bool, plain: bool, as_json: bool) -> None:
    """Put downloads into the folders where your programs look, and take them out again.

    Usufruct finds the right folder, shows it and says why, backs up what it replaces and records every file. Removing a
    download restores your folder exactly.
    """
    if quiet:
        be_quiet()
    if plain or _is_dumb() or _wants_plain():
        be_plain()
    if verbose or (click_context.invoked_subcommand or "list") not in _READERS:
        from usufruct.cli.log import keep_log

        logger, _ = keep_log(is_told=verbose)
        logger.info("usufruct %s", " ".join(map(str, click_context.obj)))
    if click_context.invoked_subcommand is None:
        from usufruct.cli.commands.standing import tell_standing

        tell_standing(as_json=as_json)


def _is_dumb() -> bool:
    """Whether a person sits at a terminal that can show nothing over and over."""
    return os.environ.get("TERM") == "dumb" and sys.stdout.isatty()


def _wants_plain() -> bool:
    """Whether the settings say so; they are read in full only where they may."""
    from usufruct.actions.context import Context

    context = Context()
    if "USUFRUCT_OUTPUT" not in os.environ:
        try:
            if b"plain" not in small_file(context.paths.settings):
                return False
        except OSError:
            return False
    return context.settings().output == "plain"


def _takes_yes(words: Sequence[str]) -> bool:
    """Whether the command that these words begin with has an option --yes."""
    command: click.Command | None = cli
    for word in words:
        if not isinstance(command, click.Group):
            break
        command = command.get_command(click.Context(cli), word) or command
    return command is not None and any("--yes" in option.opts for option in command.params)


def run(words: Sequence[str]) -> int:
    """Carry out one command line; gives the exit code."""
    has_colours.cache_clear()
    if is_narrow():
        from usufruct.cli.narrow import be_narrow

        be_narrow()
    as_json = "--json" in words
    try:
        line = in_order(words, _COMMANDS, _takes_yes)
    except WrongUsage as error:
        tell_error(error, as_json=as_json)
        return error.exit_code
    command = line.words[0] if line.words else ""
    if os.environ.get("_USUFRUCT_COMPLETE", "").startswith("powershell"):
        # Click has no class for this shell; importing ours registers it.
        importlib.import_module("usufruct.cli.commands.completion")
    with paged() if command in _PAGED and not as_json else contextlib.nullcontext():
        code = exit_code_of(
            lambda: cli.main(
                args=[*line.whole, *line.words], prog_name="usufruct", standalone_mode=False, obj=list(line.words)
            ),
            as_json=as_json,
        )
    if lost := lost_output():
        with contextlib.suppress(OSError):
            told = f"usufruct: Not all output could be written ({lost.strerror}). What was done stays done"
            echo(f"{told}; `usufruct history` shows it.", err=True)
        return code or MachineError.exit_code
    return code
