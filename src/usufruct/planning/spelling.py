"""Replace names that the destination's file system does not allow with safe ones."""

from collections.abc import Iterator

from usufruct.model.layout import Layout
from usufruct.model.name_rules import NameRules
from usufruct.model.rulings import Move, Refuse, Rename
from usufruct.planning.names import free_name, spelling_key

_MOST_BYTES = 4
"""Bytes of one character."""


def spell_for(layout: Layout, rules: NameRules) -> Iterator[Refuse | Move | Rename]:
    """Give safe spellings to names that the file system does not allow; refuse names of devices."""
    respelled: dict[int, tuple[str, str]] = {}
    devices: set[int] = set()
    homes = [*enumerate(layout.homes)]
    for number, home in homes:
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
    refused: list[int] = []
    moved: dict[tuple[str, str], list[int]] = {}
    changed: dict[int, str] = {}
    taken: dict[str, set[str]] = {}
    keys = [spelling_key(respelled[number][0] if number in respelled else home.path) for number, home in homes]
    for row in layout.placed_rows():
        number, name = layout.home_of[row], layout.name(row)
        if number in devices or (rules.is_windows and rules.is_device(name)):
            refused.append(row)
            continue
        if number in respelled:
            moved.setdefault(respelled[number], []).append(row)
        if (rules.is_windows or len(name) * _MOST_BYTES > rules.longest) and (safe := rules.safe(name)) != name:
            changed[row] = safe
        else:
            taken.setdefault(keys[number], set()).add(spelling_key(name))
    yield Refuse(refused, "its name means a device on the destination's file system")
    for (path, piece), rows in moved.items():
        yield Move(rows, path, piece)
    for row, safe in changed.items():
        # Another file may have that spelling.
        names = taken.setdefault(keys[layout.home_of[row]], set())
        name = safe if spelling_key(safe) not in names else free_name(safe, names)
        names.add(spelling_key(name))
        yield Rename(row, name)


def _safe_below(base: str, path: str, rules: NameRules) -> str:
    return path and base + "/".join(map(rules.safe, path[len(base) :].split("/")))
