"""Taking all that was added to another machine, in one file."""

import json
import os
import tempfile
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from graphlib import TopologicalSorter
from pathlib import Path

import msgspec
import tomlkit
from msgspec import Struct, field

from usufruct.actions.adding import Added, add_archives
from usufruct.actions.afterwards import store_of
from usufruct.actions.applications import known_applications
from usufruct.actions.checking import check_holdings
from usufruct.actions.defining import write_definition
from usufruct.actions.downloads import folders_of
from usufruct.actions.gathering import gathered
from usufruct.actions.packing import Made, Packing, ToPack, pack_planned, refuse_taken
from usufruct.actions.request import Request, choices_from_text, choices_in_words
from usufruct.actions.surroundings import Surroundings
from usufruct.archives.opening import open_archive
from usufruct.archives.reading import Access, Archive
from usufruct.archives.writing import Member
from usufruct.definitions.load import parse_application
from usufruct.definitions.settings import found_settings, write_setting
from usufruct.errors import DamagedArchive, MachineError, WrongUsage
from usufruct.files.looking import digest_of
from usufruct.files.platform import Platform
from usufruct.files.printable import nameable, printable
from usufruct.files.writing import write_new
from usufruct.ledger import Ledger
from usufruct.ledger.holdings import all_holdings, volumes_of
from usufruct.ledger.layers import holdings_over
from usufruct.model.applications import Application, Programs
from usufruct.model.carried import CARRY_VERSION, Carried, CarriedFile, CarriedHolding
from usufruct.model.entries import EntryKind
from usufruct.model.holdings import Holding
from usufruct.model.settings import fault_in
from usufruct.planning.names import fault_in_name, folded, free_name, spelling_key
from usufruct.survey.condition import Condition

_DOCUMENT = "carry.json"
_LARGEST_DOCUMENT = 64 << 20
_LARGEST_DEFINITION = 1 << 20
_OF_THIS_MACHINE = frozenset({"store", "downloads"})
"""Settings that name folders, which another machine has elsewhere."""

NEW, THERE, OTHER = "new", "there", "other here"
ADD, ADDED, NO_ARCHIVE, NO_FOLDER, NAME_TAKEN = "to add", "added already", "no archive", "no folder", "name taken"
NOT_ALLOWED = "not allowed"
PROGRAMS, ELSEWHERE = "programs", "elsewhere"
"""What a carry file may ask for that needs a yes of its own: to place files that can run, and to place files outside of
an application's root.
"""


class CarriedOut(Struct, frozen=True):
    """What was carried out, and what could not be."""

    made: Made
    document: Carried
    without: tuple[str, ...]
    """Holdings whose archives are missing or others by now."""
    edited: dict[str, int]
    """Holdings with files that were changed since → how many; they are carried as they came."""


def carry_out(surroundings: Surroundings, out: Path, *, with_archives: bool) -> CarriedOut:
    """Write definitions, settings, holdings and their archives into one zip file, read back and compared.

    Raises what packing raises; WrongUsage where there is nothing to carry.
    """
    out = out.expanduser().absolute()
    out = out if out.suffix.lower() == ".zip" else out.with_name(out.name + ".zip")
    refuse_taken(out)
    with surroundings.reading() as ledger:
        holdings = _in_order(ledger) if ledger else []
        volumes = {one.number: volumes_of(ledger, one.number) for one in holdings} if ledger else {}
    definitions = sorted(surroundings.places.apps.glob("*.toml")) if surroundings.places.apps.is_dir() else []
    if not holdings and not definitions:
        raise WrongUsage(
            "There is nothing to carry: nothing was added, and no application defined.", remedy="Add some."
        )

    plan = ToPack(out, "zip", out.stem)
    carried: list[CarriedHolding] = []
    without: list[str] = []
    inside: dict[bytes, str] = {}
    for holding in holdings:
        files = []
        for volume in volumes[holding.number]:
            place = ""
            if with_archives and _is_same(volume.path, volume.size, volume.digest):
                if volume.digest not in inside:
                    inside[volume.digest] = f"archives/{len(inside) + 1}/{nameable(os.path.basename(volume.path))}"
                    _enter(plan, inside[volume.digest], Path(volume.path))
                place = inside[volume.digest]
            elif holding.name not in without:
                without.append(holding.name)
            name = nameable(os.path.basename(volume.path))
            files.append(CarriedFile(name, volume.size, volume.digest.hex(), _home_words(volume.path), place))
        added = datetime.fromtimestamp(holding.added // 1_000_000_000, UTC).isoformat()
        carried.append(
            CarriedHolding(
                holding.name, holding.application, _home_words(holding.root), json.loads(holding.choices), files,
                holding.origin, added,
            )
        )  # fmt: skip
    for definition in definitions:
        _enter(plan, f"apps/{definition.name}", definition)
    settings = {
        one.key: one.value
        for one in found_settings(surroundings.places.settings, surroundings.on_fault)
        if one.source == "file" and one.key not in _OF_THIS_MACHINE
    }
    made = datetime.fromtimestamp(surroundings.now() // 1_000_000_000, UTC).isoformat()
    document = Carried(CARRY_VERSION, made, settings, [one.stem for one in definitions], carried)
    with tempfile.TemporaryDirectory() as beside:
        file = Path(beside, _DOCUMENT)
        file.write_bytes(msgspec.json.format(msgspec.json.encode(document), indent=2))
        _enter(plan, _DOCUMENT, file)
        plan.members.sort(key=lambda member: member.entry)
        result = pack_planned(surroundings, plan, Packing(sources=(), effort=0))
    edited = {
        one.holding.name: count
        for one in check_holdings(surroundings, [], deep=False)
        if (count := len(one.found.get(Condition.CHANGED, ())))
    }
    return CarriedOut(result, document, tuple(without), edited)


def _enter(plan: ToPack, below: str, path: Path) -> None:
    found = path.stat()
    entry = f"{plan.wrapper}/{below}"
    plan.members.append(Member(entry, str(path), EntryKind.FILE, found.st_size, found.st_mtime_ns))


def _in_order(ledger: Ledger) -> list[Holding]:
    """All holdings, those beneath before those over them, else by when they were added."""
    holdings = {one.number: one for one in sorted(all_holdings(ledger), key=lambda one: (one.added, one.number))}
    sorter: TopologicalSorter[int] = TopologicalSorter(dict.fromkeys(holdings, ()))
    for below, above in holdings_over(ledger):
        if below in holdings and above in holdings:
            sorter.add(above, below)
    return [holdings[number] for number in sorter.static_order()]


def _is_same(path: str, size: int, digest: bytes) -> bool:
    try:
        return os.stat(path).st_size == size and digest_of(path) == digest
    except OSError:
        return False


def _home_words(path: str) -> str:
    home = str(Path.home())
    path = printable(path)
    return "~" + path[len(home) :].replace(os.sep, "/") if path == home or path.startswith(home + os.sep) else path


class Bringing(Struct):
    """One holding of a carry file, and what would become of it here."""

    holding: CarriedHolding
    root: str
    """Absolute, where it would go here."""
    state: str
    """`to add`, `added already`, `no archive`, `no folder`, `name taken` or `not allowed`."""
    detail: str = ""
    choices: tuple[str, ...] = ()
    """What it was added with there, in words: each option with its value."""
    asks: frozenset[str] = frozenset()
    """What of it needs a yes of its own."""
    found: dict[str, str] = field(default_factory=dict)
    """Digest → path of archives that are here already."""


class BringingDefinition(Struct):
    """One definition of a carry file, and what would become of it here."""

    name: str
    root: str
    """Absolute, where it is here."""
    state: str
    """`new`, `there`, `other here` or `not allowed`."""
    text: str = ""
    """What would be written."""
    application: Application | None = None
    """What it says; None where it is left as it is here."""
    asks: frozenset[str] = frozenset()
    """What of it needs a yes of its own."""


class ToCarryIn(Struct):
    """What carrying in would do: nothing is changed yet."""

    file: Path
    document: Carried
    definitions: list[BringingDefinition] = field(default_factory=list)
    settings: list[tuple[str, object, str]] = field(default_factory=list)
    """Key, value, and `new`, `there` or `other here`."""
    holdings: list[Bringing] = field(default_factory=list)

    @property
    def asks(self) -> frozenset[str]:
        """What needs a yes of its own: PROGRAMS, ELSEWHERE, both or neither."""
        return frozenset().union(
            *(one.asks for one in self.definitions if one.state == NEW),
            *(one.asks for one in self.holdings if one.state == ADD),
        )

    def without(self, refused: frozenset[str]) -> None:
        """Take out of what would be done all that asks for something of this."""
        out = {one.name for one in self.definitions if one.state == NEW and one.asks & refused}
        for definition in self.definitions:
            if definition.name in out:
                definition.state = NOT_ALLOWED
        for holding in self.holdings:
            if holding.state == ADD and (holding.asks & refused or holding.holding.application in out):
                holding.state = NOT_ALLOWED


def plan_carry_in(surroundings: Surroundings, file: Path, maps: Sequence[tuple[str, str]]) -> ToCarryIn:
    """Compare a carry file with what is here. `maps` are paths there with the paths that take their place here.

    Raises what opening archives raises; DamagedArchive for a file whose document cannot be used.
    """
    file = file.expanduser().absolute()
    with _opened(file) as (archive, rows):
        document = _document(archive, rows)
        plan = ToCarryIn(file, document)
        applications = {one.name: one for one in known_applications(surroundings) if not one.is_shipped}
        shipped = {one.name: one for one in known_applications(surroundings) if one.is_shipped}
        for name in document.applications:
            if name in shipped and name not in applications:
                # What ships is known by everybody: nothing that is carried takes its place.
                plan.definitions.append(BringingDefinition(name, shipped[name].root, OTHER))
                continue
            text = _mapped_definition(_read(archive, rows, f"apps/{name}.toml", _LARGEST_DEFINITION), maps)
            application = parse_application(text, Path(f"{name}.toml"))
            if application.name != name:
                raise _unusable(archive, f"its definition {name} calls itself {application.name}")
            here = applications.get(name)
            state = NEW if here is None else THERE if here == application else OTHER
            applications.setdefault(name, application)
            root = applications[name].root
            plan.definitions.append(BringingDefinition(name, root, state, text, application, _asks_of(application)))
        for name, application in shipped.items():
            applications.setdefault(name, application)
        held = {one.key: one for one in found_settings(surroundings.places.settings, surroundings.on_fault)}
        for key, value in document.settings.items():
            if key in held and key not in _OF_THIS_MACHINE:
                if fault := fault_in(key, value):
                    raise _unusable(archive, f"its setting {key} cannot be {value!r}: {fault}")
                here_now = held[key]
                state = THERE if here_now.value == value else NEW if here_now.source == "default" else OTHER
                plan.settings.append((key, value, state))
        with surroundings.reading() as ledger:
            here_are = all_holdings(ledger) if ledger else []
            digests = {
                (one.application, volume.digest.hex())
                for one in here_are
                if ledger
                for volume in volumes_of(ledger, one.number)
            }
        names = {folded(one.name) for one in here_are}
        places = _Places(surroundings)
        for holding in document.holdings:
            plan.holdings.append(_bringing(holding, maps, applications, digests, names, places))
    return plan


def _asks_of(application: Application) -> frozenset[str]:
    asks = {ELSEWHERE} if any(folder.is_elsewhere for folder in application.folders) else set()
    return frozenset(asks | ({PROGRAMS} if application.programs is Programs.ALLOW else set()))


def _bringing(
    holding: CarriedHolding,
    maps: Sequence[tuple[str, str]],
    applications: dict[str, Application],
    digests: set[tuple[str | None, str]],
    names: set[str],
    places: "_Places",
) -> Bringing:
    application = applications.get(holding.application) if holding.application else None
    root = application.root if application else _mapped(os.path.expanduser(holding.root), maps)
    bringing = Bringing(holding, root, ADD)
    choices, names_encoding = choices_from_text(json.dumps(holding.choices))
    bringing.choices = choices_in_words(choices, names_encoding)
    if choices.programs is Programs.ALLOW or choices.autostart:
        bringing.asks = frozenset({PROGRAMS})
    if all((holding.application, file.blake3) in digests for file in holding.archives):
        bringing.state = ADDED
    elif folded(holding.name) in names:
        bringing.state, bringing.detail = NAME_TAKEN, f"another holding is called {holding.name} here"
    elif holding.application and not application:
        bringing.state, bringing.detail = NO_FOLDER, f"{holding.application} is not defined here"
    elif not os.path.isdir(root) and not (application and application.is_shipped):
        bringing.state, bringing.detail = NO_FOLDER, f"there is no folder {root}"
    else:
        for file in holding.archives:
            if not file.inside and (found := places.find(file, _mapped(os.path.expanduser(file.path), maps))):
                bringing.found[file.blake3] = found
        if missing := [one.name for one in holding.archives if not one.inside and one.blake3 not in bringing.found]:
            bringing.state, bringing.detail = NO_ARCHIVE, f"{', '.join(missing)} is neither in the file nor here"
    return bringing


class _Places:
    """Where archives may lie here already: where they were there, the downloads folders and the store."""

    def __init__(self, surroundings: Surroundings) -> None:
        self._folders = [*folders_of(surroundings), store_of(surroundings)]

    def find(self, file: CarriedFile, path: str) -> str:
        """The path of a file with this content; empty if there is none."""
        paths = [path, *(str(folder / os.path.basename(file.name)) for folder in self._folders)]
        digest = bytes.fromhex(file.blake3)
        return next((one for one in paths if _is_same(one, file.bytes, digest)), "")


def carry_in(
    surroundings: Surroundings, plan: ToCarryIn, access: Access, tell: Callable[[Bringing, Added], None]
) -> list[Added]:
    """Do what the plan says: definitions and settings that are new, archives into the store, holdings added in order.

    What is here already stays as it is. `tell` hears of each holding as it is added or refused.
    """
    for definition in plan.definitions:
        if definition.state == NEW:
            write_definition(surroundings, definition.text, Path("definition.toml"))
    for key, value, state in plan.settings:
        if state == NEW:
            write_setting(surroundings.places.settings, key, value, surroundings.system())
    results = []
    with _opened(plan.file) as (archive, rows):
        for bringing in plan.holdings:
            if bringing.state == ADD:
                added = _add(surroundings, bringing, access, archive, rows)
                tell(bringing, added)
                results.append(added)
    return results


def _add(
    surroundings: Surroundings, bringing: Bringing, access: Access, archive: Archive, rows: dict[str, int]
) -> Added:
    holding = bringing.holding
    paths = _stored(surroundings, holding, bringing.found, archive, rows)
    choices, names = choices_from_text(json.dumps(holding.choices))
    applications = [one for one in known_applications(surroundings) if one.name == holding.application]
    archives = gathered(paths)
    request = Request(
        applications=tuple(applications),
        is_named=bool(applications),
        to=None if holding.application else bringing.root,
        choices=choices,
        name=holding.name,
        together=len(archives) > 1,
        access=Access(passwords=access.passwords, names=names, limits=access.limits),
        origin=holding.origin,
    )
    return add_archives(surroundings, archives, request, lambda _: None)[0]


def _stored(
    surroundings: Surroundings,
    holding: CarriedHolding,
    found: dict[str, str],
    archive: Archive,
    rows: dict[str, int],
) -> list[Path]:
    """The holding's archives, those in the carry file written into the store; a file that is there already serves."""
    directory = store = store_of(surroundings)
    store.mkdir(parents=True, exist_ok=True)
    if sum(bool(one.inside) for one in holding.archives) > 1:
        # The parts of a set are found by their names, which must not meet those of others.
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
        name = os.path.basename(_name_in(archive, rows, file.inside))
        taken = {spelling_key(other) for other in os.listdir(directory)}
        target = directory / name
        if not (target.is_file() and _is_same(str(target), file.bytes, digest)):
            if spelling_key(name) in taken:
                target = directory / free_name(name, taken)
            _write(archive, rows, file, target, surroundings.system())
        paths.append(target)
    return paths


def _name_in(archive: Archive, rows: dict[str, int], inside: str) -> str:
    """The file name of an entry; DamagedArchive where there is none."""
    if inside not in rows:
        raise _unusable(archive, f"it has no {inside}")
    return archive.listing.names[rows[inside]]


def _write(archive: Archive, rows: dict[str, int], file: CarriedFile, target: Path, platform: Platform) -> None:
    partial = target.with_name(f".usufruct-{os.urandom(6).hex()}.partial")
    row = rows[file.inside]
    if archive.listing.sizes[row] != file.bytes:
        raise _unusable(archive, f"{file.inside} is not the archive it should be")
    try:
        for _, blocks in archive.stream([row]):
            state = write_new(str(partial), blocks, archive.listing.modified(row), 0o644)
            if state.digest.hex() != file.blake3:
                raise _unusable(archive, f"{file.inside} is not the archive it should be")
        # The record will say that it is there, and the carry file may be gone tomorrow.
        platform.sync_file(str(partial))
        platform.rename_new(str(partial), str(target))
        platform.sync_names([str(target.parent)])
    except OSError as error:
        raise MachineError(
            f"{target} cannot be written: {error.strerror}.", remedy="Is there enough room?", path=str(target)
        ) from error
    finally:
        partial.unlink(missing_ok=True)


@contextmanager
def _opened(file: Path) -> Iterator[tuple[Archive, dict[str, int]]]:
    """A carry file, and its entries by their paths below the folder that holds all."""
    archive = open_archive(file)
    try:
        listing = archive.listing
        paths = {listing.path(row): row for row, kind in enumerate(listing.kinds) if kind == EntryKind.FILE}
        tops = {path.partition("/")[0] for path in paths if path.partition("/")[2] == _DOCUMENT}
        if len(tops) != 1:
            raise WrongUsage(
                f"{file.name} is not a file that `usufruct carry out` made.",
                remedy="`usufruct look` says what it is.",
                path=str(file),
            )
        top = f"{tops.pop()}/"
        yield archive, {path[len(top) :]: row for path, row in paths.items() if path.startswith(top)}
    finally:
        archive.close()


def _document(archive: Archive, rows: dict[str, int]) -> Carried:
    try:
        document = msgspec.json.decode(_read(archive, rows, _DOCUMENT, _LARGEST_DOCUMENT).encode("utf-8"), type=Carried)
        for holding in document.holdings:
            choices_from_text(json.dumps(holding.choices))
            if fault := fault_in_name(holding.name):
                raise ValueError(f"a holding is called {holding.name!r}: {fault}")
            if not holding.archives or any(len(bytes.fromhex(file.blake3)) != 32 for file in holding.archives):
                raise ValueError(f"the archives of {holding.name}")
    except (msgspec.MsgspecError, ValueError) as error:
        raise _unusable(archive, f"{_DOCUMENT}: {error}") from error
    if document.carry > CARRY_VERSION:
        raise WrongUsage(
            f"{archive.name} was made by a newer Usufruct.", remedy="Update Usufruct here.", path=archive.path
        )
    return document


def _read(archive: Archive, rows: dict[str, int], entry: str, most: int) -> str:
    _name_in(archive, rows, entry)
    # No entry unpacks to more than it states.
    if archive.listing.sizes[rows[entry]] > most:
        raise _unusable(archive, f"{entry} is far too large")
    try:
        return b"".join(block for _, blocks in archive.stream([rows[entry]]) for block in blocks).decode("utf-8")
    except UnicodeDecodeError as error:
        raise _unusable(archive, f"{entry} is no text") from error


def _unusable(archive: Archive, why: str) -> DamagedArchive:
    return DamagedArchive(
        f"{archive.name} cannot be carried in: {why}.",
        remedy="Carry out again on the other machine.",
        path=archive.path,
    )


def _mapped(path: str, maps: Sequence[tuple[str, str]]) -> str:
    """The path here of a path there: the longest mapped beginning is replaced."""
    for there, here in sorted(maps, key=lambda one: -len(one[0])):
        if path == there or path.startswith(there.rstrip("/\\") + "/"):
            return here.rstrip("/") + path[len(there.rstrip("/\\")) :]
    return path


def _mapped_definition(text: str, maps: Sequence[tuple[str, str]]) -> str:
    """A definition with its folders where they are here; comments and order stay."""
    if not maps:
        return text
    document = tomlkit.parse(text)
    tables = [(document.get("application", {}), "root"), *((folder, "path") for folder in document.get("folder", []))]
    for table, key in tables:
        if isinstance(table.get(key), str):
            path = os.path.expanduser(table[key])
            if (here := _mapped(path, maps)) != path:
                table[key] = here
    return tomlkit.dumps(document)
