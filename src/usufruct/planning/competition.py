"""Decide which application an archive is for: each is tried, the strongest evidence wins and is doubted."""

import re
from collections.abc import Sequence

from msgspec import Struct

from usufruct.model.applications import Application, Folder
from usufruct.model.entries import EntryKind
from usufruct.model.layout import Layout
from usufruct.model.rulings import Decision, Evidence, Option, SkippedKind
from usufruct.model.words import count_words
from usufruct.planning.everyday import EVERYDAY, suffix_of
from usufruct.planning.names import folded, spelling_key
from usufruct.planning.patterns import is_own_type
from usufruct.planning.tree import Tree

_TENTH = 10
_PLURAL = re.compile(r"(?<=\w\w\w)(?:ies|(?<=[sxh])es|(?<!s)s)$")
_MOST_RUN = 4
"""Words of a name that are read together."""
_NO_CONTENT = (SkippedKind.JUNK, SkippedKind.NOTES)
_OF_ITS_OWN = (Evidence.MARK, Evidence.ROOT_NAME)
"""Kinds of evidence that hardly any two applications share: the user's own definition knows better then."""


class Standing(Struct, frozen=True, kw_only=True):
    """How one application stood when an archive was tried against it."""

    application: str
    evidence: Evidence
    files: int
    """Entries that its rules found a place for, whatever is left out later."""
    is_near: bool
    """Told as strongly as the strongest, with at least two thirds of the files of the one with most."""


class Verdict(Struct, frozen=True, kw_only=True):
    """The outcome of trying an archive against several applications."""

    layout: Layout | None
    """The winner's layout; None where only the user can say."""
    decision: Decision | None = None
    runners_up: tuple[tuple[str, str], ...] = ()
    """Applications that fitted too, each with why it lost."""
    standings: tuple[Standing, ...] = ()
    """All applications that fitted, the strongest first: what was weighed."""
    common: tuple[Decision, ...] = ()
    """Questions that have to be answered whichever application it is for."""
    also_for: tuple[tuple[str, int], ...] = ()
    """Applications that take what the winner does not, each with how many files."""


NOTHING_WEIGHED = Verdict(layout=None)
"""No applications took part."""


def verdict_on(layouts: Sequence[Layout], download: str = "") -> Verdict:
    """The layout of the application that an archive fits best, unless a careful person would ask first.

    The strongest evidence wins, the user's definitions and those that ship alike. Of those with at least two thirds of
    the most files, the one whose name the download or its only top directory holds; then, where a mark or a root name
    led there, the user's own.
    """
    layouts = [layout for layout in layouts if not _app(layout).yields]
    fitting = [layout for layout in layouts if layout.files and layout.evidence > Evidence.ANYTHING]
    if not fitting:
        return Verdict(layout=None)
    standings = _standings(fitting)
    evidence = max(layout.evidence for layout in fitting)
    strongest = [layout for layout in fitting if layout.evidence == evidence]
    most = max(map(_reached, strongest))
    near = [layout for layout in strongest if _is_near(_reached(layout), most)]
    named = named_in(list(map(_app, near)), (download, Tree.of(near[0].listing).only_top))
    near = [layout for layout in near if _app(layout) in named] or near
    if evidence in _OF_ITS_OWN:
        near = [layout for layout in near if not _app(layout).is_shipped] or near
    if len(near) > 1:
        common = [d for d in near[0].decisions if all(_asks_alike(d, layout) for layout in near)]
        return Verdict(layout=None, decision=_draw(near), standings=standings, common=tuple(common))
    best = near[0]
    others = [layout for layout in fitting if layout is not best]
    if doubt := _doubt(best, [layout for layout in layouts if layout is not best], is_named=_app(best) in named):
        return Verdict(layout=None, decision=_weighed(best, others, doubt), standings=standings)
    lost = tuple((_name(layout), _loss(layout, best)) for layout in others)
    return Verdict(layout=best, runners_up=lost, standings=standings, also_for=_also_for(best, layouts))


def _is_near(files: int, most: int) -> bool:
    return 3 * files >= 2 * most


def _standings(fitting: Sequence[Layout]) -> tuple[Standing, ...]:
    reached = [(layout.evidence, _reached(layout), layout) for layout in fitting]
    reached.sort(key=lambda one: (-one[0], -one[1], _name(one[2])))
    strongest, most, _ = reached[0]
    return tuple(
        Standing(
            application=_name(layout),
            evidence=evidence,
            files=files,
            is_near=evidence == strongest and _is_near(files, most),
        )
        for evidence, files, layout in reached
    )


def _reached(layout: Layout) -> int:
    """Count the entries that the rules found a place for by more than a bare `*`, also if they are skipped later."""
    evidence = layout.evidence_of
    return len(evidence) - evidence.count(Evidence.NONE) - evidence.count(Evidence.ANYTHING)


def _content(layout: Layout) -> int:
    """Entries that are neither junk nor notes."""
    pairs = zip(layout.listing.kinds, layout.skipped_as, strict=True)
    return sum(1 for kind, reason in pairs if kind != EntryKind.DIRECTORY and reason not in _NO_CONTENT)


def _doubt(best: Layout, others: Sequence[Layout], *, is_named: bool) -> str:
    """Say in a sentence why the winner should be confirmed by the user; empty if there is no doubt."""
    app, reached, content = _app(best), _reached(best), _content(best)
    if best.evidence <= Evidence.EVERYDAY:
        if app.is_shipped and _has_only_everyday(best):
            return f"Only common file types, such as pictures or texts, fit {app.name}"
        if app.is_shipped:
            return f"Only a folder's name that many programs use, such as themes or scripts, fits {app.name}"
        if not is_named and (folder := _with_types_of_its_own(best)):
            return f"{app.name} has special file types for its {folder.name}, and the archive has none of these"
    if best.evidence <= Evidence.PATTERN and reached * 2 < content:
        return f"{app.name} has a folder for only {reached} of {content} files, judged by their types"
    for other in others:
        if said := _left_of(best, other, content) or _lies_in(best, _app(other)):
            return said
    return ""


def _has_only_everyday(layout: Layout) -> bool:
    """Whether all files that would be placed have types that very many programs use."""
    return all(suffix_of(layout.listing.names[row]) in EVERYDAY for row in layout.placed_rows())


def _with_types_of_its_own(layout: Layout) -> Folder | None:
    """Return the first folder with a file in it that also takes types of the application's own."""
    folders = {home.folder.name: home.folder for home in layout.homes if home.folder}
    for folder in folders.values():
        if any(map(is_own_type, folder.takes)):
            return folder
    return None


def _left_of(best: Layout, other: Layout, content: int) -> str:
    """Say what belongs to another application and would be left out; empty if nothing does."""
    if other.listing is not best.listing or other.evidence < Evidence.PATTERN:
        return ""
    name = _name(other)
    left = [
        (Evidence(strength), row)
        for row, (strength, reached) in enumerate(zip(other.evidence_of, best.evidence_of, strict=True))
        if strength >= Evidence.PATTERN and not reached and best.skipped_as[row] not in _NO_CONTENT
    ]
    left = [(strength, row) for strength, row in left if _speaks_for_others(best, row, strength)]
    by_mark = next((row for strength, row in left if strength == Evidence.MARK), None)
    if by_mark is not None:
        return f"It would leave out {best.listing.path(by_mark)}, which belongs to {name}"
    for strength, row in left:
        folder = other.homes[other.home_of[row]].folder if other.home_of[row] >= 0 else None
        if strength > Evidence.MARK and folder and (folder.mark or any(one != "*" for one in folder.takes)):
            return f"It would leave out {best.listing.path(row)}, which belongs to {name}"
    own = sum(1 for strength, _ in left if strength == Evidence.PATTERN)
    if own * _TENTH > content:
        return f"It would leave out {own} of {content} files of a type that {name} uses"
    return ""


def _speaks_for_others(best: Layout, row: int, strength: Evidence) -> bool:
    """Whether what another application found in a row counts against the winner.

    Everything below a directory with the winner's own name is the winner's. Below one of the names in `also`, file
    types of others do not count.
    """
    listing = best.listing
    directory = listing.directory_of[row]
    while best.roots and directory > 0 and not _app(best).is_shipped:  # names of shipped ones are common words
        if directory in best.roots:
            return not best.roots[directory] and strength >= Evidence.MARK
        directory = listing.parents[directory]
    return True


def _lies_in(best: Layout, other: Application) -> str:
    """Say that the winner's content lies below a name of another application; empty if it does not."""
    if other.is_shipped:
        return ""  # their names are common words
    app = _app(best)
    names = {folded(name) for name in (other.name, *other.also)} - {folded(name) for name in (app.name, *app.also)}
    for path in best.wrappers:
        if folded(path.rpartition("/")[2]) in names:
            return f"It is inside {path}, which is a name of {other.name}"
    if best.evidence <= Evidence.PATTERN:
        listing = best.listing
        for directory in {listing.directory_of[row] for row in best.placed_rows()}:
            parts = listing.directories[directory].split("/")
            if named := next((part for part in parts if folded(part) in names), None):
                return f"It is inside {named}, which is a name of {other.name}"
    return ""


def _also_for(best: Layout, others: Sequence[Layout]) -> tuple[tuple[str, int], ...]:
    """Return other applications that would take files that the winner does not take, with the number of these files."""
    found = []
    for layout in others:
        if layout is best or layout.listing is not best.listing:
            continue
        if _app(layout).is_shipped and not _app(best).is_shipped:
            continue
        more = sum(1 for row in layout.placed_rows() if best.skipped_as[row] == SkippedKind.NOT_TAKEN)
        if more:
            found.append((_name(layout), more))
    return tuple(found)


def _asks_alike(decision: Decision, layout: Layout) -> bool:
    answers = [option.answer for option in decision.options]
    return any([option.answer for option in other.options] == answers for other in layout.decisions)


def _app(layout: Layout) -> Application:
    assert layout.application, "only applications compete"
    return layout.application


def _name(layout: Layout) -> str:
    return _app(layout).name


_WORDS = {
    Evidence.ANYTHING: "nothing but any file",
    Evidence.EVERYDAY: "common file types",
    Evidence.PATTERN: "file types that only it uses",
    Evidence.MARK: "a marker file",
    Evidence.FOLDER_NAME: "a folder's name",
    Evidence.ROOT_NAME: "the name of its folder",
}


def evidence_words(evidence: Evidence) -> str:
    """A kind of evidence as people read it: `a marker file`."""
    return _WORDS.get(evidence, "nothing")


def _loss(loser: Layout, winner: Layout) -> str:
    if loser.evidence < winner.evidence:
        return (
            f"fits by {evidence_words(loser.evidence)} only; {_name(winner)} fits by {evidence_words(winner.evidence)}"
        )
    if not _is_near(_reached(loser), _reached(winner)):
        return f"has a place for {count_words(loser.files, 'file')}, {_name(winner)} for {winner.files:,}"
    return f"fits as well, but {_name(winner)} is your own definition or named by the download"


def _example(layout: Layout) -> str:
    """Return one destination in the application, as an example."""
    first = next(layout.placements)
    return first.to if first.home.is_elsewhere else f"{_app(layout).root}/{first.to}"


UNKNOWN_PROGRAM = "Usufruct does not know which program this is for. Where should it go?"


def named_in(applications: Sequence[Application], names: Sequence[str]) -> list[Application]:
    """Return the applications that one of these texts names: by name, title, root or a name in `also`.

    A word that is a folder of one of the other applications, such as `fonts`, does not count.
    """
    said = {run for name in names for run in _runs(name)}
    found = []
    for application in applications:
        others = [one for one in applications if one is not application]
        shared = {_run(name) for one in others for folder in one.folders for name in (folder.name, *folder.also)}
        root = application.root.replace("\\", "/").rstrip("/").rpartition("/")[2]
        called = {_run(name) for name in (application.name, application.title, root, *application.also)}
        called = {name for name in called - shared if len(name) > 1}
        if called & said or any(name in word for name in called if not name.isascii() for word in said):
            found.append(application)
    return found


def _runs(name: str) -> set[str]:
    """Return all runs of up to a few neighbouring words of a name, each joined to one word."""
    words = _words(name)
    return {
        "".join(words[start:end])
        for start in range(len(words))
        for end in range(start + 1, min(start + _MOST_RUN, len(words)) + 1)
    }


def _run(name: str) -> str:
    return "".join(_words(name))


def _words(name: str) -> list[str]:
    """Split a name into lower-case words in the singular: `LanternboxPuppets_v2` is `lanternbox`, `puppet`, `v2`."""
    parted = re.sub(r"(?<=[a-z])(?=[A-Z])", " ", name)
    words = [spelling_key(word) for word in re.findall(r"[^\W_]+", parted)]
    return [_PLURAL.sub(lambda ending: "y" if ending[0] == "ies" else "", word) for word in words]


def _draw(layouts: Sequence[Layout]) -> Decision:
    options, evidence = tuple(map(_option, layouts)), layouts[0].evidence
    why = f"{_and(list(map(_name, layouts)))} fit equally well (by {evidence_words(evidence)})."
    if evidence <= Evidence.EVERYDAY:
        return Decision(question=UNKNOWN_PROGRAM, detail=(why,), options=options, is_of_whole=True, is_open=True)
    return Decision(question=f"{why} Which program is it for?", options=options, is_of_whole=True)


def _and(names: Sequence[str]) -> str:
    return f"{', '.join(names[:-1])} and {names[-1]}" if len(names) > 1 else names[0]


def _weighed(best: Layout, others: Sequence[Layout], doubt: str) -> Decision:
    """Return the question whether the winner is right; if only common file types led to it, none is proposed."""
    options, why = tuple(map(_option, (best, *others))), f"{doubt}."
    if best.evidence <= Evidence.EVERYDAY:
        return Decision(question=UNKNOWN_PROGRAM, detail=(why,), options=options, is_of_whole=True, is_open=True)
    return Decision(question=f"Is it for {_name(best)}? {why}", options=options, is_of_whole=True)


def _option(layout: Layout) -> Option:
    return Option(
        name=_name(layout),
        answer=("--app", _name(layout)),
        files=layout.files,
        size=layout.size,
        left_out=layout.left_out,
        example=_example(layout),
    )
