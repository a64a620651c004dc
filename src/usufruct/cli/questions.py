"""Asking a person at a terminal, and telling everybody else the command that answers."""

import shlex
import sys
from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise
from pathlib import Path
from typing import TYPE_CHECKING

import click

from usufruct.actions.downloads import LOCKED, Waiting
from usufruct.actions.examine import Examined
from usufruct.actions.request import Request
from usufruct.actions.surroundings import Surroundings
from usufruct.cli.screen import count_words, echo, echo_text, path_words, shortened, size_words, width, wrapped
from usufruct.errors import UsufructError, WrongUsage
from usufruct.model.applications import Application
from usufruct.model.choices import OnClash
from usufruct.model.layout import Decision, Layout, Option

if TYPE_CHECKING:
    from usufruct.actions.defining import Proposal

TICKING = "(space ticks, a ticks all, enter is done)"
"""How a checklist is worked, said in one wording everywhere."""
_MOST_ROWS = 60
"""Entries that a checklist names one by one; more are picked by directory."""


def is_asking() -> bool:
    """Whether a person sits at both ends."""
    return sys.stdin.isatty() and sys.stdout.isatty()


class Answers:
    """A person's answers, some of which hold for all questions of their kind."""

    def __init__(self, around: Surroundings) -> None:
        self._around = around
        self._for_all: dict[tuple[str, ...], str] = {}
        """Kind of question → name of the option that was chosen for all of it."""

    def to(self, result: Examined, others: Sequence[Examined] = ()) -> Request | None:
        """The request with the person's answers to all questions of an archive; None if one is left open.

        `others` are archives that wait too: an answer may be given for those that ask the same.
        """
        if result.plan and result.plan.open_clashes:
            return decided_clashes(result)
        request = result.request
        for decision in result.decisions:
            if not decision.options:
                return None
            kind = _kind_of(decision)
            alike = sum(any(_kind_of(one) == kind for one in other.decisions) for other in others)
            known = next((one for one in decision.options if one.name == self._for_all.get(kind)), None)
            answer, is_for_all = (known, False) if known else _ask(decision, alike)
            if isinstance(answer, Option):
                if is_for_all:
                    self._for_all[kind] = answer.name
                request = request.with_answer(answer.answer)
            elif answer == _ELSEWHERE and (named := _directory("Which directory? It is made if it is not there.")):
                request = request.with_answer(("--to", named))
            elif answer == _LEARNED and (application := _learned(self._around)):
                # The rules decide anew, now that there is one more application.
                return replace(request, applications=(*request.applications, application))
            else:
                return None
        return request


def _kind_of(decision: Decision) -> tuple[str, ...]:
    """What questions have in common that one answer fits: the names of their options, and the words that answer."""
    return tuple(word for option in decision.options for word in (option.name, *option.answer[::2]))


_ELSEWHERE, _LEARNED = "elsewhere", "learned"
_WAYS_ON = {
    _ELSEWHERE: "another directory, which I name",
    _LEARNED: "an application of mine: learn it from a folder that has such content already",
}
"""Answers to where an archive as a whole goes, beside those that are commands."""


def _directory(question: str) -> str | None:
    """Absolute path of a directory that a person names; None if they stop."""
    import questionary

    answer: str | None = questionary.path(question, only_directories=True).unsafe_ask()
    return str(Path(answer).expanduser().absolute()) if answer and answer.strip() else None


def _learned(around: Surroundings) -> Application | None:
    """The application whose definition was learned from a folder that a person names; None if they stop."""
    from usufruct.actions.defining import learn

    directory = _directory("Which folder does the application read?")
    if not directory:
        return None
    try:
        proposal = learn(around, Path(directory), None)
    except UsufructError as error:
        echo(f"{error.message} {error.remedy}", err=True)
        return None
    echo_text(proposal.text)
    return accepted(around, proposal)


def accepted(around: Surroundings, proposal: "Proposal") -> Application | None:
    """The application of a proposed definition, written once a person accepts it, changed first if they like."""
    import questionary

    from usufruct.actions.defining import write_definition

    choices = [
        questionary.Choice(title=f"write it to {path_words(str(proposal.file))}", value="write"),
        questionary.Choice(title="change it in an editor first", value="edit"),
        questionary.Choice(title="write nothing", value=""),
    ]
    text = proposal.text
    while answer := questionary.select("What shall become of it?", choices=choices, instruction=" ").unsafe_ask():
        if answer == "edit":
            text = click.edit(text, extension=".toml") or text
            echo_text(text)
            continue
        try:
            return write_definition(around, text, proposal.file)
        except WrongUsage as fault:
            echo(f"{fault.message} {fault.remedy}", err=True)
    return None


def _ask(decision: Decision, alike: int = 0) -> tuple[Option | str | None, bool]:
    """The answer, and whether it is meant for the others that ask the same too: so many are `alike`."""
    # Only where a question is put: the library takes longer to import than most commands to run.
    import questionary

    question = "\n  ".join(wrapped(decision.question, "  "))
    room = width() - 6
    wide = max(len(option.name) for option in decision.options)
    choices = [
        questionary.Choice(title=shortened(_option_words(option, wide), room), value=option)
        for option in decision.options
    ]
    if alike:
        more = f", and the same for {count_words(alike, 'other archive')} that ask{'s' if alike == 1 else ''} this"
        choices += [
            questionary.Choice(title=shortened(f"{option.name}{more}", room), value=(option,))
            for option in decision.options
        ]
    if decision.is_of_whole:
        choices += [questionary.Choice(title=words, value=way) for way, words in _WAYS_ON.items()]
    # The library takes a value of None for the title, so nothing at all is told by another one.
    choices.append(questionary.Choice(title="none of these: place nothing now", value=False))
    answer = questionary.select(question, choices=choices, instruction=" ").unsafe_ask()
    if isinstance(answer, tuple):
        return answer[0], True
    return (answer if isinstance(answer, (Option, str)) else None), False


def decided_clashes(result: Examined) -> Request | None:
    """The request with a person's word on each file in the way; None if they stop."""
    import questionary

    plan, choices = result.plan, result.request.choices
    assert plan, "there were clashes to ask about"
    listing = plan.layout.listing
    decided = dict(choices.on_clash_of)
    rest: OnClash | None = None
    for row in plan.open_clashes:
        path = listing.path(row)
        if rest is None:
            answers = [questionary.Choice(title=words, value=policy) for policy, words in _CLASH_WORDS.items()]
            answers += [
                questionary.Choice(title=f"{words}, and the same for the rest", value=f"{policy} rest")
                for policy, words in _CLASH_WORDS.items()
            ]
            question = f"{path} is there already and differs. What shall become of the one there?"
            answer: str | None = questionary.select(question, choices=answers, instruction=" ").unsafe_ask()
            if answer is None:
                return None
            policy, _, is_rest = str(answer).partition(" ")
            if is_rest:
                rest = OnClash(policy)
            decided[path] = OnClash(policy)
        else:
            decided[path] = rest
    return replace(result.request, choices=replace(choices, on_clash_of=tuple(decided.items())))


_CLASH_WORDS = {
    OnClash.REPLACE: "replace it (it is backed up)",
    OnClash.KEEP: "keep it",
    OnClash.NEWER: "replace it if the new one is newer",
    OnClash.BOTH: "keep it, and place the new one beside it",
}


def is_answerable(result: Examined) -> bool:
    """Whether a person could answer all questions of an archive by picking."""
    return bool(result.decisions) and not result.error and all(decision.options for decision in result.decisions)


def _option_words(option: Option, wide: int) -> str:
    """An option in one line: what it is called, how much it is, an example."""
    example = f"  {option.example}" if option.example else ""
    return f"{option.name.ljust(wide)}  {count_words(option.files, 'file')}, {size_words(option.size)}{example}"


def picked(result: Examined) -> tuple[str, ...] | None:
    """Paths of the entries that a person ticks; None if they stop. Long archives are picked by directory."""
    import questionary

    assert result.layout
    groups = _groups(result.layout)
    room = width() - 8
    choices = [
        questionary.Choice(title=shortened(title, room), value=paths, checked=True) for title, paths in groups.items()
    ]
    answer: list[list[str]] | None = questionary.checkbox(
        "Which shall be placed?", choices, instruction=TICKING
    ).unsafe_ask()
    return None if answer is None else tuple(path for paths in answer for path in paths)


def ticked(found: "Sequence[Waiting]") -> list[str] | None:
    """Paths of the downloads that a person ticks, newest first; None if they stop."""
    import questionary

    choices = [
        questionary.Choice(
            title=shortened(f"{Path(one.path).name}  {size_words(one.size)}, {_for_whom(one)}", width() - 8),
            value=one.path,
        )
        for one in found
    ]
    answer: list[str] | None = questionary.checkbox("Which shall be added?", choices, instruction=TICKING).unsafe_ask()
    return answer


def _for_whom(one: Waiting) -> str:
    if one.state == LOCKED:
        return "locked with a password"
    return f"for {one.application}" if one.application else "a question comes first"


def _groups(layout: Layout) -> dict[str, list[str]]:
    """Title → paths of entries: each its own, or those of one destination directory."""
    rows = list(layout.placed_rows())
    listing = layout.listing
    by_directory = len(rows) > _MOST_ROWS
    groups: dict[str, list[str]] = {}
    sizes: dict[str, int] = {}
    for row in rows:
        home = layout.homes[layout.home_of[row]]
        title = (home.piece or home.path or ".") if by_directory else listing.path(row)
        groups.setdefault(title, []).append(listing.path(row))
        sizes[title] = sizes.get(title, 0) + listing.sizes[row]
    return {
        f"{title}  {count_words(len(paths), 'file')}, {size_words(sizes[title])}"
        if by_directory
        else f"{title}  {size_words(sizes[title])}": paths
        for title, paths in groups.items()
    }


def answering_command(result: Examined) -> str:
    """The command that answers every question of an archive, with the first option of each for an example."""
    answers = [word for decision in result.decisions for word in (decision.options or (None,))[:1] if word]
    if not answers:
        return ""
    words = ["usufruct", "add", *_words_about(result.path)]
    for option in answers:
        pairs = zip(option.answer[::2], option.answer[1::2], strict=True)
        words.extend(word for pair in pairs if not _is_said(words, pair) for word in pair)
    return shlex.join(words)


def _is_said(words: Sequence[str], pair: tuple[str, str]) -> bool:
    return pair in pairwise(words)


def _words_about(path: str) -> list[str]:
    """The words of the present command for one of its archives."""
    context = click.get_current_context(silent=True)
    given: list[str] = list(context.find_root().obj or []) if context else []
    archives: Sequence[Path] = context.params.get("archives", ()) if context else ()
    mine = next((str(word) for word in archives if str(word.absolute()) == path), path)
    names = {str(word) for word in archives}
    options = [word for word in given[1:] if word not in names and word not in ("--json", "--full", "--dry-run")]
    return [mine, *options]
