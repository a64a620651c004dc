"""Questions and checklists as numbered lines, answered by typing; for screen readers and simple terminals."""

import re
from collections.abc import Sequence

import click

from usufruct.cli.screen import echo

_RANGE = re.compile(r"(\d+)(?:\s*-\s*(\d+))?")


def one_of(question: str, rows: Sequence[str]) -> int:
    """Return the number of the row that a person types, from 0; Enter alone means the first."""
    _ask(question)
    for number, words in enumerate(rows, 1):
        echo(f"{number}. {words}", err=True)
    while True:
        answer = typed_words(f"Type a number from 1 to {len(rows)}. Enter alone means 1, {_first_words(rows[0])}")
        if not answer:
            return 0
        if answer.isdecimal() and 1 <= int(answer) <= len(rows):
            return int(answer) - 1
        echo(f"{answer} is no number from 1 to {len(rows)}.", err=True)


def several_of(question: str, rows: Sequence[tuple[str, bool]]) -> list[int]:
    """Return the numbers of the rows that a person types, from 0; Enter alone means those that are ticked."""
    _ask(question)
    for number, (words, _) in enumerate(rows, 1):
        echo(f"{number}. {words}", err=True)
    ticked = [number for number, (_, on) in enumerate(rows) if on]
    preset = "all" if len(ticked) == len(rows) else f"the {len(ticked)} chosen already" if ticked else "none"
    while True:
        answer = typed_words(f"Type numbers or ranges, such as 1 3-5, or all, or none. Enter alone means {preset}")
        if not answer:
            return ticked
        if answer.lower() in ("all", "none"):
            return list(range(len(rows))) if answer.lower() == "all" else []
        if (chosen := _numbers(answer, len(rows))) is not None:
            return chosen
        echo(f"{answer} has something in it that is no number from 1 to {len(rows)}.", err=True)


def _numbers(answer: str, most: int) -> list[int] | None:
    """Return what `1 3-5` means, from 0; None for anything else."""
    chosen: set[int] = set()
    rest = _RANGE.sub("", answer)
    if rest.strip(" ,;"):
        return None
    for found in _RANGE.finditer(answer):
        first, last = int(found[1]), int(found[2] or found[1])
        if not 1 <= first <= last <= most:
            return None
        chosen.update(range(first - 1, last))
    return sorted(chosen)


def typed_words(question: str) -> str:
    """Return the line that a person types; empty for Enter alone."""
    answer: str = click.prompt(question, default="", show_default=False, err=True)
    return answer.strip()


def _ask(question: str) -> None:
    for line in question.split("\n"):
        echo(line.strip(), err=True)


def _first_words(row: str) -> str:
    return row.split("  ")[0].strip()
