"""Ask a person at a terminal, and tell everyone else the command that answers."""

from __future__ import annotations

import os
import sys
from collections import Counter
from collections.abc import Sequence, Set
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeGuard

import click
from msgspec.structs import replace

from usufruct.actions.context import Context
from usufruct.actions.outcomes import Asked, Examined
from usufruct.actions.request import Request
from usufruct.cli.cells import cells, left
from usufruct.cli.options import RECEIVED
from usufruct.cli.screen import (
    count_words,
    echo,
    echo_text,
    forget_typed,
    is_plain,
    page,
    path_words,
    shell_words,
    shortened,
    size_words,
    wrapped,
)
from usufruct.errors import UsufructError, WrongUsage
from usufruct.files.paths import expanded
from usufruct.model.applications import Application
from usufruct.model.choices import OnClash
from usufruct.model.layout import Layout
from usufruct.model.plan import Plan
from usufruct.model.rulings import Decision, Option
from usufruct.planning.names import by_number

if TYPE_CHECKING:
    from usufruct.actions.downloads import Waiting

if TYPE_CHECKING:
    from usufruct.actions.defining import Proposal

_TICKING = "(space ticks, Ctrl-A ticks all, typing filters, enter is done)"
"""How a checklist is worked, said in one wording everywhere."""


def is_asking() -> bool:
    """Whether a person is at both ends, so that questions are asked."""
    return sys.stdin.isatty() and sys.stdout.isatty()


class Answers:
    """A person's answers, some of which count for all questions of their kind."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._for_all: dict[tuple[str, ...], str] = {}
        """Kind of question → name of the option that was chosen for all of it; empty for none of them."""

    def pass_over(self, result: Asked) -> bool:
        """Whether the person wants nothing of all archives that ask the same as this one."""
        return any(self._for_all.get(_kind_of(decision)) == "" for decision in result.decisions)

    def to(self, result: Asked, others: Sequence[Asked] = ()) -> Request | None:
        """Return the request with the answers to all questions of an archive; None if one is left open.

        `others` are archives that wait too: an answer may count for those that ask the same.
        """
        if result.plan and result.plan.open_conflicts:
            return _decided_conflicts(result, result.plan)
        request = result.request
        for decision in result.decisions:
            if not decision.options or _is_of_password(decision):
                return None
            kind = _kind_of(decision)
            alike = sum(any(_kind_of(one) == kind for one in other.decisions) for other in others)
            known = next((one for one in decision.options if one.name == self._for_all.get(kind)), None)
            answer, is_for_all = (known, False) if known else _ask(decision, alike)
            if isinstance(answer, Option):
                if is_for_all:
                    self._for_all[kind] = answer.name
                request = request.with_answer(answer.answer)
            elif answer == _NOTHING and is_for_all:
                self._for_all[kind] = ""
                return None
            elif answer == _ELSEWHERE and (named := _directory("Which directory? It is made if it is not there.")):
                request = request.with_answer(("--to", named))
            elif answer == _LEARNED and (application := _learned(self._context)):
                # Decide again, now that there is one more application.
                return replace(request, applications=(*request.applications, application))
            else:
                return None
        return request


def _kind_of(decision: Decision) -> tuple[str, ...]:
    """Return what questions have in common if one answer fits all: the names and options of their answers."""
    return tuple(word for option in decision.options for word in (option.name, *option.answer[::2]))


_ELSEWHERE, _LEARNED, _NOTHING = "elsewhere", "learned", "nothing"
_WAYS_ON = {
    _ELSEWHERE: "another directory, which I name",
    _LEARNED: "an application of mine: learn it from a folder that has such content already",
}
"""Answers to where an archive as a whole goes, beside those that are commands."""


def _directory(question: str) -> str | None:
    """Return the absolute path of a directory that a person types; None if they stop."""
    forget_typed()
    if is_plain():
        from usufruct.cli.numbered import typed_words

        named = typed_words(question)
        return str(expanded(named).absolute()) if named else None
    # Imported only for questions: it takes longer than most commands.
    import questionary

    answer: str | None = questionary.path(question, only_directories=True, style=_style()).unsafe_ask()
    return str(expanded(answer).absolute()) if answer and answer.strip() else None


def _learned(context: Context) -> Application | None:
    """Return the application that was learned from a folder which a person types; None if they stop."""
    from usufruct.actions.defining import learn

    directory = _directory("Which folder does the application read?")
    if not directory:
        return None
    try:
        proposal = learn(context, Path(directory), None)
    except UsufructError as error:
        echo(f"{error.message} {error.remedy}", err=True)
        return None
    echo_text(proposal.text)
    return accepted(context, proposal)


def accepted(context: Context, proposal: Proposal) -> Application | None:
    """Return the application of a proposed definition once a person accepts it, perhaps edited; it is written."""
    from usufruct.actions.defining import write_definition
    from usufruct.cli.editing import edited

    rows = [
        (f"write it to {path_words(str(proposal.file))}", "write"),
        ("change it in an editor first", "edit"),
        ("write nothing", ""),
    ]
    text = proposal.text
    while answer := _selected("What should happen to it?", rows):
        if answer == "edit":
            text = edited(text) or text
            echo_text(text)
            continue
        try:
            return write_definition(context, text, proposal.file)
        except WrongUsage as fault:
            echo(f"{fault.message} {fault.remedy}", err=True)
    return None


def _ask(decision: Decision, alike: int = 0) -> tuple[Option | str, bool]:
    """Return the answer, and whether it counts for the `alike` others that ask the same."""
    question = "\n  ".join(wrapped(decision.question, "  "))
    wide = max(cells(option.name) for option in decision.options)
    rows: list[tuple[str, Any]] = [(_option_words(option, wide), option) for option in decision.options]
    others = f"{count_words(alike, 'other archive')} that ask{'s' if alike == 1 else ''} this"
    if alike:
        more = f", and the same for {others}"
        rows += [(f"{option.name}{more}", (option,)) for option in decision.options if option.answer]
    if decision.is_of_whole:
        rows += [(words, way) for way, words in _WAYS_ON.items()]
    if not decision.is_open:
        rows.append(("none of these: place nothing now", _NOTHING))
    if alike:
        rows.append((f"place nothing of this one, nor of {others}", (_NOTHING,)))
    answer = _selected(question, rows)
    if isinstance(answer, tuple):
        return answer[0], True
    if isinstance(answer, Option) and not answer.answer:
        return _NOTHING, False
    return answer, False


def _decided_conflicts(result: Asked, plan: Plan) -> Request:
    """Return the request with a person's decision about each file in the way."""
    choices, listing = result.request.choices, plan.layout.listing
    decided = dict(choices.on_clash_of)
    rest: OnClash | None = None
    rows = [(words, (policy, False)) for policy, words in _CONFLICT_WORDS.items()]
    rows += [(f"{words}, and the same for the rest", (policy, True)) for policy, words in _CONFLICT_WORDS.items()]
    for row in plan.open_conflicts:
        path = listing.path(row)
        if rest is None:
            both = "\n  ".join(wrapped(result.in_the_way[row], "  "))
            question = f"{path} is there already with other content. What should happen to the one there?\n  {both}"
            decided[path], is_rest = _selected(question, rows)
            rest = decided[path] if is_rest else None
        else:
            decided[path] = rest
    return replace(result.request, choices=replace(choices, on_clash_of=tuple(decided.items())))


_CONFLICT_WORDS = {
    OnClash.REPLACE: "replace it (it is backed up)",
    OnClash.KEEP: "keep it",
    OnClash.NEWER: "replace it if the new one is newer",
    OnClash.BOTH: "keep it, and place the new one beside it",
}


def is_answerable(result: Examined) -> TypeGuard[Asked]:
    """Whether a person could answer all questions of an archive by choosing."""
    return isinstance(result, Asked) and all(
        decision.options and not _is_of_password(decision) for decision in result.decisions
    )


def is_locked(result: Examined) -> TypeGuard[Asked]:
    """Whether an archive waits for its password."""
    return isinstance(result, Asked) and any(map(_is_of_password, result.decisions))


def _is_of_password(decision: Decision) -> bool:
    return bool(decision.options) and decision.options[0].answer[:1] == ("--password-file",)


def _option_words(option: Option, wide: int) -> str:
    """Return an option in one line: its name, its size, an example."""
    example = f"  {option.example}" if option.example else ""
    if not option.answer:
        return option.name
    return f"{left(option.name, wide)}  {option_facts(option)}{example}"


def option_facts(option: Option) -> str:
    """Return how much an answer places, and what it leaves out: `3 files, 2.1 MB, 6 left out`."""
    left = f", {option.left_out:,} left out" if option.left_out else ""
    return f"{count_words(option.files, 'file')}, {size_words(option.size)}{left}"


def picked(layout: Layout) -> tuple[str, ...]:
    """Return the paths of the entries that a person ticks.

    Pieces and directories are ticked as a whole, unless they are opened to choose from their content.
    """
    opened: set[str] = set()
    ticked: frozenset[str] | None = None
    while True:
        bundles = _bundles(layout, opened)
        paths = {title: rows for title, _, rows in bundles}
        choices = [
            (f"{title}  {facts}", title, ticked is None or not ticked.isdisjoint(paths[title]))
            for title, facts, _ in bundles
        ]
        closed = [title for title, _, rows in bundles if len(rows) > 1]
        if closed:
            choices.append(("open some of these, to choose single files", _OPEN, False))
        answer = _checked("Which do you want?", choices)
        ticked = frozenset(path for title in answer if title != _OPEN for path in paths[title])
        if _OPEN not in answer:
            return tuple(sorted(ticked))
        opened.update(_checked("Which should be opened?", [(title, title, len(closed) == 1) for title in closed]))


_MOST_SINGLE = 20
"""Files straight in a folder that are ticked one by one from the start."""
_OPEN = "\0open"
"""The answer that opens pieces and directories."""


def _bundles(layout: Layout, opened: Set[str]) -> list[tuple[str, str, list[str]]]:
    """Return title, size and paths of what is ticked as a whole: a piece, a directory, or one file."""
    listing = layout.listing
    found: dict[str, list[int]] = {}
    counts = Counter(layout.home_of[row] for row in layout.placed_rows())
    for row in layout.placed_rows():
        number = layout.home_of[row]
        home = layout.homes[number]
        title = home.piece or home.path or "."
        is_straight = not home.piece and home.folder is not None and home.path == home.folder.path
        if is_straight and counts[number] <= _MOST_SINGLE:
            title = listing.path(row)
        found.setdefault(listing.path(row) if f"{title}/" in opened else title, []).append(row)
    bundles = []
    for title, rows in sorted(found.items(), key=lambda one: by_number(one[0])):
        size = size_words(sum(map(listing.sizes.__getitem__, rows)))
        paths = [listing.path(row) for row in rows]
        is_single = len(rows) == 1
        facts = size if is_single else f"{count_words(len(rows), 'file')}, {size}"
        bundles.append((paths[0] if is_single else f"{title}/", facts, paths))
    return bundles


def ticked(found: Sequence[Waiting]) -> list[str]:
    """Return the paths of the downloads that a person ticks, newest first."""
    rows = [(f"{Path(one.path).name}  {size_words(one.size)}, {_for_whom(one)}", one.path, False) for one in found]
    return _checked("Which do you want to add?", rows)


def _checked(question: str, rows: Sequence[tuple[str, str, bool]]) -> list[str]:
    """Return the values of the rows that a person ticks; each has a text, a value, and whether it begins ticked."""
    forget_typed()
    if is_plain():
        from usufruct.cli.numbered import several_of

        return [rows[number][1] for number in several_of(question, [(words, on) for words, _, on in rows])]
    import questionary

    room = page() - 8
    choices = [questionary.Choice(title=shortened(words, room), value=value, checked=on) for words, value, on in rows]
    answer: list[str] = questionary.checkbox(
        question, choices=choices, instruction=_TICKING, style=_style(), use_search_filter=True, use_jk_keys=False
    ).unsafe_ask()
    return answer


def _selected(question: str, rows: Sequence[tuple[str, Any]]) -> Any:
    """Return the value of the row that a person chooses."""
    forget_typed()
    if is_plain():
        from usufruct.cli.numbered import one_of

        return rows[one_of(question, [words for words, _ in rows])][1]
    import questionary

    room = page() - 6
    choices = [questionary.Choice(title=shortened(words, room), value=value) for words, value in rows]
    return questionary.select(question, choices=choices, instruction=" ", style=_style()).unsafe_ask()


def _style() -> Any:
    """Return our own colours: nothing is told by a colour alone, and no line is reversed."""
    import questionary

    plain = [("selected", "noreverse"), ("highlighted", "bold"), ("question", "bold"), ("answer", "bold")]
    colours = [("qmark", "fg:ansiyellow"), ("pointer", "fg:ansicyan bold"), ("instruction", "fg:ansibrightblack")]
    return questionary.Style(plain if os.environ.get("NO_COLOR") else [*plain, *colours])


def _for_whom(one: Waiting) -> str:
    from usufruct.actions.arrivals import LOCKED

    if one.state == LOCKED:
        return "locked with a password"
    return f"for {one.application}" if one.application else "a question comes first"


def answering_command(result: Asked) -> str:
    """Return the command that answers every question of an archive, with the first option of each as an example.

    If nothing is proposed, the example names no application.
    """
    request, is_answered = result.request, False
    for decision in result.decisions:
        fitting = [option for option in decision.options if not decision.is_open or "--to" in option.answer]
        if decision.options and not fitting:
            return ""
        for option in fitting[:1]:
            request, is_answered = request.with_answer(option.answer), True
    if not is_answered:
        return ""
    return shell_words(["usufruct", "add", *_archive_words(result), *request.words(), *_words_beside()])


def _archive_words(result: Asked) -> list[str]:
    """Return the words of the present command for an archive, or for all that become one holding together."""
    click_context = click.get_current_context(silent=True)
    if click_context is None:
        return [result.path]
    archives = [str(word) for word in click_context.params.get("archives", ())]
    if result.request.together and archives:
        return list(dict.fromkeys(map(_no_option, archives)))
    path = click_context.meta.get(RECEIVED, {}).get(result.path, result.path)
    return [_no_option(next((word for word in archives if str(Path(word).absolute()) == path), path))]


def _no_option(path: str) -> str:
    """Return a path so that no command takes it for an option."""
    return f"./{path}" if path.startswith("-") and path != "-" else path


def _words_beside() -> list[str]:
    """Return options of the present command that are not part of a request but count for its answer too."""
    click_context = click.get_current_context(silent=True)
    params = click_context.params if click_context else {}
    afterwards = params.get("afterwards")
    return [*(("--afterwards", afterwards) if afterwards else ()), *(("--open",) if params.get("opens") else ())]
