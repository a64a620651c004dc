"""Try definitions on a set of downloads: what each would win, and where it is nearly a draw."""

from collections.abc import Sequence
from pathlib import Path

from msgspec import Struct

from usufruct.actions.applications import applications_here
from usufruct.actions.context import Context
from usufruct.actions.looking import look_at
from usufruct.actions.outcomes import Examined
from usufruct.actions.request import Request
from usufruct.model.applications import Application
from usufruct.planning.competition import Standing


class Tried(Struct, frozen=True):
    """One download and the definitions."""

    contest: Examined
    """With all definitions that are known, the one that is tried among them."""
    alone: Examined | None
    """With the one that is tried alone; None where all are."""

    @property
    def near(self) -> tuple[Standing, ...]:
        """The applications that nearly won, or that are nearly equal."""
        winner = self.contest.application.name if self.contest.application else ""
        near = tuple(one for one in self.contest.verdict.standings if one.is_near and one.application != winner)
        return near if winner or len(near) > 1 else ()


def try_definitions(context: Context, archives: Sequence[Path], one: Application | None) -> list[Tried]:
    """Try every definition on each download; `one` may be a definition that is not in use yet."""
    known = [application for application in applications_here(context) if not one or application.name != one.name]
    every = (*known, one) if one else tuple(known)
    contests = look_at(context, archives, Request(applications=every))
    if one is None:
        return [Tried(contest, None) for contest in contests]
    alone = look_at(context, archives, Request(applications=(one,), is_named=True))
    return [Tried(*pair) for pair in zip(contests, alone, strict=True)]
