"""Questions that only the user can answer: where an archive goes, its name, and what happens to files in the way."""

import time
from collections.abc import Callable, Iterator, Sequence, Set
from itertools import compress, islice

from msgspec import Struct

from usufruct.model.applications import Application
from usufruct.model.choices import OnClash
from usufruct.model.entries import EntryKind
from usufruct.model.facts import Facts
from usufruct.model.holdings import Holding
from usufruct.model.layout import Layout
from usufruct.model.plan import Conflict, Plan
from usufruct.model.rulings import Decision, Option
from usufruct.planning.competition import UNKNOWN_PROGRAM
from usufruct.planning.layout import sought
from usufruct.planning.names import compared_versions, numbered, version_of
from usufruct.planning.self_starting import self_starting_names, starts_by_itself

_IS_REPLACING = int(Conflict.REPLACES).__eq__
_MOST_SHOWN = 3
"""Files in the way, or applications, that a question shows."""


def nothing_fits_question(applications: Sequence[Application]) -> Decision:
    """Ask where an archive should go that fits none of the applications."""
    own = [application for application in applications if not application.is_shipped]
    looked = [f"{application.name} looks for {sought(application)}" for application in own]
    if len(own) > _MOST_SHOWN:
        looked = [f"none of your {len(own)} applications takes any of it"]
    learn = "`usufruct app learn FOLDER` makes a definition from a folder that has such content already"
    return Decision(question=UNKNOWN_PROGRAM, detail=(*looked, learn), options=(), is_of_whole=True, is_open=True)


def nothing_now(outside: Layout) -> Option:
    """Return the answer that places nothing. `outside` is the layout without an application, which has all content."""
    return Option(name="place nothing now", answer=(), files=0, size=0, left_out=outside.files)


class Naming(Struct, frozen=True, kw_only=True):
    """The name that a holding would get."""

    name: str
    is_there: bool = False
    """The holding of this name has the very same content already, though from an archive packed otherwise."""
    question: Decision | None = None


def naming(
    plan: Plan, file_name: str, name: str, same: Sequence[Holding], is_taken: Callable[[str], bool], *, is_wished: bool
) -> Naming:
    """The name of what a plan places, from an archive of this file name: `name`, or a free one.

    `is_wished`: it is what the user calls it. `is_taken` tells whether a holding has a name. `same` are holdings of the
    same application whose archives were called alike: it is asked whether the new one takes the place of the first.
    """
    if same and _is_all_there(plan, same[0]):
        return Naming(name=same[0].name, is_there=True)
    layout = plan.layout
    if same and not is_wished:
        beside = _free(layout.tidy_name, is_taken)
        return Naming(name=name, question=_update_question(layout, same[0], beside, version_of(file_name)))
    if not is_taken(name):
        return Naming(name=name)
    beside = _free(name, is_taken)
    if not is_wished:
        return Naming(name=beside)
    option = Option(name="beside", answer=("--as", beside), files=layout.files, size=layout.size)
    question = f"There is a holding called {name} already. What should this one be called?"
    return Naming(name=name, question=Decision(question=question, options=(option,)))


def _free(name: str, is_taken: Callable[[str], bool]) -> str:
    return next(candidate for _, candidate in numbered(name) if not is_taken(candidate))


def _is_all_there(plan: Plan, holding: Holding) -> bool:
    """Whether everything that would be placed is there already, and the holding has nothing else."""
    files = 0
    for row in plan.rows():
        if plan.conflict(row) is not Conflict.SAME:
            return False
        if all(layer.holding != holding.number for layer in plan.snapshot.found[row].stack):
            return False
        files += plan.layout.listing.kinds[row] != EntryKind.DIRECTORY
    return files == holding.files and not holding.is_partial


def _update_question(layout: Layout, old: Holding, beside: str, new: str) -> Decision:
    """Ask whether an archive of version `new` should replace the holding of its name or be added beside it."""
    order = compared_versions(new, old.version)
    update = Option(name="update", answer=("--update", old.name), files=layout.files, size=layout.size)
    known = {1: f", and {new} is newer than {old.version}", -1: f", but {new} is older than {old.version}"}
    return Decision(
        question=f"{old.name} was added already, from another archive{known.get(order, '')}. "
        "Is this a new version of it, or something else?",
        options=(
            update,
            Option(name="beside", answer=("--as", beside), files=layout.files, size=layout.size),
        ),
        safe=update if order > 0 else None,
    )


def conflict_question(plan: Plan) -> Decision:
    """Ask what should happen to existing files that differ, if the user wants to be asked."""
    rows, listing = plan.open_conflicts, plan.layout.listing
    size = sum(map(listing.sizes.__getitem__, rows))
    first = listing.path(rows[0])
    what = (
        f"There is another file already where {first} should go"
        if len(rows) == 1
        else f"{len(rows)} files are there already with other content (such as {first})"
    )
    options = [
        Option(name=name, answer=("--on-clash", name), files=len(rows), size=size)
        for name in (OnClash.REPLACE, OnClash.KEEP, OnClash.NEWER, OnClash.BOTH)
    ]
    return Decision(
        question=f"{what}. What should happen to {'it' if len(rows) == 1 else 'them'}?", options=tuple(options)
    )


def in_the_way(plan: Plan, row: int, name_of: Callable[[int], str]) -> str:
    """Return size, time and owner of the existing file, and size and time of the new one.

    `name_of` returns a holding's name by its number.
    """
    listing, found = plan.layout.listing, plan.snapshot.found[row]
    owner = found.stack[-1].holding if found.stack else None
    whose = f"of {name_of(owner)}" if owner is not None else "yours"
    modified = listing.modified(row)
    new = f"{listing.sizes[row]:,} B{f', {_when(modified)}' if modified is not None else ''}"
    return f"{found.name}: there {found.state.size:,} B, {_when(found.state.modified)}, {whose}; in the archive {new}"


def _when(nanoseconds: int) -> str:
    return time.strftime("%Y-%m-%d %H:%M", time.localtime(nanoseconds // 1_000_000_000))


def others_question(plan: Plan, name_of: Callable[[int], str], own: int | None = None) -> Decision | None:
    """Ask what should happen to files of other holdings that this archive would replace: the user added these, too.

    `name_of` returns a holding's name by its number; `own` is the holding that the archive is added to.
    """
    found = plan.snapshot.found
    owners = dict(_owners_of_replaced(plan, own))
    if not owners:
        return None
    rows = list(owners)
    size = sum(map(plan.layout.listing.sizes.__getitem__, rows))
    names = list(map(name_of, dict.fromkeys(owners.values())))
    first = found[rows[0]].name
    whose = f"{names[0]}{f' and {len(names) - 1} more holdings' if len(names) > 1 else ''}"
    them = "it" if len(rows) == 1 else "them"
    what = f"{first} is there already from {whose}"
    if len(rows) > 1:
        what = f"{len(rows)} files are there already from {whose} (such as {first})"
    answers = {"replace": OnClash.REPLACE, "beside": OnClash.BOTH, "keep": OnClash.KEEP}
    options = [
        Option(name=name, answer=("--on-clash", policy), files=len(rows), size=size) for name, policy in answers.items()
    ]
    if len(names) == 1 and own is None:
        options.append(Option(name="update", answer=("--update", names[0]), files=len(rows), size=size))
    return Decision(
        question=f"{what}. Replace {them}, keep both, keep the old, or treat this as a new version?",
        options=tuple(options),
        detail=tuple(in_the_way(plan, row, name_of) for row in islice(rows, _MOST_SHOWN)),
    )


def _owners_of_replaced(plan: Plan, own: int | None) -> Iterator[tuple[int, int]]:
    """Return the rows that would replace files of a holding other than `own`, each with that holding."""
    found = plan.snapshot.found
    for row in compress(range(len(plan.conflict_of)), map(_IS_REPLACING, plan.conflict_of)):
        stack = found[row].stack
        if stack and (holding := stack[-1].holding) is not None and holding != own:
            yield row, holding


def names_question(plan: Plan, facts: Facts) -> Decision | None:
    """Ask how names without an encoding should be read, if two readings are about equally likely."""
    if not facts.rival_encoding:
        return None
    sizes = plan.layout.listing.sizes
    size = sum(sizes[row] for row in plan.layout.placed_rows())
    both = zip((facts.encoding, facts.rival_encoding), zip(*facts.read_twice, strict=True), strict=True)
    return Decision(
        question="The file names in this archive can be read in two ways. Which one is right?",
        options=tuple(
            Option(name=one, answer=("--names", one), files=plan.layout.files, size=size, example=", ".join(names))
            for one, names in both
        ),
    )


def autostart_question(plan: Plan, searched: Set[str]) -> Decision | None:
    """Ask whether files may be placed where the system runs or reads them by itself.

    `searched`: the absolute directories in which commands are searched for.
    """
    names, sizes = plan.layout.names, plan.layout.listing.sizes
    bound: list[str] = []
    size = 0
    for number, rows in enumerate(plan.rows_by_home()):
        folder = plan.layout.homes[number].folder
        if not rows or (folder and folder.data):
            continue
        path = plan.snapshot.surveyed(number).path
        here = list(map(names.__getitem__, rows))
        own = set(here) if starts_by_itself(path, searched) else set(self_starting_names(here))
        if own:
            bound.extend(f"{path}/{name}" for name in sorted(own))
            size += sum(sizes[row] for row, name in zip(rows, here, strict=True) if name in own)
    if not bound:
        return None
    what = f"{bound[0]} is" if len(bound) == 1 else f"{len(bound)} files (such as {bound[0]}) are"
    allow = Option(name="allow", answer=("--autostart", "allow"), files=len(bound), size=size, example=bound[0])
    return Decision(
        question=f"{what} for a folder whose files the system, a login or a shell runs automatically. "
        "Place them there?",
        options=(allow,),
    )
