"""Questions about a plan: what becomes of what is in the way, and of what would start by itself."""

from collections.abc import Callable
from itertools import compress

from usufruct.model.choices import OnClash
from usufruct.model.layout import Decision, Option
from usufruct.model.plan import Clash, Plan
from usufruct.planning.self_starting import self_starting_names, starts_by_itself

_IS_REPLACING = int(Clash.REPLACES).__eq__


def clash_question(plan: Plan) -> Decision:
    """What becomes of files that are there and differ, where the user wants to be asked."""
    rows, listing = plan.open_clashes, plan.layout.listing
    size = sum(map(listing.sizes.__getitem__, rows))
    first = listing.path(rows[0])
    what = (
        f"Where {first} is to go, a file is there already that differs"
        if len(rows) == 1
        else f"{len(rows)} files are there already and differ, {first} for one"
    )
    options = [
        Option(name=name, answer=("--on-clash", name), files=len(rows), size=size)
        for name in (OnClash.REPLACE, OnClash.KEEP, OnClash.NEWER, OnClash.BOTH)
    ]
    return Decision(
        question=f"{what}. What shall become of {'it' if len(rows) == 1 else 'them'}?", options=tuple(options)
    )


def others_question(plan: Plan, name_of: Callable[[int], str], own: int | None = None) -> Decision | None:
    """What becomes of files that other holdings placed and this archive would replace: they are somebody's work too.

    `name_of` gives a holding's name by its number; `own` is the holding that the archive adds to.
    """
    rows, holdings, found = [], [], plan.snapshot.found
    for row in compress(range(len(plan.clash_of)), map(_IS_REPLACING, plan.clash_of)):
        stack = found[row].stack
        if stack and (holding := stack[-1].holding) not in (None, own):
            rows.append(row)
            holdings.append(holding)
    if not rows:
        return None
    size = sum(map(plan.layout.listing.sizes.__getitem__, rows))
    names = list(map(name_of, dict.fromkeys(holdings)))
    first = found[rows[0]].name
    whose = f"{names[0]}{f' and {len(names) - 1} more holdings' if len(names) > 1 else ''}"
    what = f"{first}, a file of {whose}," if len(rows) == 1 else f"{len(rows)} files of {whose}, {first} for one,"
    answers = {"replace": OnClash.REPLACE, "beside": OnClash.BOTH, "keep": OnClash.KEEP}
    options = [
        Option(name=name, answer=("--on-clash", policy), files=len(rows), size=size) for name, policy in answers.items()
    ]
    if len(names) == 1 and own is None:
        options.append(Option(name="update", answer=("--update", names[0]), files=len(rows), size=size))
    return Decision(
        question=f"It would replace {what} with other content. Shall it replace them, stand beside them under free "
        "names, leave them and do without its own, or take that holding's place?",
        options=tuple(options),
    )


def autostart_question(plan: Plan) -> Decision | None:
    """Whether files may go where they are run or read by themselves."""
    names, sizes = plan.layout.names, plan.layout.listing.sizes
    bound: list[str] = []
    size = 0
    for number, rows in enumerate(plan.rows_by_home()):
        if not rows:
            continue
        path = plan.snapshot.surveyed(number).path
        here = list(map(names.__getitem__, rows))
        own = set(here) if starts_by_itself(path) else set(self_starting_names(here))
        if own:
            bound.extend(f"{path}/{name}" for name in sorted(own))
            size += sum(sizes[row] for row, name in zip(rows, here, strict=True) if name in own)
    if not bound:
        return None
    what = f"{bound[0]} is" if len(bound) == 1 else f"{len(bound)} files, {bound[0]} for one, are"
    allow = Option(name="allow", answer=("--autostart", "allow"), files=len(bound), size=size, example=bound[0])
    return Decision(
        question=f"{what} bound for a place from which the system, a login or a shell runs or reads files by itself. "
        "Place them there?",
        options=(allow,),
    )
