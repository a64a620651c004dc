"""Results of examining an archive: it is refused, asks, is there already, or is ready to be placed."""

from typing import TYPE_CHECKING, TypeVar

from msgspec import Struct

from usufruct.actions.request import Request
from usufruct.errors import DecisionNeeded, UsufructError
from usufruct.model.applications import Application
from usufruct.model.entries import Listing
from usufruct.model.facts import Facts
from usufruct.model.holdings import Holding
from usufruct.model.layout import Layout
from usufruct.model.plan import Plan
from usufruct.model.rulings import Decision
from usufruct.planning.competition import NOTHING_WEIGHED, Verdict

if TYPE_CHECKING:
    from usufruct.actions.download import Download
    from usufruct.archives.reading import Archive

_Outcome = TypeVar("_Outcome", bound="Examined")


class Examined(Struct, frozen=True, kw_only=True):
    """What is known about an archive, as far as its examination got; the result is one of the classes below."""

    path: str
    request: Request
    """What was asked, with the answers that were taken without asking."""
    format: str = ""
    size: int = 0
    """Bytes of all its files."""
    origin: str = ""
    """Where it was downloaded from, where that was recorded."""
    facts: Facts | None = None
    listing: Listing | None = None
    """What it holds; archives inside opened where they are for the layout."""
    verdict: Verdict = NOTHING_WEIGHED
    """How the applications stood that were weighed."""
    name: str = ""
    """What the holding is or would be called."""
    updates: Holding | None = None
    """The holding that it takes the place of, or adds to."""
    layout: Layout | None = None
    plan: Plan | None = None

    @property
    def application(self) -> Application | None:
        """The application that it is for; None for none, or if that is not known."""
        return self.layout.application if self.layout else None

    @property
    def extends(self) -> bool:
        """`updates` came from this very archive by other choices and is added to."""
        return self.request.extends

    @property
    def obstacle(self) -> UsufructError | None:
        """Why `add` would not place it; None if it would, or if it is there already."""
        return None

    def as_outcome(self, kind: type[_Outcome], **more: object) -> _Outcome:
        """Return the same with its result."""
        return kind(**{name: getattr(self, name) for name in Examined.__struct_fields__} | more)


class Refused(Examined, frozen=True, kw_only=True):
    """It is not placed, whatever is answered."""

    error: UsufructError

    @property
    def obstacle(self) -> UsufructError:
        """Why."""
        return self.error


class Asked(Examined, frozen=True, kw_only=True):
    """It is placed once the user has answered."""

    decisions: tuple[Decision, ...]
    """One or more."""
    in_the_way: dict[int, str] = {}
    """Rows of which it is asked what becomes of the file in their way → size, time and owner of both."""

    @property
    def obstacle(self) -> UsufructError:
        """That there is something to answer."""
        return DecisionNeeded(
            self.decisions[0].question, remedy="Answer by adding the words of one option to the command."
        )


class AlreadyThere(Examined, frozen=True, kw_only=True):
    """Everything that would be placed is in its place."""

    holding: Holding | None
    """The one that has it; None: the application has installed it itself."""


class Ready(Examined, frozen=True, kw_only=True):
    """It can be placed as planned."""

    layout: Layout
    plan: Plan
    archive: "Archive"
    """What the layout's rows are read from; open while the examination is."""
    download: "Download"
