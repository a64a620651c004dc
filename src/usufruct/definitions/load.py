"""Load and check definitions."""

import re
import tomllib
from collections.abc import Callable, Sequence, Set
from functools import cache
from pathlib import Path

import msgspec
from msgspec.structs import replace

from usufruct.definitions.form import VERSION, ApplicationForm, DefinitionForm
from usufruct.definitions.toml_texts import LARGEST, parsed_toml
from usufruct.definitions.whereabouts import (
    Machine,
    Whereabouts,
    absolute,
    faults_of_root,
    is_absolute,
    is_program,
    whereabouts,
)
from usufruct.errors import BadDefinition
from usufruct.files.platform import this_platform
from usufruct.files.small_texts import small_text
from usufruct.model.applications import Application, Arrange, Folder
from usufruct.planning.names import climbs, folded, spelling_key

SHIPPED = Path(__file__).parent / "shipped"
"""The definitions that come with Usufruct."""
INDEX = SHIPPED.with_suffix(".json")
"""What all of them say, as one file: reading so many texts is felt."""
_NAME = re.compile(r"[^\W_][\w.-]*")


def is_application_name(name: str) -> bool:
    """Whether a text may name an application: letters of any script, in lower case and one form, and digits."""
    return _NAME.fullmatch(name) is not None and name == spelling_key(name)


def load_application(file: Path, *, is_shipped: bool = False) -> Application:
    """Return the application that a definition file describes; BadDefinition names each fault's line and remedy."""
    return _load(file, is_shipped)[0]


def _load(file: Path, is_shipped: bool) -> tuple[Application, ...]:
    """Return the application of a definition file, and its other versions."""
    try:
        text = small_text(file, LARGEST)
    except (OSError, UnicodeDecodeError) as error:
        raise BadDefinition(
            f"The definition {file} cannot be read: {_first_line(error)}.",
            remedy="Make it a readable UTF-8 text file, or remove it.",
            path=str(file),
        ) from error
    form = parsed_definition(text, file)
    return _applications(form, is_shipped, whereabouts(form, is_shipped=is_shipped))


def parse_application(text: str, file: Path, *, is_shipped: bool = False) -> Application:
    """Return the same for a text; `file` is only named in faults."""
    form = parsed_definition(text, file)
    return _applications(form, is_shipped, whereabouts(form, is_shipped=is_shipped))[0]


def parsed_definition(text: str, file: Path) -> DefinitionForm:
    """Return the checked content of a definition; BadDefinition names its faults."""
    try:
        raw = parsed_toml(text)
    except tomllib.TOMLDecodeError as error:
        raise _bad(file, f"is not valid TOML: {_first_line(error)}", "Correct that line.") from error
    version = raw.get("usufruct")
    if version != VERSION:
        line = _line_of(text, "usufruct", None)
        said = "does not say the version of its format" if version is None else f"has version {version}"
        raise _bad(file, said, f"This Usufruct reads version {VERSION}: write `usufruct = {VERSION}`.", line)
    try:
        form = msgspec.convert(raw, DefinitionForm)
    except msgspec.ValidationError as error:
        raise _from_validation(file, text, error) from error
    faults = _faults(form)
    if faults:
        said = "; ".join(f"line {_line_of(text, key, number)}: {fault}" for key, number, fault in faults)
        raise _bad(file, f"is at fault: {said}", "Correct these lines.")
    return form


def load_applications(
    directory: Path,
    on_fault: Callable[[BadDefinition], None],
    *,
    only_here: bool = False,
    named: Set[str] | None = None,
) -> list[Application]:
    """Return all definitions in the user's directory, then the shipped ones; the first with a name counts.

    A definition that cannot be used is told to `on_fault` and left out; no shipped one replaces it. `only_here`:
    without applications that are not on this machine; `named`: of the shipped ones only these.
    """
    found: dict[str, Application] = {}
    faulty: set[str] = set()
    for file in sorted(directory.glob("*.toml")) if directory.is_dir() else ():
        try:
            applications = _load(file, False)
        except BadDefinition as fault:
            faulty.add(file.stem)
            on_fault(fault)
        else:
            found |= {application.name: application for application in reversed(applications)}
    here = Machine()
    for form in _shipped_forms():
        name = form.application.name
        if name in found or name in faulty or not (named is None or any(_is_meant(name, one) for one in named)):
            continue
        places = whereabouts(form, is_shipped=True, here=here, only_here=only_here)
        for application in _applications(form, True, places):
            found.setdefault(application.name, application)
    return [one for one in found.values() if one.is_here or not only_here]


def _is_meant(name: str, wanted: str) -> bool:
    """Whether a definition of this name may have the wanted application: itself, or another version of it."""
    return wanted == name or wanted.startswith(f"{name}-")


@cache
def _shipped_forms() -> tuple[DefinitionForm, ...]:
    return tuple(msgspec.json.decode(INDEX.read_bytes(), type=list[DefinitionForm]))


def _applications(form: DefinitionForm, is_shipped: bool, places: list[Whereabouts]) -> tuple[Application, ...]:
    """Return the application of a definition, and the other versions that are there, if each version counts."""
    return tuple(_application(form, is_shipped, place, is_other=number > 0) for number, place in enumerate(places))


def _application(form: DefinitionForm, is_shipped: bool, place: Whereabouts, *, is_other: bool) -> Application:
    application = form.application
    return Application(
        name=f"{application.name}-{place.root.rpartition('/')[2].lower()}" if is_other else application.name,
        title=application.title or application.name,
        root=place.root,
        also=application.also,
        leave=application.leave,
        programs=application.programs,
        after=_command(application.after),
        is_shipped=is_shipped,
        is_here=place.is_here,
        program=application.program,
        tell=application.tell,
        source=application.source,
        checked=application.checked,
        # Content goes to the highest version, unless another is named.
        yields=application.yields or is_other,
        folders=tuple(
            replace(
                folder,
                path=_folder_path(place.paths.get(folder.name, folder.path)),
                data=folder.data and is_shipped,
                installed=tuple(map(absolute, folder.installed)),
            )
            for folder in form.folder
        ),
    )


def _command(after: Sequence[str | tuple[str, ...]]) -> tuple[str, ...]:
    """Return the command to run; of several the first one whose program is there."""
    several = [one for one in after if not isinstance(one, str)]
    if not several:
        return tuple(one for one in after if isinstance(one, str))
    return next((one for one in several if one and is_program(one[0], this_platform())), several[0])


def _folder_path(path: str) -> str:
    if is_absolute(path):
        return absolute(path)
    return path.replace("\\", "/").strip("/")


_Fault = tuple[str, int | None, str]
"""Key, number of the folder (None: the application), what is wrong."""


def _faults(form: DefinitionForm) -> list[_Fault]:
    """Return what is wrong in a form of the right shape."""
    faults = _application_faults(form.application)
    faults.extend(("root", None, fault) for fault in faults_of_root(form))
    if not form.folder:
        faults.append(("folder", None, "there is no [[folder]], so nothing could be placed"))
    seen: set[str] = set()
    for number, folder in enumerate(form.folder):
        faults.extend((key, number, fault) for key, fault in _folder_faults(folder))
        if folded(folder.name) in seen:
            faults.append(("name", number, f"a folder is called {folder.name} already"))
        seen.add(folded(folder.name))
    return faults


def _application_faults(application: ApplicationForm) -> list[_Fault]:
    faults: list[_Fault] = []
    if not is_application_name(application.name):
        faults.append(("name", None, "name must be of lower-case letters, digits, dots, hyphens and underscores"))
    if len({isinstance(one, str) for one in application.after}) > 1:
        faults.append(("after", None, "after is one command, or a list of commands"))
    return faults


def _folder_faults(folder: Folder) -> list[tuple[str, str]]:
    faults = []
    if not folder.name.strip():
        faults.append(("name", "a folder needs a name"))
    if not folder.path.strip():
        faults.append(("path", 'path is empty; "." means the root itself'))
    if climbs(folder.path):
        faults.append(("path", "path may not contain .."))
    if folder.arrange is Arrange.PIECES and not folder.mark:
        faults.append(("arrange", 'arrange = "pieces" needs a mark, the file that makes a directory a piece'))
    if folder.arrange is not Arrange.PIECES and folder.mark:
        faults.append(("mark", 'mark means something only with arrange = "pieces"'))
    if folder.unless and not folder.mark:
        faults.append(("unless", "unless means something only beside mark"))
    if any(not is_absolute(path) for path in folder.installed):
        faults.append(("installed", "installed names absolute paths, or paths that begin with ~"))
    if folder.known and folder.path != ".":
        faults.append(("known", 'known means something only with path = "."'))
    if not folder.gather and folder.arrange is not Arrange.TREE:
        faults.append(("gather", 'gather means something only with arrange = "tree"'))
    for key, patterns in (
        ("takes", folder.takes),
        ("prefer", folder.prefer),
        ("mark", folder.mark),
        ("unless", folder.unless),
    ):
        if any(not pattern.strip(" /") for pattern in patterns):
            faults.append((key, f"{key} holds an empty pattern"))
    return faults


_WHERE = re.compile(r" - at `\$(?P<path>[^`]*)`")
_STEP = re.compile(r"\.(?P<key>\w+)|\[(?P<index>\d+|\.\.\.)\]")


_LIBRARY_WORDS = (
    (r"(?i)invalid enum value '([^']*)'", r'"\1" is none of the words that may stand here'),
    (r"(?i)expected `array`, got `(\w+)`", "a list is wanted here, in square brackets"),
    (r"(?i)expected `str \| array`, got `(\w+)`", "a text is wanted here, in quotes, or a list of texts"),
    (r"(?i)expected `str`, got `(\w+)`", "a text is wanted here, in quotes"),
    (r"(?i)expected `bool`, got `(\w+)`", "true or false is wanted here"),
    (r"(?i)expected `int`, got `(\w+)`", "a whole number is wanted here"),
    (r"(?i)expected `the table`, got `(\w+)`", "a table is wanted here"),
)
"""What the validating library says → what a person is told."""


def _from_validation(file: Path, text: str, error: msgspec.ValidationError) -> BadDefinition:
    """Return the validating library's finding, with the line that it is about."""
    said = str(error)
    where = _WHERE.search(said)
    steps = list(_STEP.finditer(where["path"])) if where else []
    folder = next((int(step["index"]) for step in steps if step["index"] not in (None, "...")), None)
    keys = [step["key"] for step in steps if step["key"]]
    named = re.search(r"field `(\w+)`", said)
    is_folder = "folder" in keys[:1]
    key = named[1] if named else (keys[-1] if keys else "")
    line = _line_of(text, key, folder if is_folder else None)
    what = _WHERE.sub("", said).replace("Object", "the table").replace("object", "the table")
    for pattern, plain in _LIBRARY_WORDS:
        what = re.sub(pattern, plain, what)
    place = f"[[folder]] number {folder + 1}" if is_folder and folder is not None else ".".join(keys) or "the file"
    form = Folder if is_folder else ApplicationForm if keys[:1] == ["application"] else DefinitionForm
    known = ", ".join(form.__struct_fields__)
    if "missing required" in said:
        remedy = f"Add the key {key}."
    elif "unknown field" in said:
        remedy = f"Remove it or correct its name; the keys here are {known}."
    else:
        remedy = f"Correct {key or 'it'}."
    return _bad(file, f"is at fault in {place}: {what[0].lower()}{what[1:]}", remedy, line)


def _line_of(text: str, key: str, folder: int | None) -> int:
    """Return the line of a key in its table, or the line of the table; lines count from 1."""
    header = re.compile(r"\s*\[\[?\s*(\w+)")
    table, number, table_line = "", -1, 1
    wanted = "folder" if folder is not None else "" if key == "usufruct" else "application"
    start = 1
    for count, line in enumerate(text.splitlines(), 1):
        if head := header.match(line):
            table, table_line = head[1], count
            number += table == "folder"
            if table == wanted and (folder is None or number == folder):
                start = table_line
            continue
        is_here = (table == wanted and (folder is None or number == folder)) or (not table and folder is None)
        if is_here and re.match(rf"\s*{re.escape(key)}\s*=", line):
            return count
    return start


def _bad(file: Path, said: str, remedy: str, line: int | None = None) -> BadDefinition:
    where = f"{file}, line {line}," if line else str(file)
    return BadDefinition(f"The definition {where} {said}.", remedy=remedy, path=str(file))


def _first_line(error: Exception) -> str:
    return str(error).splitlines()[0].rstrip(".")
