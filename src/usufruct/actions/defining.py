"""Make, change and drop definitions of applications."""

import os
import re
import stat
import unicodedata
from collections.abc import Iterable, Set
from pathlib import Path

from blake3 import blake3
from msgspec import Struct

from usufruct.actions.applications import definition_file, known_applications
from usufruct.actions.context import Context
from usufruct.definitions.load import is_application_name, parse_application
from usufruct.errors import MachineError, WrongUsage
from usufruct.files.copying import replace_text
from usufruct.files.paths import expanded, is_below, real_path
from usufruct.files.small_texts import small_file
from usufruct.ledger.holdings import all_holdings
from usufruct.model.applications import Application
from usufruct.model.choices import Choices
from usufruct.model.entries import EntryKind, Listing
from usufruct.model.rulings import SkippedKind
from usufruct.model.words import count_words
from usufruct.planning.layout import layout_of
from usufruct.planning.learning import Learned, LearnedFolder, learned_from
from usufruct.planning.names import spelling_key

_LOST = frozenset(SkippedKind) - {SkippedKind.JUNK, SkippedKind.NOTES}
_MOST_SHOWN = 4
"""Paths that stand for many."""
_TEMPLATE = """\
usufruct = 1

[application]
name = {name}
title = {title}
root = {root}
# also = []          # other names by which archives call the root
# leave = ["*.bak"]  # never placed
programs = "refuse"  # program files: ask, allow or refuse

# One [[folder]] for each kind of content; docs/definitions.md explains every key.
[[folder]]
name = "content"
path = "."
arrange = "tree"     # loose: files directly in it; tree: sub-directories kept; pieces: one directory each
"""


class Proposal(Struct, frozen=True):
    """A definition that is not written yet."""

    name: str
    text: str
    file: Path
    """Where it would be written."""


def learn(context: Context, directory: Path, name: str | None) -> Proposal:
    """Propose a definition from a folder with content; nothing is written."""
    directory = expanded(directory).absolute()
    if not directory.is_dir():
        raise MachineError(f"There is no folder {directory}.", remedy="Name the folder that the application reads.")
    if _shown(str(directory)) != str(directory):
        raise WrongUsage(
            f"The path of {directory.name} has signs that cannot be shown, and no definition may hold them.",
            remedy="Give the folder a plain name first.",
            path=str(directory),
        )
    paths = context.paths
    own = {real_path(one) for one in (paths.config, paths.data)}
    if any(is_below(real_path(directory), one) for one in own):
        raise WrongUsage(
            f"{directory} is Usufruct's own.", remedy="Name the folder that the application reads its content from."
        )
    listing = _listing_of(directory, own)
    learned = learned_from(listing)
    if not learned.folders:
        raise WrongUsage(
            f"{directory} holds nothing to learn from.",
            remedy="Write the definition by hand: `usufruct app new NAME`.",
        )
    name = _checked(name) if name else _name_from(directory.name)
    text = _text_of(name, directory, learned)
    file = context.paths.apps / f"{name}.toml"
    application = parse_application(text, file)  # an unacceptable proposal would be our own fault
    return Proposal(name, text + _trial(listing, application), file)


def _trial(listing: Listing, application: Application) -> str:
    """Return where the folder's own content would go if it were packed and placed by the definition."""
    layout = layout_of(listing, application, application.name, Choices())
    back = sum(listing.path(one.row) == one.to for one in layout.placements)
    elsewhere = [listing.path(one.row) for one in layout.placements if listing.path(one.row) != one.to]
    out = [listing.path(row) for row in layout.rows_skipped(*_LOST)]
    every = back + len(elsewhere) + len(out)
    lines = [
        f"Tried on the folder's own content: packed again, {back} of {every} files would go back to where they are."
    ]
    for what, paths in (("Elsewhere", elsewhere), ("Left out", out)):
        if paths:
            lines.append(f"{what}: {', '.join(paths[:_MOST_SHOWN])}{' and more' if len(paths) > _MOST_SHOWN else ''}")
    return "\n" + "".join(f"{_comment(line)}\n" for line in lines)


def blank(context: Context, name: str, root: Path | None) -> Proposal:
    """Return a definition to begin with."""
    name = _checked(name)
    text = _TEMPLATE.format(
        name=_quoted(name),
        title=_quoted(name.capitalize()),
        root=_quoted(_home_words(expanded(root).absolute()) if root else f"~/{name.capitalize()}"),
    )
    return Proposal(name, text, context.paths.apps / f"{name}.toml")


def received(context: Context, file: Path) -> Proposal:
    """Check a definition from someone else; nothing is written.

    Raises BadDefinition, and WrongUsage if one of the user's has its name.
    """
    try:
        text = small_file(file).decode("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise MachineError(f"{file} cannot be read: {error}.", remedy="Name the definition's file.") from error
    application = parse_application(text, file)
    if not name_is_free(context, application.name):
        raise WrongUsage(
            f"{application.name} is defined already.",
            remedy=f"`usufruct app drop {application.name}` first, or give the other one another name in {file.name}.",
        )
    return Proposal(application.name, text, context.paths.apps / f"{application.name}.toml")


_MARKED = re.compile(r"# Changed from the definition that ships, ([0-9a-f]{12})\n")


def marked_as_changed(text: str, shipped: str) -> str:
    """Return the text of a shipped definition with a line that says which one it was made from."""
    return f"# Changed from the definition that ships, {_digest(shipped)}\n{_MARKED.sub('', text)}"


def has_newer_shipped(file: Path, shipped: Path) -> bool:
    """Whether the shipped definition has changed since the user's was made from it."""
    try:
        made_of = _MARKED.match(file.read_text(encoding="utf-8"))
        return made_of is not None and made_of[1] != _digest(shipped.read_text(encoding="utf-8"))
    except (OSError, UnicodeDecodeError):
        return False


def _digest(text: str) -> str:
    return blake3(text.encode()).hexdigest()[:12]


def write_definition(context: Context, text: str, file: Path, *, replaces: str = "") -> Application:
    """Write a definition if it has no fault; otherwise the file stays as it is.

    Raises BadDefinition, and WrongUsage if there is a definition of that name, unless `replaces` names it; then its
    name must stay.
    """
    application = parse_application(text, file)
    if replaces and application.name != replaces:
        raise WrongUsage(
            f"The definition of {replaces} calls itself {application.name} now.",
            kept="Both definitions are as they were.",
            remedy=f'Leave `name = "{replaces}"` in it; `usufruct app new {application.name}` defines another.',
        )
    file = context.paths.apps / f"{application.name}.toml"
    if file.exists() and not replaces:
        raise WrongUsage(
            f"{application.name} is defined already, in {file}.", remedy=f"`usufruct app edit {application.name}`."
        )
    replace_text(file, text, context.system())
    return application


def drop_definition(context: Context, application: Application) -> Path:
    """Remove a definition and return where its text is kept. Raises WrongUsage while it has holdings."""
    with context.reading() as ledger:
        holdings = [one.name for one in all_holdings(ledger) if one.application == application.name] if ledger else []
    if holdings:
        some = ", ".join(holdings[:5]) + (" and more" if len(holdings) > 5 else "")
        raise WrongUsage(
            f"{application.name} still has {len(holdings)} holdings: {some}.",
            remedy="Remove them first; without the definition nobody would know what they are for.",
        )
    if application.is_shipped:
        raise WrongUsage(
            f"{application.name} came with Usufruct and cannot be deleted.",
            remedy="It counts only where none of your own definitions fits.",
        )
    file = definition_file(context, application)
    kept = file.with_name(file.name + ".dropped")
    file.replace(kept)
    return kept


def name_is_free(context: Context, name: str) -> bool:
    """Whether none of the user's definitions has this name."""
    return all(one.name != name or one.is_shipped for one in known_applications(context))


def _listing_of(directory: Path, own: Set[str]) -> Listing:
    """List a folder on disk like an archive; what cannot be read and what is our `own` is left out."""
    listing = Listing()
    top = str(directory)
    for here, below, names in os.walk(top):
        below[:] = [name for name in below if real_path(os.path.join(here, name)) not in own]
        relative = here[len(top) :].strip(os.sep).replace(os.sep, "/")
        number = listing.directory(relative)
        for name in names:
            try:
                found = os.lstat(os.path.join(here, name))
            except OSError:
                continue
            can_run = bool(found.st_mode & 0o111) and stat.S_ISREG(found.st_mode)
            listing.add(number, name, EntryKind.FILE, found.st_size, None, can_run=can_run)
    return listing


def _checked(name: str) -> str:
    if not is_application_name(name):
        raise WrongUsage(
            f"An application cannot be called {name}: names are of lower-case letters, digits, dots, hyphens and "
            "underscores.",
            remedy=f"Call it {_name_from(name)}.",
        )
    return name


def _name_from(name: str) -> str:
    """Turn the folder's name into one for `--app`: without accents, in small letters of its own script."""
    plain = re.sub(r"([A-Za-z])[\u0300-\u036f]+", r"\1", unicodedata.normalize("NFKD", name))
    plain = re.sub(r"[^\w.-]+", "-", spelling_key(plain)).strip("-._")
    return plain if is_application_name(plain) else "application"


def _text_of(name: str, directory: Path, learned: Learned) -> str:
    lines = [
        _comment(f"Learned from {_home_words(directory)}: {count_words(learned.files, 'file')} of content."),
        "usufruct = 1",
        "",
        "[application]",
        f"name = {_quoted(name)}  # what you type after --app",
        f"title = {_quoted(_shown(directory.name))}",
        f"root = {_quoted(_home_words(directory))}",
    ]
    if learned.programs:
        lines.append(f'programs = "ask"  # {learned.programs} files here can run')
    else:
        lines.append('programs = "refuse"  # no file here can run')
    for folder in learned.folders:
        # A name that no definition can contain is left out, and reported with the files beside the folders.
        if _shown(folder.path) == folder.path:
            lines += ["", *_folder_lines(folder)]
    if learned.unexplained:
        shown = ", ".join(learned.unexplained[:6]) + (" and more" if len(learned.unexplained) > 6 else "")
        lines += ["", _comment(f"Also directly in {directory.name}: {shown}. No folder above is for them.")]
    return "\n".join(lines) + "\n"


def _folder_lines(folder: LearnedFolder) -> list[str]:
    lines = [
        "[[folder]]",
        *map(_comment, folder.evidence),
        f"name = {_quoted(_shown(folder.name))}",
        f"path = {_quoted(folder.path)}",
        f'arrange = "{folder.arrange.value}"',
    ]
    if folder.mark:
        lines.append(f"mark = [{_patterns(folder.mark)}]  # what makes a directory one piece")
    if folder.takes:
        lines.append(f"takes = [{_patterns(folder.takes)}]")
    return lines


def _patterns(patterns: Iterable[str]) -> str:
    return ", ".join(_quoted(_shown(pattern)) for pattern in patterns)


def _quoted(text: str) -> str:
    """Return a text as TOML writes it."""
    import tomlkit

    return tomlkit.string(text).as_string()


def _comment(text: str) -> str:
    """Return a comment of one line, whatever names are in it."""
    return f"# {_shown(text)}"


def _shown(text: str) -> str:
    """Return a text with question marks for signs that end a line, control a terminal or are no text at all.

    As a pattern it still matches the name that it was made from.
    """
    return "".join(sign if sign.isprintable() else "?" for sign in text)


def _home_words(path: Path) -> str:
    home = Path.home()
    return f"~/{path.relative_to(home).as_posix()}" if path != home and path.is_relative_to(home) else path.as_posix()
