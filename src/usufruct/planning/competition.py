"""Which application an archive is for: every definition is tried, the strongest evidence wins."""

from collections.abc import Sequence
from dataclasses import dataclass

from usufruct.model.layout import AsideKind, Decision, Evidence, Layout, Option


@dataclass(frozen=True, slots=True, kw_only=True)
class Verdict:
    """The outcome of trying an archive against several applications."""

    layout: Layout | None
    """The winner's layout; None where only the user can say."""
    decision: Decision | None = None
    runners_up: tuple[tuple[str, str], ...] = ()
    """Applications that fitted too, each with why it lost."""
    common: tuple[Decision, ...] = ()
    """Questions that have to be answered whichever application it is for."""


def verdict_on(layouts: Sequence[Layout]) -> Verdict:
    """The layout of the application that an archive fits best.

    Shipped definitions count only where none of the user's fits. The same evidence and numbers of files within
    a tenth are a draw, which is the user's to decide.
    """
    fitting = [layout for layout in layouts if layout.files and layout.application]
    own = [layout for layout in fitting if layout.application and not layout.application.is_shipped]
    fitting = sorted(own or filter(_is_for_shipped, fitting), key=_strength, reverse=True)
    if not fitting:
        return Verdict(layout=None)
    best, *others = fitting
    near = [layout for layout in others if layout.evidence == best.evidence and layout.files * 10 >= best.files * 9]
    if near:
        common = [d for d in best.decisions if all(_asks_alike(d, layout) for layout in near)]
        return Verdict(layout=None, decision=_draw([best, *near]), common=tuple(common))
    return Verdict(layout=best, runners_up=tuple((_name(layout), _loss(layout, best)) for layout in others))


def also_for(best: Layout, others: Sequence[Layout]) -> tuple[tuple[str, int], ...]:
    """Other applications that take what the best one does not, each with how many files."""
    found = []
    for layout in others:
        if layout is best or layout.listing is not best.listing or not layout.application or not best.application:
            continue
        if layout.application.is_shipped and not best.application.is_shipped:
            continue
        more = sum(1 for row in layout.placed_rows() if best.aside_of[row] == AsideKind.NOT_TAKEN)
        if more:
            found.append((_name(layout), more))
    return tuple(found)


def _is_for_shipped(layout: Layout) -> bool:
    """Patterns as wide as those of a shipped definition count only for an archive that is mostly of that kind."""
    if layout.evidence > Evidence.PATTERN:
        return True
    others = layout.rows_aside(AsideKind.NOT_TAKEN, AsideKind.ARCHIVE)
    return layout.files >= len(others) or layout.size >= sum(layout.listing.sizes[row] for row in others)


def _asks_alike(decision: Decision, layout: Layout) -> bool:
    answers = [option.answer for option in decision.options]
    return any([option.answer for option in other.options] == answers for other in layout.decisions)


def _strength(layout: Layout) -> tuple[int, int]:
    return layout.evidence, layout.files


def _name(layout: Layout) -> str:
    assert layout.application
    return layout.application.name


def _evidence_words(layout: Layout) -> str:
    return layout.evidence.name.lower().replace("_", " ")


def _loss(loser: Layout, winner: Layout) -> str:
    if loser.evidence < winner.evidence:
        return f"found by {_evidence_words(loser)} only, {_name(winner)} by {_evidence_words(winner)}"
    return f"places {loser.files} files, {_name(winner)} {winner.files}"


def _example(layout: Layout) -> str:
    """A destination of the application's."""
    assert layout.application
    first = next(layout.placements)
    return first.to if first.to.startswith("/") else f"{layout.application.root}/{first.to}"


def _draw(layouts: Sequence[Layout]) -> Decision:
    names = " and ".join(_name(layout) for layout in layouts)
    return Decision(
        question=f"{names} fit alike (by {_evidence_words(layouts[0])}). Which application is it for?",
        options=tuple(
            Option(
                name=_name(layout),
                answer=("--app", _name(layout)),
                files=layout.files,
                size=layout.size,
                example=_example(layout),
            )
            for layout in layouts
        ),
    )
