"""Replace names that the destination's file system does not allow with safe ones."""

from usufruct.model.layout import Layout
from usufruct.model.name_rules import NameRules
from usufruct.planning.names import free_name, spelling_key

_MOST_BYTES = 4
"""Bytes of one character."""


def spell_for(layout: Layout, rules: NameRules) -> None:
    """Give safe spellings to names that the file system does not allow; refuse names of devices."""
    respelled: dict[int, tuple[str, str]] = {}
    devices: set[int] = set()
    for number, home in enumerate(layout.homes):
        # The path of a folder elsewhere is the user's own, with drive letter; only names below it are the archive's.
        base = home.folder.path if home.folder and home.is_elsewhere else ""
        if any(map(rules.is_device, home.path[len(base) :].split("/"))):
            devices.add(number)
        path = _safe_below(base, home.path, rules)
        if path != home.path:
            respelled[number] = path, _safe_below(base, home.piece, rules)
    longest = max(map(len, layout.names), default=0)
    if not (respelled or devices or rules.is_windows or longest * _MOST_BYTES > rules.longest):
        return
    changed: dict[int, str] = {}
    for row in list(layout.placed_rows()):
        number, name = layout.home_of[row], layout.name(row)
        if number in devices or (rules.is_windows and rules.is_device(name)):
            layout.refuse(row, "its name means a device on the destination's file system")
            continue
        if number in respelled:
            layout.move(row, layout.homes[number].folder, *respelled[number])
        if (rules.is_windows or len(name) * _MOST_BYTES > rules.longest) and (safe := rules.safe(name)) != name:
            changed[row] = safe
    if changed:
        _respell(layout, changed)


def _safe_below(base: str, path: str, rules: NameRules) -> str:
    return path and base + "/".join(map(rules.safe, path[len(base) :].split("/")))


def _respell(layout: Layout, changed: dict[int, str]) -> None:
    """Give each row a safe spelling, or a free name if another file has that spelling."""
    taken: dict[str, set[str]] = {}
    keys = [spelling_key(home.path) for home in layout.homes]
    for row in layout.placed_rows():
        if row not in changed:
            taken.setdefault(keys[layout.home_of[row]], set()).add(spelling_key(layout.name(row)))
    for row, safe in changed.items():
        names = taken.setdefault(keys[layout.home_of[row]], set())
        name = safe if spelling_key(safe) not in names else free_name(safe, names)
        names.add(spelling_key(name))
        layout.renamed[row] = name
