"""Carry in: compare what another machine carried out with what is here, then add it in its order."""

import json
import os
from collections.abc import Callable, Sequence
from pathlib import Path

import tomlkit
from msgspec import Struct, field
from msgspec.structs import replace

from usufruct.actions.adding import Added, add_archives
from usufruct.actions.afterwards import store_of
from usufruct.actions.applications import known_applications
from usufruct.actions.arrivals import folders_of
from usufruct.actions.carry_file import (
    OF_THIS_MACHINE,
    Carried,
    CarriedFile,
    CarriedHolding,
    CarryFile,
    fault_in_holding,
    is_content_at,
    opened_carry_file,
)
from usufruct.actions.context import Context
from usufruct.actions.defining import write_definition
from usufruct.actions.gathering import gathered
from usufruct.actions.outcomes import Examined, Refused
from usufruct.actions.refusals import unread
from usufruct.actions.request import Request, choices_from_text, options_of
from usufruct.archives.reading import Access
from usufruct.definitions.load import parse_application
from usufruct.definitions.settings import found_settings, write_setting
from usufruct.definitions.toml_texts import parsed_toml
from usufruct.errors import MachineError, UsufructError
from usufruct.files.paths import expanded
from usufruct.files.platform import Platform
from usufruct.files.private import make_private
from usufruct.files.shells import typed
from usufruct.files.writing import write_new
from usufruct.ledger.holdings import all_holdings, volumes_of
from usufruct.model.applications import Application, Programs
from usufruct.model.settings import fault_in
from usufruct.planning.names import folded, free_name, spelling_key

NEW, THERE, OTHER, UNUSABLE = "new", "there", "other here", "unusable"
ADD, ADDED, NO_ARCHIVE, NO_FOLDER, NAME_TAKEN = "to add", "added already", "no archive", "no folder", "name taken"
NOT_ALLOWED = "not allowed"
PROGRAMS, ELSEWHERE = "programs", "elsewhere"
"""What a carry file may ask for that needs a yes of its own: to place files that can run, and to place files outside of
an application's root.
"""


class Bringing(Struct):
    """One holding of a carry file, and what would happen to it here."""

    holding: CarriedHolding
    root: str
    """Absolute, where it would go here."""
    state: str
    """`to add`, `added already`, `no archive`, `no folder`, `name taken`, `not allowed` or `unusable`."""
    detail: str = ""
    choices: tuple[str, ...] = ()
    """What it was added with there, in words: each option with its value."""
    asks: frozenset[str] = frozenset()
    """What of it needs a yes of its own."""
    found: dict[str, str] = field(default_factory=dict)
    """Digest → path of archives that are here already."""


class BringingDefinition(Struct):
    """One definition of a carry file, and what would happen to it here."""

    name: str
    root: str
    """Absolute, where it is here."""
    state: str
    """`new`, `there`, `other here`, `not allowed` or `unusable`."""
    detail: str = ""
    """What is wrong with one that is unusable."""
    text: str = ""
    """What would be written."""
    application: Application | None = None
    """What it says; None where it is left as it is here."""
    asks: frozenset[str] = frozenset()
    """What of it needs a yes of its own."""


class ToCarryIn(Struct):
    """What carrying in would do; nothing is changed yet."""

    file: Path
    document: Carried
    definitions: list[BringingDefinition] = field(default_factory=list)
    settings: list[tuple[str, object, str]] = field(default_factory=list)
    """Key, value, and `new`, `there`, `other here` or `unusable`."""
    holdings: list[Bringing] = field(default_factory=list)

    @property
    def asks(self) -> frozenset[str]:
        """What needs permission: PROGRAMS, ELSEWHERE, both or neither."""
        return frozenset().union(
            *(one.asks for one in self.definitions if one.state == NEW),
            *(one.asks for one in self.holdings if one.state == ADD),
        )

    def without(self, refused: frozenset[str]) -> None:
        """Remove from the plan everything that needs this permission."""
        out = {one.name for one in self.definitions if one.state == NEW and one.asks & refused}
        for definition in self.definitions:
            if definition.name in out:
                definition.state = NOT_ALLOWED
        for holding in self.holdings:
            if holding.state == ADD and (holding.asks & refused or holding.holding.application in out):
                holding.state = NOT_ALLOWED


def plan_carry_in(context: Context, file: Path, maps: Sequence[tuple[str, str]]) -> ToCarryIn:
    """Compare a carry file with what is here. `maps` are paths of the other machine and those that replace them.

    Raises the errors of opening archives, and DamagedArchive if the document cannot be used.
    """
    file = expanded(file).absolute()
    with opened_carry_file(file) as carried:
        document = carried.document()
        plan = ToCarryIn(file, document)
        applications = _compare_definitions(context, carried, plan, maps)
        _compare_settings(context, carried, plan)
    here = _Here(context, applications)
    plan.holdings.extend(_bringing(holding, maps, here) for holding in document.holdings)
    return plan


def _compare_definitions(
    context: Context, carried: CarryFile, plan: ToCarryIn, maps: Sequence[tuple[str, str]]
) -> dict[str, Application]:
    """Enter what would happen to each definition; return the applications that are known then, by name."""
    known = known_applications(context)
    applications = {one.name: one for one in known if not one.is_shipped}
    shipped = {one.name: one for one in known if one.is_shipped}
    for name in plan.document.applications:
        if name in shipped and name not in applications:
            # Every machine has the shipped definitions: a carried one never replaces them.
            plan.definitions.append(BringingDefinition(name, shipped[name].root, OTHER))
            continue
        try:
            text = _mapped_definition(carried.definition(name), maps)
            application = parse_application(text, Path(f"{name}.toml"))
            if application.name != name:
                raise carried.unusable(f"its definition {name} calls itself {application.name}")
        except (UsufructError, ValueError) as error:
            # Everything else is carried in; the holdings of this one find no folder.
            plan.definitions.append(BringingDefinition(name, "", UNUSABLE, str(error)))
            continue
        here = applications.get(name)
        state = NEW if here is None else THERE if here == application else OTHER
        root = applications.setdefault(name, application).root
        plan.definitions.append(
            BringingDefinition(name, root, state, text=text, application=application, asks=_asks_of(application))
        )
    return shipped | applications


def _compare_settings(context: Context, carried: CarryFile, plan: ToCarryIn) -> None:
    """Enter what would happen to each setting."""
    held = {one.key: one for one in found_settings(context.paths.settings, context.on_fault)}
    for key, value in plan.document.settings.items():
        if key in held and key not in OF_THIS_MACHINE:
            if fault_in(key, value):
                plan.settings.append((key, value, UNUSABLE))
                continue
            here = held[key]
            state = THERE if here.value == value else NEW if here.source == "default" else OTHER
            plan.settings.append((key, value, state))


def _asks_of(application: Application) -> frozenset[str]:
    asks = {ELSEWHERE} if any(folder.is_elsewhere for folder in application.folders) else set()
    return frozenset(asks | ({PROGRAMS} if application.programs is Programs.ALLOW else set()))


class _Here:
    """What is on this machine: applications, holdings, and the folders that may have the archives."""

    def __init__(self, context: Context, applications: dict[str, Application]) -> None:
        self.applications = applications
        with context.reading() as ledger:
            holdings = all_holdings(ledger) if ledger else []
            self.archives = {
                (one.application, volume.digest.hex())
                for one in holdings
                if ledger
                for volume in volumes_of(ledger, one.number)
            }
        self.names = {folded(one.name) for one in holdings}
        self._folders = [*folders_of(context), store_of(context)]

    def find(self, file: CarriedFile, path: str) -> str:
        """Return a path of a file with this content: the given one, or in downloads folders or the store; or empty."""
        paths = [path, *(str(folder / os.path.basename(file.name)) for folder in self._folders)]
        digest = bytes.fromhex(file.blake3)
        return next((one for one in paths if is_content_at(one, file.bytes, digest)), "")


def _bringing(holding: CarriedHolding, maps: Sequence[tuple[str, str]], here: _Here) -> Bringing:
    """Return what would happen to a holding."""
    if fault := fault_in_holding(holding):
        return Bringing(holding, "", UNUSABLE, fault)
    application = here.applications.get(holding.application) if holding.application else None
    root = application.root if application else _mapped(os.path.expanduser(holding.root), maps)
    bringing = Bringing(holding, root, ADD)
    choices, names_encoding = choices_from_text(json.dumps(holding.choices))
    bringing.choices = tuple(map(typed, options_of(choices, names_encoding)))
    if choices.programs is Programs.ALLOW or choices.autostart:
        bringing.asks = frozenset({PROGRAMS})
    if all((holding.application, file.blake3) in here.archives for file in holding.archives):
        bringing.state = ADDED
    elif folded(holding.name) in here.names:
        bringing.state, bringing.detail = NAME_TAKEN, f"another holding is called {holding.name} here"
    elif holding.application and not application:
        bringing.state, bringing.detail = NO_FOLDER, f"{holding.application} is not defined here"
    elif not os.path.isabs(root):
        bringing.state, bringing.detail = NO_FOLDER, f"{root} is no absolute path; --map names the folder here"
    elif not os.path.isdir(root) and not (application and application.is_shipped):
        bringing.state, bringing.detail = NO_FOLDER, f"there is no folder {root}"
    else:
        for file in holding.archives:
            if not file.inside and (found := here.find(file, _mapped(os.path.expanduser(file.path), maps))):
                bringing.found[file.blake3] = found
        if missing := [one.name for one in holding.archives if not one.inside and one.blake3 not in bringing.found]:
            bringing.state, bringing.detail = NO_ARCHIVE, f"{', '.join(missing)} is neither in the file nor here"
    return bringing


def carry_in(context: Context, plan: ToCarryIn, access: Access, tell: Callable[[Bringing, Added], None]) -> list[Added]:
    """Carry out the plan: new definitions and settings, archives into the store, then holdings in their order.

    What is here already stays as it is. `tell` is called with each holding that is added or refused.
    """
    for definition in plan.definitions:
        if definition.state == NEW:
            write_definition(context, definition.text, Path("definition.toml"))
    for key, value, state in plan.settings:
        if state == NEW:
            write_setting(context.paths.settings, key, value, context.system())
    results = []
    with opened_carry_file(plan.file) as carried:
        for bringing in plan.holdings:
            if bringing.state == ADD:
                added = _add(context, bringing, access, carried)
                tell(bringing, added)
                results.append(added)
    return results


def _add(context: Context, bringing: Bringing, access: Access, carried: CarryFile) -> Added:
    holding = bringing.holding
    choices, names = choices_from_text(json.dumps(holding.choices))
    known = tuple(known_applications(context))
    applications = tuple(one for one in known if one.name == holding.application)
    request = Request(
        applications=applications,
        known=known,
        is_named=bool(applications),
        to=None if holding.application else bringing.root,
        choices=choices,
        name=holding.name,
        access=Access(passwords=access.passwords, names=names, limits=access.limits),
        origin=holding.origin,
    )
    try:
        archives = gathered(_stored(context, holding, bringing.found, carried))
    except (UsufructError, OSError) as error:
        # A broken one must not stop the others.
        name = holding.archives[0].name
        said = error if isinstance(error, UsufructError) else unread(Path(name), error)
        found = Examined(path=name, request=request, name=holding.name).as_outcome(Refused, error=said)
        return Added(examined=found, state="refused", error=said)
    request = replace(request, together=len(archives) > 1)
    return add_archives(context, archives, request, lambda _: None)[0]


def _stored(
    context: Context,
    holding: CarriedHolding,
    found: dict[str, str],
    carried: CarryFile,
) -> list[Path]:
    """Write those of the holding's archives that are in the carry file into the store, and return all paths."""
    directory = store = store_of(context)
    make_private(store)
    if sum(bool(one.inside) for one in holding.archives) > 1:
        # The parts of a set are found by name, so they must not meet the parts of others.
        taken = {spelling_key(name) for name in os.listdir(store)}
        directory = (
            store / free_name(holding.name, taken) if spelling_key(holding.name) in taken else store / holding.name
        )
        directory.mkdir(exist_ok=True)
    paths = []
    for file in holding.archives:
        digest = bytes.fromhex(file.blake3)
        if file.blake3 in found:
            paths.append(Path(found[file.blake3]))
            continue
        name = os.path.basename(carried.name_in(file.inside))
        taken = {spelling_key(other) for other in os.listdir(directory)}
        target = directory / name
        if not (target.is_file() and is_content_at(str(target), file.bytes, digest)):
            if spelling_key(name) in taken:
                target = directory / free_name(name, taken)
            _write(carried, file, target, context.system())
        paths.append(target)
    return paths


def _write(carried: CarryFile, file: CarriedFile, target: Path, platform: Platform) -> None:
    partial = target.with_name(f".usufruct-{os.urandom(6).hex()}.partial")
    try:
        state = write_new(str(partial), carried.blocks(file), carried.modified(file), 0o644)
        if state.digest.hex() != file.blake3:
            raise carried.another(file)
        # The record will point to it, and the carry file may be gone tomorrow.
        platform.sync_file(str(partial))
        platform.rename_new(str(partial), str(target))
        platform.sync_names([str(target.parent)])
    except OSError as error:
        raise MachineError(
            f"{target} cannot be written: {error.strerror}.", remedy="Is there enough room?", path=str(target)
        ) from error
    finally:
        partial.unlink(missing_ok=True)


def _mapped(path: str, maps: Sequence[tuple[str, str]]) -> str:
    """Return a path of the other machine as a path here: the longest mapped beginning is replaced."""
    for there, here in sorted(maps, key=lambda one: -len(one[0])):
        if path == there or path.startswith(there.rstrip("/\\") + "/"):
            return here.rstrip("/") + path[len(there.rstrip("/\\")) :]
    return path


def _mapped_definition(text: str, maps: Sequence[tuple[str, str]]) -> str:
    """Return a definition with its folders where they are here; comments and order stay."""
    if not maps:
        return text
    parsed_toml(text)
    document = tomlkit.parse(text)
    tables = [(document.get("application", {}), "root"), *((folder, "path") for folder in document.get("folder", []))]
    for table, key in tables:
        if isinstance(table.get(key), str):
            path = os.path.expanduser(table[key])
            if (here := _mapped(path, maps)) != path:
                table[key] = here
    return tomlkit.dumps(document)
