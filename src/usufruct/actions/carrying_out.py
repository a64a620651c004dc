"""Carry out: write everything that was added, with definitions and settings, into one file for another machine."""

import json
import os
import tempfile
from datetime import UTC, datetime
from graphlib import TopologicalSorter
from pathlib import Path

import msgspec
from msgspec import Struct

from usufruct.actions.carry_file import (
    CARRY_VERSION,
    DOCUMENT,
    OF_THIS_MACHINE,
    Carried,
    CarriedFile,
    CarriedHolding,
    is_content_at,
)
from usufruct.actions.checking import check_holdings
from usufruct.actions.context import Context
from usufruct.actions.packing import Made, Packing, ToPack, pack_planned, refuse_taken
from usufruct.archives.writing import Member
from usufruct.definitions.settings import found_settings
from usufruct.errors import WrongUsage
from usufruct.files.paths import expanded
from usufruct.files.printable import nameable, printable
from usufruct.ledger import Ledger
from usufruct.ledger.holdings import all_holdings, volumes_of
from usufruct.ledger.layers import holdings_over
from usufruct.model.entries import EntryKind
from usufruct.model.holdings import Holding, Volume
from usufruct.survey.condition import Condition


class CarriedOut(Struct, frozen=True):
    """What was carried out, and what could not be."""

    made: Made
    document: Carried
    without: tuple[str, ...]
    """Holdings whose archives are missing or others by now."""
    edited: dict[str, int]
    """Holdings with files that were changed since → how many; they are carried as they came."""


def carry_out(context: Context, out: Path, *, with_archives: bool) -> CarriedOut:
    """Write definitions, settings, holdings and their archives into a zip file, read it back and compare.

    Raises the errors of packing, and WrongUsage if there is nothing to carry.
    """
    out = expanded(out).absolute()
    out = out if out.suffix.lower() == ".zip" else out.with_name(out.name + ".zip")
    refuse_taken(out)
    with context.reading() as ledger:
        holdings = [(one, volumes_of(ledger, one.number)) for one in _in_order(ledger)] if ledger else []
    apps = context.paths.apps
    definitions = sorted(apps.glob("*.toml")) if apps.is_dir() else []
    if not holdings and not definitions:
        raise WrongUsage(
            "There is nothing to carry: nothing was added, and no application defined.", remedy="Add some."
        )
    parcel = _Parcel(out, with_archives=with_archives)
    carried = [parcel.holding(holding, volumes) for holding, volumes in holdings]
    for definition in definitions:
        parcel.enter(f"apps/{definition.name}", definition)
    settings = {
        one.key: one.value
        for one in found_settings(context.paths.settings, context.on_fault)
        if one.source == "file" and one.key not in OF_THIS_MACHINE
    }
    document = Carried(CARRY_VERSION, _when(context.now()), settings, [one.stem for one in definitions], carried)
    with tempfile.TemporaryDirectory() as beside:
        file = Path(beside, DOCUMENT)
        file.write_bytes(msgspec.json.format(msgspec.json.encode(document), indent=2))
        parcel.enter(DOCUMENT, file)
        parcel.plan.members.sort(key=lambda member: member.entry)
        made = pack_planned(context, parcel.plan, Packing(sources=(), effort=0))
    edited = {
        one.holding.name: count
        for one in check_holdings(context, [], deep=False)
        if (count := len(one.found.get(Condition.CHANGED, ())))
    }
    return CarriedOut(made, document, tuple(parcel.without), edited)


class _Parcel:
    """What goes into a carry file."""

    def __init__(self, out: Path, *, with_archives: bool) -> None:
        self.plan = ToPack(out, "zip", out.stem)
        self.without: list[str] = []
        """Holdings whose archives are not in it."""
        self._with_archives = with_archives
        self._inside: dict[bytes, str] = {}
        """Digest → where an archive lies in it: one that two holdings came from is in it once."""

    def holding(self, holding: Holding, volumes: list[Volume]) -> CarriedHolding:
        """Return a holding as it is carried; its archives go into the file if they are unchanged."""
        files = []
        for volume in volumes:
            inside = self._archive(volume)
            if not inside and holding.name not in self.without:
                self.without.append(holding.name)
            name = nameable(os.path.basename(volume.path))
            files.append(CarriedFile(name, volume.size, volume.digest.hex(), _home_words(volume.path), inside))
        return CarriedHolding(
            holding.name, holding.application, _home_words(holding.root), json.loads(holding.choices), files,
            holding.origin, _when(holding.added),
        )  # fmt: skip

    def _archive(self, volume: Volume) -> str:
        """Return where an archive is in the file; empty if it is not in it."""
        if not self._with_archives or not is_content_at(volume.path, volume.size, volume.digest):
            return ""
        if volume.digest not in self._inside:
            inside = f"archives/{len(self._inside) + 1}/{nameable(os.path.basename(volume.path))}"
            self._inside[volume.digest] = inside
            self.enter(inside, Path(volume.path))
        return self._inside[volume.digest]

    def enter(self, below: str, path: Path) -> None:
        """Put a file into it, at this path below its only folder."""
        found = path.stat()
        entry = f"{self.plan.wrapper}/{below}"
        self.plan.members.append(Member(entry, str(path), EntryKind.FILE, found.st_size, found.st_mtime_ns))


def _in_order(ledger: Ledger) -> list[Holding]:
    """Return all holdings: those below before those above them, otherwise by the time they were added."""
    holdings = {one.number: one for one in sorted(all_holdings(ledger), key=lambda one: (one.added, one.number))}
    sorter: TopologicalSorter[int] = TopologicalSorter(dict.fromkeys(holdings, ()))
    for below, above in holdings_over(ledger):
        if below in holdings and above in holdings:
            sorter.add(above, below)
    return [holdings[number] for number in sorter.static_order()]


def _home_words(path: str) -> str:
    home = str(Path.home())
    path = printable(path)
    return "~" + path[len(home) :].replace(os.sep, "/") if path == home or path.startswith(home + os.sep) else path


def _when(nanoseconds: int) -> str:
    """Return a time in ISO 8601, to the second."""
    return datetime.fromtimestamp(nanoseconds // 1_000_000_000, UTC).isoformat()
