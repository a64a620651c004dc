"""`usufruct app`."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any, TextIO

import click

from usufruct.cli import words
from usufruct.cli.commands.app_try import try_command
from usufruct.cli.context import real_context
from usufruct.cli.editing import edited
from usufruct.cli.screen import (
    confirmed,
    count_words,
    echo,
    echo_json,
    echo_text,
    in_columns,
    json_option,
    path_words,
    styled,
    wrapped,
)
from usufruct.errors import WrongUsage
from usufruct.files.printable import printable
from usufruct.files.shells import typed
from usufruct.files.small_texts import small_file
from usufruct.model.applications import Application, Folder

if TYPE_CHECKING:
    from usufruct.actions.context import Context


@click.group()
def app() -> None:
    """Show and define the programs that Usufruct knows.

    One TOML file describes each program; docs/definitions.md explains its keys.
    """


@app.command("list")
@click.option("--all", "everywhere", is_flag=True, help="Also list programs that are not on this machine.")
@json_option
def list_command(*, everywhere: bool, as_json: bool) -> None:
    """List the programs on this machine that Usufruct knows."""
    from usufruct.actions.applications import known_applications

    context = real_context()
    every = known_applications(context)
    applications = [one for one in every if one.is_here or everywhere]
    if as_json:
        echo_json({"applications": [_document(context, application) for application in applications]})
        return
    if not applications:
        echo(f"No application is defined. Definitions are read from {path_words(str(context.paths.apps))}.")
        return
    rows = [
        (
            application.name,
            application.title,
            path_words(application.root) if application.is_here else "not on this machine",
            ", ".join(folder.name for folder in application.folders),
        )
        for application in applications
    ]
    for line in in_columns(rows, frozenset(), _style, in_full=True):
        echo(line)
    if more := len(every) - len(applications):
        echo()
        for line in wrapped(f"{more} more are known and not on this machine: usufruct app list --all", ""):
            echo(line)


def _style(column: int, text: str) -> str:
    return styled(text, "place") if column == 0 else text


@app.command()
@click.argument("name", shell_complete=words.applications)
@json_option
def show(name: str, *, as_json: bool) -> None:
    """Show where the program NAME keeps its content."""
    from usufruct.actions import defining, refresh
    from usufruct.actions.applications import application_named, definition_file, known_applications
    from usufruct.definitions.load import SHIPPED

    context = real_context()
    application = application_named(known_applications(context), name)
    if as_json:
        echo_json(_document(context, application))
        return
    _show(application)
    if application.after:
        is_agreed = refresh.is_agreed(context, application)
        waits = "" if is_agreed else f"  not run until `usufruct app agree {application.name}`"
        echo(f"  after     {printable(typed(application.after))}{styled(waits, 'care')}")
    file = definition_file(context, application)
    echo(f"  defined   {path_words(str(file))}")
    shipped = SHIPPED / f"{application.name}.toml"
    if not application.is_shipped and defining.has_newer_shipped(file, shipped):
        said = f"The definition that ships has changed since you changed yours: {path_words(str(shipped))}"
        echo("  newer     " + "\n            ".join(wrapped(said, " " * 12)))


def _show(application: Application) -> None:
    """Print a definition."""
    echo(f"{styled(application.title, 'title')}  {application.name}")
    echo(f"  root      {path_words(application.root)}")
    if not application.is_here:
        echo("  not here  " + "\n            ".join(wrapped(_why_not_here(application), " " * 12)))
    if application.also:
        echo(f"  also      {', '.join(application.also)}")
    if application.leave:
        echo(f"  leave     {', '.join(application.leave)}")
    echo(f"  programs  {application.programs}")
    if application.tell:
        echo("  tell      " + "\n            ".join(wrapped(application.tell, " " * 12)))
    if application.source:
        checked = f"; checked with {application.checked}" if application.checked else ""
        echo("  source    " + "\n            ".join(wrapped(application.source + checked, " " * 12)))
    echo()
    rows = [(folder.name, folder.path, folder.arrange.value, _what_it_takes(folder)) for folder in application.folders]
    for line in in_columns(rows, frozenset(), _style, in_full=True):
        echo(line)


@app.command(short_help="Make a definition from a folder with content.")
@click.argument("directory", type=click.Path(path_type=Path))
@click.option("--name", help="Name of the application; by default the name of the folder.")
@click.option("--yes", "accepts", is_flag=True, help="Accept the proposal and save it.")
@json_option
def learn(directory: Path, *, name: str | None, accepts: bool, as_json: bool) -> None:
    """Read DIRECTORY, the content folder of a program, and propose a definition.

    Nothing is written until you accept. Each line of the proposal says what it is based on.
    """
    from usufruct.actions import defining
    from usufruct.cli.questions import accepted, is_asking

    context = real_context()
    proposal = defining.learn(context, directory, name)
    if as_json:
        echo_json({"name": proposal.name, "definition": proposal.text, "file": str(proposal.file), "written": accepts})
    else:
        echo_text(proposal.text)
    application = None
    if accepts:
        application = defining.write_definition(context, proposal.text, proposal.file)
    elif not as_json and is_asking():
        application = accepted(context, proposal)
    if as_json:
        return
    if application is None:
        echo(f"Nothing was written. With --yes it goes to {path_words(str(proposal.file))}.")
        return
    where = path_words(str(proposal.file))
    echo(f"{styled('Written', 'good')} to {where}. `usufruct app edit {application.name}` changes it.")
    _tell_downloads(context, application)


def _tell_downloads(context: Context, application: Application) -> None:
    """Print the downloads that a new application would get: they are often the reason for it."""
    from usufruct.cli.commands.app_try import download_lines

    for line in download_lines(context, application):
        echo(line)


@app.command(short_help="Define a program, in your editor or from a file.")
@click.argument("name", shell_complete=words.applications)
@click.option("--root", type=click.Path(path_type=Path), help="The folder in which the program looks for content.")
@click.option(
    "--from", "source", type=click.File(encoding="utf-8"), help="File with the definition; `-` reads standard input."
)
@json_option
def new(name: str, *, root: Path | None, source: TextIO | None, as_json: bool) -> None:
    """Define the program NAME, in your editor from a commented template, or from a file."""
    from usufruct.actions import defining

    context = real_context()
    proposal = defining.blank(context, name, root)
    if not defining.name_is_free(context, name):
        raise WrongUsage(f"{name} is defined already.", remedy=f"`usufruct app edit {name}` changes it.")
    text = source.read() if source else edited(proposal.text)
    if text is None:
        _tell_state(name, "unchanged", "Nothing was written.", as_json=as_json)
        return
    application = defining.write_definition(context, text, proposal.file)
    if as_json:
        echo_json({"name": application.name, "state": "written", "file": str(proposal.file)})
        return
    echo(f"{styled('Written', 'good')}: {application.title}, {count_words(len(application.folders), 'folder')}.")
    _tell_downloads(context, application)


@app.command("add", short_help="Add a definition that somebody gave you.")
@click.argument("file", type=click.Path(path_type=Path, dir_okay=False))
@click.option("--yes", "accepts", is_flag=True, help="Add it without asking.")
@json_option
def add_command(file: Path, *, accepts: bool, as_json: bool) -> int:
    """Show what the definition in FILE would place and run, and add it if you agree."""
    from usufruct.actions import defining
    from usufruct.cli.questions import is_asking
    from usufruct.definitions.load import parse_application

    context = real_context()
    proposal = defining.received(context, file)
    application = parse_application(proposal.text, file)
    if not as_json:
        _show(application)
        echo()
        for line in _what_may_run(application):
            echo(f"  {line}")
        accepts = accepts or (is_asking() and confirmed(f"Take the definition of {application.title}?"))
    if not accepts:
        if as_json:
            echo_json({"name": application.name, "state": "none"})
        else:
            echo("Nothing was written. With --yes the definition is taken.")
        return 3
    defining.write_definition(context, proposal.text, proposal.file)
    if as_json:
        echo_json({"name": application.name, "state": "written", "file": str(proposal.file)})
        return 0
    echo(f"{styled('Written', 'good')} to {path_words(str(proposal.file))}.")
    _tell_downloads(context, application)
    return 0


def _what_may_run(application: Application) -> Iterator[str]:
    """Say what a definition could start."""
    if application.after:
        command = printable(typed(application.after))
        yield f"After each change it asks to run `{command}`. `usufruct app agree {application.name}` allows that."
    said = {
        "allow": "Program files in a download are placed without asking.",
        "ask": "Usufruct asks before it places program files.",
        "refuse": "Program files in a download are left out.",
    }
    yield said[application.programs.value]


@app.command(short_help="Change a definition in your editor.")
@click.argument("name", shell_complete=words.applications)
@json_option
def edit(name: str, *, as_json: bool) -> None:
    """Change the definition of NAME in your editor. If it has a fault, the old one stays."""
    from usufruct.actions import defining
    from usufruct.actions.applications import application_named, definition_file, known_applications
    from usufruct.cli.questions import is_asking
    from usufruct.definitions.load import SHIPPED, is_application_name

    context = real_context()
    file = context.paths.apps / f"{name}.toml"
    if not (is_application_name(name) and file.is_file()):
        # The user's own file can be edited even if it is broken.
        application = application_named(known_applications(context), name)
        name, file = application.name, definition_file(context, application)
    shipped = small_file(file).decode("utf-8") if file.parent == SHIPPED else ""
    text: str | None = small_file(file).decode("utf-8", "replace")
    while True:
        text = edited(text or "")
        if text is None:
            _tell_state(name, "unchanged", "Nothing was changed.", as_json=as_json)
            return
        try:
            if shipped:
                text = defining.marked_as_changed(text, shipped)
            defining.write_definition(context, text, file, replaces=name)
        except WrongUsage as fault:
            if not is_asking():
                kept = _keep_aside(context, name, text)
                fault.kept = f"The definition is as it was; what you wrote is in {path_words(str(kept))}."
                raise
            echo(f"{fault.message} {fault.remedy}", err=True)
            if not confirmed("Edit it again?", default=True):
                kept = _keep_aside(context, name, text)
                echo(f"The definition is as it was; what you wrote is in {path_words(str(kept))}.")
                return
        else:
            _tell_state(name, "written", f"{styled('Written', 'good')}: {name}.", as_json=as_json)
            return


def _keep_aside(context: Context, name: str, text: str) -> Path:
    from usufruct.files.copying import replace_text

    kept = context.paths.apps / f"{name}.toml.rejected"
    replace_text(kept, text, context.system())
    return kept


@app.command(short_help="Allow the command that a definition runs after each change.")
@click.argument("name", shell_complete=words.applications)
@json_option
def agree(name: str, *, as_json: bool) -> None:
    """Allow the command that the definition of NAME runs after each change.

    The command is shown first. Usufruct does not run it until you allow it, and asks again if it changes.
    """
    from usufruct.actions import refresh
    from usufruct.actions.applications import application_named, known_applications
    from usufruct.cli.questions import is_asking

    context = real_context()
    application = application_named(known_applications(context), name)
    if not application.after:
        _tell_state(application.name, "none", f"{application.name} runs nothing after a change.", as_json=as_json)
        return
    command = printable(typed(application.after))
    if refresh.is_agreed(context, application):
        _tell_state(application.name, "allowed", f"{command} is allowed already.", as_json=as_json)
        return
    echo(f"After each change of its files, {application.name} runs", err=as_json)
    echo(f"  {command}", err=as_json)
    if is_asking() and not as_json and not confirmed("Allow it?", default=False):
        echo("It is not run.")
        return
    refresh.agree(context, application)
    said = f"{styled('Allowed', 'good')}, until the definition names another."
    _tell_state(application.name, "allowed", said, as_json=as_json)


@app.command(short_help="Delete a definition that no holding needs.")
@click.argument("name", shell_complete=words.applications)
@json_option
def drop(name: str, *, as_json: bool) -> None:
    """Delete the definition of NAME. Refused while holdings belong to it."""
    from usufruct.actions import defining
    from usufruct.actions.applications import application_named, known_applications

    context = real_context()
    application = application_named(known_applications(context), name)
    kept = defining.drop_definition(context, application)
    said = f"{application.name} is no longer known. Its definition is kept as {path_words(str(kept))}."
    _tell_state(application.name, "dropped", said, as_json=as_json)


def _tell_state(name: str, state: str, said: str, *, as_json: bool) -> None:
    """Print what happened to a definition, in words or as JSON."""
    if as_json:
        echo_json({"name": name, "state": state})
    else:
        echo(said)


app.add_command(try_command)


def _what_it_takes(folder: Folder) -> str:
    parts = []
    if folder.mark:
        parts.append(f"marked by {', '.join(folder.mark)}")
    if folder.takes:
        parts.append(f"takes {', '.join(folder.takes)}")
    if folder.prefer:
        parts.append(f"prefers {' before '.join(folder.prefer)}")
    if folder.also:
        parts.append(f"also called {', '.join(folder.also)}")
    if folder.known:
        parts.append(f"knows {', '.join(folder.known)}")
    return "; ".join(parts) or "takes anything that is named for it"


def _why_not_here(application: Application) -> str:
    programs = " or ".join(application.program)
    missing = f" and no program {programs} was found" if programs else ""
    return f"The folder is not there{missing}. --app {application.name} takes it all the same."


def _document(context: Context, application: Application) -> dict[str, Any]:
    from usufruct.actions.applications import definition_file

    return {
        "name": application.name,
        "title": application.title,
        "root": application.root,
        "here": application.is_here,
        "also": list(application.also),
        "leave": list(application.leave),
        "programs": application.programs.value,
        "after": list(application.after),
        "tell": application.tell,
        "source": application.source,
        "checked": application.checked,
        "definition": str(definition_file(context, application)),
        "folders": [
            {
                "name": folder.name,
                "path": folder.path,
                "arrange": folder.arrange.value,
                "takes": list(folder.takes),
                "prefer": list(folder.prefer),
                "mark": list(folder.mark),
                "unless": list(folder.unless),
                "also": list(folder.also),
                "known": list(folder.known),
            }
            for folder in application.folders
        ],
    }
