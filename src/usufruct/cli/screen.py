"""What all output shares: colours by meaning, sizes, times, paths, and the width of the page."""

import os
import re
import sys
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from contextvars import ContextVar
from functools import cache
from typing import Any

import click

from usufruct.cli.cells import cells, cut, escaped, lines_of, spelled
from usufruct.cli.cells import left as left_of
from usufruct.cli.cells import right as right_of
from usufruct.files.printable import UNPRINTABLE, printable, printable_but_colours
from usufruct.model.words import count_words as count_words

_COLOURS: dict[str, dict[str, Any]] = {
    "title": {"bold": True},
    "place": {"fg": "cyan"},
    "quiet": {"dim": True},
    "good": {"fg": "green"},
    "care": {"fg": "yellow"},
    "bad": {"fg": "red", "bold": True},
}
"""Roles; none carries a meaning that the words beside it do not."""

json_option = click.option("--json", "as_json", is_flag=True, help="Print one JSON document and nothing else.")


_MARKS = {role: chr(0xFDD0 + number) for number, role in enumerate(_COLOURS)}
_END = "\ufddf"
"""Characters that no text may have stand for colours until the line is shown, so that all else in it can be escaped."""
_MARKED = re.compile(f"([{''.join(_MARKS.values())}])([^{_END}]*){_END}|{_END}")
_MARK = re.compile(f"[{''.join(_MARKS.values())}{_END}]")


def styled(text: str, role: str) -> str:
    """Return the text in the colour of its role, for `echo`."""
    return f"{_MARKS[role]}{text}{_END}"


def _shown(line: str) -> str:
    """Return a line for a terminal: nothing but our own colours can control it."""
    if line.isascii() and line.isprintable():
        return line
    return _MARKED.sub(_coloured, printable_but_colours(line))


def _coloured(found: re.Match[str]) -> str:
    role = next((role for role, mark in _MARKS.items() if mark == found[1]), None)
    if role is None or has_colours() is False:
        return found[2] or ""
    return click.style(found[2], **_COLOURS[role])


class Urgent(str):
    """A line of an error or a question: it goes to standard error and is shown even with `-q`."""

    __slots__ = ()


_lost: list[OSError] = []


_is_quiet = False
"""Only what goes wrong, is asked or is asked for as JSON is shown."""


def be_quiet() -> None:
    """From now on, show only errors, questions and JSON."""
    global _is_quiet
    _is_quiet = True


def is_quiet() -> bool:
    """Whether only errors and questions are shown."""
    return _is_quiet


_is_plain = False
"""Nothing is drawn: one thing stands in a line, as a screen reader reads it."""


def be_plain() -> None:
    """From now on, draw nothing and show one thing per line."""
    global _is_plain
    _is_plain = True
    has_colours.cache_clear()


def is_plain() -> bool:
    """Whether nothing is drawn."""
    return _is_plain


@cache
def has_colours() -> bool | None:
    """Whether the environment asks for colours; None if the terminal decides."""
    environment = os.environ
    if environment.get("NO_COLOR") or _is_plain:
        return False
    if environment.get("FORCE_COLOR", "0") not in ("", "0", "false"):
        return True
    if environment.get("CLICOLOR_FORCE", "0") not in ("", "0"):
        return True
    if environment.get("CLICOLOR") == "0" or environment.get("TERM") == "dumb":
        return False
    return None


def _encoding(*, err: bool = False) -> str:
    return getattr(sys.stderr if err else sys.stdout, "encoding", None) or "ascii"


def _print(text: str, *, err: bool = False, ends: bool = True, spell: Callable[[str, str], str] = spelled) -> None:
    """Print in signs that the output has. If printing fails, the command goes on: it must not stop half-way."""
    try:
        text = text if text.isascii() else spell(text, _encoding(err=err))
        click.echo(text, nl=ends, err=err, color=has_colours())
    except OSError as error:
        if not isinstance(error, BrokenPipeError):
            _lost.append(error)
        # The reader has closed it, or the disk is full; prevent an error message at exit.
        os.dup2(os.open(os.devnull, os.O_WRONLY), 2 if err else 1)


def lost_output() -> OSError | None:
    """Return why a part of the output could not be written; a closed reader is no reason."""
    return _lost[0] if _lost else None


def echo(line: str = "", *, err: bool = False, as_it_is: bool = False) -> None:
    """Print a line, on standard error with `err`; colours only at a terminal.

    On a narrow page a long line is broken between words, unless it is a text shown `as_it_is`. All output goes through
    this function: it contains names and comments of strangers, and none of them may control a terminal.
    """
    err = err or isinstance(line, Urgent)
    clear_over()
    for part in _folded(line) if is_narrow() and not as_it_is else (line,):
        if (kept := _page.get()) is not None and (not err or sys.stderr.isatty()):
            kept.append(_shown(part))
        elif err or not _is_quiet:
            _print(_shown(part), err=err)


def _folded(line: str) -> list[str]:
    """Return a line in parts that fit the page, broken between words; a line with a command stays whole."""
    bare = _MARK.sub("", line)
    if _is_plain or cells(bare) <= page() or "usufruct " in bare:
        return [line]
    indent = " " * (len(bare) - len(bare.lstrip(" ")))
    parts, here, role = [], "", ""
    for word in line.lstrip(" ").split(" "):
        longer = f"{here} {word}" if here else indent + word
        if here and cells(_MARK.sub("", longer)) > page():
            # A colour ends with its line and restarts on the next.
            role = "".join(_MARK.findall(here)[-1:]).removesuffix(_END)
            parts.append(here.rstrip() + (_END if role else ""))
            longer = f"{indent}    {role}{word}"
        here = longer
    return [*parts, here]


_over = 0
"""Columns of the line that is shown over and over; 0: none is."""


def clear_over() -> None:
    """Remove the line that is shown repeatedly, because something else will be shown."""
    if _over:
        echo_over("", width=_over)


def echo_over(line: str, *, width: int) -> None:
    """Show a line on standard error in place of the previous one; an empty line clears it.

    `width`: columns that it fills, so that nothing of the previous line is left.
    """
    global _over
    _over = width if line else 0
    # Only carriage return and spaces, which every terminal understands.
    blank = " " * max(0, width - cells(_MARK.sub("", line)))
    text = f"\r{spelled(_shown(line), _encoding(err=True))}{blank}" + ("" if line else "\r")
    with suppress(OSError):
        click.echo(text, err=True, nl=False, color=has_colours())


_page: ContextVar[list[str] | None] = ContextVar("page", default=None)
"""Lines that wait until it is known whether they are more than the screen holds."""


@contextmanager
def paged() -> Iterator[None]:
    """Keep what is printed, if a person reads it at a terminal with a pager, and show it together at the end."""
    pager = os.environ.get("PAGER", "less").strip()
    if not sys.stdout.isatty() or pager in ("", "cat") or os.environ.get("TERM") in (None, "dumb"):
        yield
        return
    kept: list[str] = []
    before = _page.set(kept)
    try:
        yield
    finally:
        _page.reset(before)
    if kept and not _is_quiet:
        _show_page(kept, os.path.basename(pager.split()[0]))  # noqa: PTH119


def _show_page(lines: Sequence[str], pager: str) -> None:
    """Print lines, in the pager if they are more than the screen has."""
    text = "\n".join(lines)
    if len(lines) < os.get_terminal_size(sys.stdout.fileno()).lines:
        _print(text)
        return
    if pager == "less" and not os.environ.get("LESS"):
        # Without this it shows escape sequences as text.
        os.environ["LESS"] = "-FRX"
    spelled_text = spelled(text + "\n", _encoding())
    try:
        click.echo_via_pager(spelled_text, color=pager == "less" and has_colours() is not False)
    except OSError:
        _print(spelled_text)


def open_outside(path: str) -> None:
    """Open a file or a folder with the desktop's program for it, or say that there is none."""
    if click.launch(path):
        echo(f"Nothing here could open {path_words(path)}; it is there all the same.", err=True)


def echo_text(text: str) -> None:
    """Print a text of several lines as it is."""
    for line in text.split("\n"):
        echo(line, as_it_is=True)


def forget_typed() -> None:
    """Drop what was typed before a question is asked: it cannot be an answer."""
    from usufruct.files.platform import this_platform

    clear_over()
    with suppress(OSError, ValueError):
        this_platform().drop_typed(sys.stdin.fileno())


def confirmed(question: str, *, default: bool = False) -> bool:
    """Return the answer to a question of yes or no."""
    forget_typed()
    return click.confirm(_shown(question), default=default)


def encoded_json(document: Any) -> bytes:
    """Return a JSON document in UTF-8, formatted as it is printed."""
    # Ten times as fast as the standard library, which matters for many thousand entries.
    import msgspec

    try:
        return msgspec.json.format(msgspec.json.encode(document), indent=2)
    except UnicodeEncodeError:
        # A file name that is not valid text: the standard library escapes its bytes.
        import json

        return json.dumps(document, indent=2).encode()


def echo_json(document: Any) -> None:
    """Print one JSON document."""
    _print(_printable_json(encoded_json(document).decode()), spell=escaped)


def echo_json_list(name: str, documents: Iterable[bytes]) -> None:
    """Print a JSON document with one key: a list of documents that are encoded already."""
    before = f'{{\n  "{name}": ['
    for document in documents:
        lines = _printable_json(document.decode()).replace("\n", "\n    ")
        _print(f"{before}\n    {lines}", spell=escaped, ends=False)
        before = ","
    _print("\n  ]\n}" if before == "," else f"{before}]\n}}")


def echo_json_error(document: Any) -> None:
    """Print an error as one JSON document, with what is loaded already."""
    import json

    _print(_printable_json(json.dumps(document, ensure_ascii=False, indent=2)), spell=escaped)


def _printable_json(text: str) -> str:
    """Return JSON without anything that could control a terminal; only its own line breaks stay."""
    return UNPRINTABLE.sub(lambda found: "\n" if found[0] == "\n" else f"\\u{ord(found[0]):04x}", text)


def width(*, err: bool = False) -> int:
    """Return the columns of the terminal, or of a page if there is none; `err`: of standard error."""
    stream = sys.stderr if err else sys.stdout
    try:
        return int(os.environ.get("COLUMNS") or 0) or os.get_terminal_size(stream.fileno()).columns
    except (OSError, ValueError):
        return 100


def page() -> int:
    """Return the columns that a line may have: only a terminal has a limit."""
    return width() if os.environ.get("COLUMNS") or sys.stdout.isatty() else 1 << 16


def can_draw() -> bool:
    """Whether the output can show line-drawing characters."""
    signs = "└├│─…→"
    return spelled(signs, _encoding()) == signs


def shortened(text: str, room: int) -> str:
    """Cut a text to a number of columns."""
    return cut(printable(text), room)


_NARROWEST = 20
"""Columns that a text is given at least."""
_NARROW = 60
"""Columns below which columns that do not fit stand below one another instead."""


def is_narrow() -> bool:
    """Whether the page is too narrow for columns side by side."""
    return page() < _NARROW


def headed(title: str, facts: Sequence[str]) -> list[str]:
    """Return a title with facts about it in one line, or below it if the page is too narrow."""
    line = f"{styled(title, 'title')}  {' · '.join(facts)}".rstrip()
    if _is_plain or cells(title) + 2 + cells(" · ".join(facts)) <= page():
        return [line]
    return [styled(title, "title"), *(f"    {line}" for line in wrapped(" · ".join(facts), "    "))]


def wrapped(text: str, indent: str) -> list[str]:
    """Return a text in lines that fit the width behind `indent`; at least one.

    The user's home becomes `~`, but not behind a quotation mark, where a shell would take it literally.
    """
    home = os.path.expanduser("~").replace("\\", "/")  # noqa: PTH111
    if len(home) > 1 and f"{home}/" in text:
        text = re.sub(rf"(?<!['\w]){re.escape(home)}/", "~/", text)
    return lines_of(printable(text), max(_NARROWEST, min(width(), 110) - len(indent))) or [""]


def in_lines(items: Sequence[str], indent: str, between: str = ",") -> list[str]:
    """Return items with commas or another sign between them, in lines that fit behind `indent`."""
    room = max(_NARROWEST, min(width(), 110) - len(indent))
    lines: list[str] = []
    for number, item in enumerate(items):
        text = shortened(item, room - len(between)) + (between if number < len(items) - 1 else "")
        if lines and cells(lines[-1]) + 1 + cells(text) <= room:
            lines[-1] += " " + text
        else:
            lines.append(text)
    return lines


def size_words(size: int) -> str:
    """Return bytes as people say them: `48.2 kB`."""
    if size < 1000:
        return f"{size} B"
    value = float(size)
    for unit in ("kB", "MB", "GB", "TB"):
        value /= 1000
        if value < 999.5 or unit == "TB":
            return f"{value:.1f} {unit}" if value < 99.95 else f"{value:.0f} {unit}"
    raise AssertionError("every size has a unit")


def time_words(nanoseconds: int) -> str:
    """Return a moment in local time: `2026-11-25 14:03`."""
    return time.strftime("%Y-%m-%d %H:%M", time.localtime(nanoseconds // 1_000_000_000))


def time_iso(nanoseconds: int) -> str:
    """Return a moment in ISO 8601 with the local offset, to the second."""
    from datetime import datetime

    return datetime.fromtimestamp(nanoseconds // 1_000_000_000).astimezone().isoformat()


def path_words(path: str) -> str:
    """Return a printable path, with the user's home as `~`."""
    home = os.path.expanduser("~").replace("\\", "/")  # noqa: PTH111
    if home not in ("", "/") and (path == home or path.startswith(home + "/")):
        path = "~" + path[len(home) :]
    return printable(path)


def shell_words(words: Sequence[str]) -> str:
    """Return a command for a shell, with the user's home as `~`."""
    from usufruct.files.shells import has_home_sign, quoted

    home = os.path.expanduser("~").replace("\\", "/")  # noqa: PTH111
    return " ".join(
        f"~/{quoted(word[len(home) + 1 :])}"
        if has_home_sign() and home not in ("", "/") and word.startswith(home + "/")
        else quoted(word)
        for word in words
    )


def in_columns(
    rows: Sequence[tuple[str, ...]],
    right: frozenset[int],
    style: Callable[[int, str], str],
    *,
    in_full: bool = False,
) -> list[str]:
    """Return rows of cells as aligned lines: see `row_lines`."""
    return [line for lines in row_lines(rows, right, style, in_full=in_full) for line in lines]


def row_lines(
    rows: Sequence[tuple[str, ...]],
    right: frozenset[int],
    style: Callable[[int, str], str],
    *,
    in_full: bool = False,
) -> list[list[str]]:
    """The lines of each row of cells, aligned; `right` are the columns of numbers.

    The last column is cut to the width, and where that leaves it next to nothing, the widest of the others too. With
    `in_full` it goes on in the next line instead. On a narrow page that they do not fit, the cells of a row stand below
    its first. Where nothing is drawn, nothing is aligned or cut.
    """
    if not rows:
        return []
    if _is_plain:
        return [["; ".join(filter(None, row))] for row in rows]
    widths = [max(map(cells, column)) for column in zip(*rows, strict=True)]
    last = len(widths) - 1
    columns = page() - 2 * last - 2
    if sum(widths) > columns and is_narrow():
        return [_stacked(row, 2 if 0 in right else 1, style, in_full=in_full) for row in rows]
    words = [number for number in range(last) if number not in right]
    while words and sum(widths[:last]) + min(widths[last], 10) > columns:
        widest = max(words, key=widths.__getitem__)
        if widths[widest] <= 12:
            break
        widths[widest] -= 1
    room = max(8, columns - sum(widths[:last]))
    lines = []
    for row in rows:
        shown = []
        first, *more = (lines_of(row[last], room) or [""]) if in_full else [row[last]]
        for number, cell in enumerate((*row[:last], first)):
            cell = shortened(cell, room if number == last else widths[number])
            filled = (
                right_of(cell, widths[number]) if number in right else left_of(cell, widths[number] * (number < last))
            )
            shown.append(style(number, filled))
        indent = " " * (2 * last + 2 + sum(widths[:last]))
        lines.append([("  " + "  ".join(shown)).rstrip(), *(indent + style(last, part) for part in more)])
    return lines


def _stacked(row: tuple[str, ...], heads: int, style: Callable[[int, str], str], *, in_full: bool) -> list[str]:
    """Return a row's first cell, with the next one if that is only a number, and the others below it."""
    title = "  " + "  ".join(style(number, cell) for number, cell in enumerate(row[:heads]))
    indent, below = " " * 6, list(filter(None, row[heads:]))
    lines = wrapped(" · ".join(below), indent) if in_full else in_lines(below, indent, " ·")
    return [title.rstrip(), *(indent + line for line in lines)]
