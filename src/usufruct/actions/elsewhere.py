"""Find holdings that their application no longer sees because it reads another folder now."""

from collections.abc import Sequence
from typing import NamedTuple

from usufruct.actions.applications import roots_now
from usufruct.actions.context import Context
from usufruct.files.paths import real_path
from usufruct.model.holdings import Holding


class ReadElsewhere(NamedTuple):
    """Holdings in a folder that their application does not read any more."""

    application: str
    old: str
    new: str
    holdings: list[str]


def read_elsewhere(context: Context, holdings: Sequence[Holding]) -> list[ReadElsewhere]:
    """Return the holdings whose application has another root than when they were placed, as after a new version."""
    names = {one.application for one in holdings if one.application}
    roots = {name: real_path(root) for name, root in roots_now(context, names).items()} if names else {}
    found: dict[tuple[str, str], ReadElsewhere] = {}
    for holding in holdings:
        name = holding.application or ""
        if name in roots and roots[name] != holding.root:
            one = found.setdefault((name, holding.root), ReadElsewhere(name, holding.root, roots[name], []))
            one.holdings.append(holding.name)
    return list(found.values())
