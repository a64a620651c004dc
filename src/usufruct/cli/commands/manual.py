"""`usufruct manual`: the manual page, made from the help of every command."""

import re
from collections import Counter
from collections.abc import Iterator
from typing import NamedTuple

import click

from usufruct import __date__, __version__
from usufruct.cli.examples import EXAMPLES
from usufruct.cli.pages import PAGES, drawn_page, page_text
from usufruct.cli.screen import echo, echo_json, json_option


@click.command()
@click.argument("page", metavar="[PAGE]", required=False, type=click.Choice(list(PAGES)))
@json_option
@click.pass_context
def manual(click_context: click.Context, page: str | None, *, as_json: bool) -> None:
    """Print the manual page, or show a PAGE of the docs.

    The pages are definitions, formats, judgement, safety and troubleshooting.

    \b
    to read it   usufruct manual | man -l -
    to keep it   usufruct manual > ~/.local/share/man/man1/usufruct.1
    the docs     usufruct manual definitions
    """  # noqa: D301 - the sign for lines that are kept
    root = click_context.find_root()
    text = page_text(page) if page else "\n".join(manual_page(root.command, root.info_name or "usufruct"))
    if as_json:
        echo_json({"page": text})
        return
    for line in (drawn_page(text) if page else text).splitlines():
        echo(line, as_it_is=True)


def manual_page(command: click.Command, name: str) -> Iterator[str]:
    """Yield the lines of the page for a command and all below it, in the language of man pages."""
    before = ""
    for line in _lines(command, name):
        # A heading starts a paragraph.
        if not (line == ".PP" and before.startswith((".SH", ".SS"))):
            yield line
        before = line


def _lines(command: click.Command, name: str) -> Iterator[str]:
    yield f'.TH {name.upper()} 1 "{__date__}" "{name} {__version__}" "User commands"'
    yield ".SH NAME"
    first = (command.help or "").strip().partition("\n")[0].rstrip(".")
    yield f"{_text(name)} \\- {_text(first[:1].lower() + first[1:])}"
    yield ".SH SYNOPSIS"
    yield f"\\fB{_text(name)}\\fR \\fICOMMAND\\fR [options] ..."
    yield ".SH DESCRIPTION"
    yield from _paragraphs(command.help or "")
    with click.Context(command, info_name=name) as click_context:
        pages = list(_pages(command, click_context))
        yield ".SH OPTIONS"
        yield from _paragraphs("Before the command:")
        for option in _records(command, click_context):
            yield from _option_lines(option)
        counted = Counter(option for page in pages for option in page.options)
        shared = [option for option, count in counted.items() if count > 1]
        yield from _paragraphs("Of several commands, each of which names those that it has:")
        for option in shared:
            yield from _option_lines(option)
    yield ".SH COMMANDS"
    for page in pages:
        yield f".SS {_text(page.path)} {_text(page.words)}"
        yield from _paragraphs(page.help)
        for option in page.options:
            if option not in shared:
                yield from _option_lines(option)
        if named := [_first_word(option.words) for option in page.options if option in shared]:
            yield from (".PP", f"Also {', '.join(f'{_bold(word)}' for word in named)}.")
    yield ".SH EXAMPLES"
    for examples in EXAMPLES.values():
        for words, meaning in examples:
            yield from (".TP", _bold(f"{name} {words}"), _text(f"{meaning[:1].upper()}{meaning[1:]}."))
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
    for variable, meaning in _ENVIRONMENT.items():
        yield from (".TP", f".B {variable}", _text(meaning))
    yield ".SH FILES"
    yield from _paragraphs("In the usual directories of the system for configuration and data, or below USUFRUCT_HOME:")
    for file, meaning in _FILES.items():
        yield from (".TP", f".I {_text(file)}", _text(meaning))
    yield ".SH SEE ALSO"
    yield r".BR man (1),"
    yield r".BR tar (1)"
    yield from _paragraphs(f"Each with `usufruct manual PAGE`: {', '.join(PAGES)}.")


_ENVIRONMENT = {
    "NO_COLOR": "No colours, whatever it says.",
    "FORCE_COLOR, CLICOLOR_FORCE": "Colours even where the output is no terminal.",
    "CLICOLOR": "No colours where it is 0.",
    "COLUMNS": "Columns of the output.",
    "PAGER": "What shows that which is longer than the screen; cat for nothing of the kind.",
}
_FILES = {
    "settings.toml": "The settings.",
    "apps/*.toml": "Your definitions of applications.",
    "passwords": "Passwords of archives that you want kept, one a line, readable by you alone.",
    "ledger.sqlite3": "The record of all that was added.",
    "backups/": "What was replaced, by content.",
    "notes/": "Texts that came with what was added.",
    "archives/": "Archives that were stored.",
    "log/": "What the last commands did.",
}
"""Files and directories of Usufruct → what they are for."""
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


class _OptionText(NamedTuple):
    words: str
    meaning: str


class _Page(NamedTuple):
    """The part of the page for one command."""

    path: str
    words: str
    help: str
    options: list[_OptionText]


def _records(command: click.Command, click_context: click.Context) -> list[_OptionText]:
    records = (parameter.get_help_record(click_context) for parameter in command.get_params(click_context))
    return [_OptionText(*record) for record in records if record and record[1] and record[0] != "-h, --help"]


def _pages(command: click.Command, click_context: click.Context) -> Iterator[_Page]:
    if not isinstance(command, click.Group):
        return
    for name in command.list_commands(click_context):
        below = command.get_command(click_context, name)
        if below is None or below.hidden:
            continue
        with click.Context(below, info_name=name, parent=click_context) as inner:
            words = " ".join(below.collect_usage_pieces(inner))
            yield _Page(inner.command_path.partition(" ")[2], words, below.help or "", _records(below, inner))
            yield from _pages(below, inner)


def _option_lines(option: _OptionText) -> Iterator[str]:
    yield from (".TP", _bold(option.words), _text(option.meaning))


def _first_word(words: str) -> str:
    return words.split(" ")[0].rstrip(",")


def _bold(text: str) -> str:
    return f"\\fB{_text(text)}\\fR"


def _paragraphs(text: str) -> Iterator[str]:
    """Return the paragraphs of a help text; those with fixed lines keep them."""
    for paragraph in re.split(r"\n\s*\n", text.strip()):
        lines = [line.strip() for line in paragraph.splitlines()]
        yield ".PP"
        if lines[0] == "\b":
            yield from (".nf", *map(_text, lines[1:]), ".fi")
        else:
            yield _text(" ".join(lines))


def _text(text: str) -> str:
    """Escape a text for the page's language."""
    escaped = text.replace("\\", "\\e").replace("-", "\\-").replace("`", "\\(ga")
    return f"\\&{escaped}" if escaped.startswith((".", "'")) else escaped
