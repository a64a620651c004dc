"""`usufruct manual`: the manual page, made from the help of every command."""

import re
from collections.abc import Iterator

import click

from usufruct import __version__
from usufruct.cli.examples import EXAMPLES
from usufruct.cli.screen import echo, echo_json, json_option


@click.command(short_help="Print the manual page.")
@json_option
@click.pass_context
def manual(context: click.Context, *, as_json: bool) -> None:
    """Print the manual page, for `man`.

    \b
    to read it   usufruct manual | man -l -
    to keep it   usufruct manual > ~/.local/share/man/man1/usufruct.1
    """  # noqa: D301 - the sign for lines that are kept
    root = context.find_root()
    lines = list(manual_page(root.command, root.info_name or "usufruct"))
    if as_json:
        echo_json({"page": "\n".join(lines)})
        return
    for line in lines:
        echo(line)


def manual_page(command: click.Command, name: str) -> Iterator[str]:
    """The lines of the page for a command and all below it, in the language of man pages."""
    yield f'.TH {name.upper()} 1 "" "{name} {__version__}" "User commands"'
    yield ".SH NAME"
    first = (command.help or "").strip().partition("\n")[0].rstrip(".")
    yield f"{_text(name)} \\- {_text(first[:1].lower() + first[1:])}"
    yield ".SH SYNOPSIS"
    yield f"\\fB{_text(name)}\\fR \\fICOMMAND\\fR [options] ..."
    yield ".SH DESCRIPTION"
    yield from _paragraphs(command.help or "")
    yield ".SH COMMANDS"
    with click.Context(command, info_name=name) as context:
        yield from _commands(command, context)
    yield ".SH EXIT STATUS"
    for code, meaning in _EXIT.items():
        yield from (".TP", f".B {code}", _text(meaning))
    yield ".SH ENVIRONMENT"
    from usufruct.model.settings import meanings, variable_of

    yield from (
        ".TP",
        ".B USUFRUCT_HOME",
        "Where everything is kept, instead of the usual config and data directories.",
    )
    for key, meaning in meanings().items():
        yield from (".TP", f".B {variable_of(key)}", _text(f"The setting {key}: {meaning}."))
    yield from (".TP", ".B NO_COLOR", "No colours, whatever its value.")


_EXIT = {
    0: "Done.",
    1: "Something was found wrong, or some of several archives failed.",
    2: "Wrong usage.",
    3: "A decision is needed.",
    4: "The archive is damaged, unsafe, unreadable, or its password is wrong.",
    5: "The machine says no: missing folder, permission, space.",
    6: "Another Usufruct is at work.",
    130: "Stopped by the user; what had begun was reversed.",
}


def _commands(command: click.Command, context: click.Context) -> Iterator[str]:
    if not isinstance(command, click.Group):
        return
    for name in command.list_commands(context):
        below = command.get_command(context, name)
        if below is None or below.hidden:
            continue
        with click.Context(below, info_name=name, parent=context) as inner:
            path = inner.command_path
            words = " ".join(below.collect_usage_pieces(inner))
            yield f".SS {_text(path.partition(' ')[2])} {_text(words)}"
            yield from _paragraphs(below.help or "")
            if not path.partition(" ")[2].count(" ") and name in EXAMPLES:
                yield from _example_lines(name)
            for parameter in below.get_params(inner):
                record = parameter.get_help_record(inner)
                if record and record[1] and record[0] != "-h, --help":
                    yield from (".TP", f"\\fB{_text(record[0])}\\fR", _text(record[1]))
            yield from _commands(below, inner)


def _example_lines(name: str) -> Iterator[str]:
    """The examples of a command, each line as it stands."""
    yield from (".PP", ".nf")
    for words, meaning in EXAMPLES[name]:
        yield f"{_text(f'usufruct {words}')}  {_text(meaning)}"
    yield ".fi"


def _paragraphs(text: str) -> Iterator[str]:
    """The paragraphs of a help text; those that keep their lines keep them here."""
    for paragraph in re.split(r"\n\s*\n", text.strip()):
        lines = [line.strip() for line in paragraph.splitlines()]
        yield ".PP"
        if lines[0] == "\b":
            yield from (".nf", *map(_text, lines[1:]), ".fi")
        else:
            yield _text(" ".join(lines))


def _text(text: str) -> str:
    """Text that the page's language takes literally."""
    escaped = text.replace("\\", "\\e").replace("-", "\\-").replace("`", "\\(ga")
    return f"\\&{escaped}" if escaped.startswith((".", "'")) else escaped
