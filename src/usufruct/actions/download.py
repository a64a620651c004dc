"""A download as it may be taken: as its content, with the archives in it opened too, or as the file it is."""

from collections.abc import Sequence
from contextlib import suppress
from copy import copy
from functools import cached_property, partial
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct

from usufruct.actions.request import Request
from usufruct.actions.volumes import Untouched, digest_of_all, volume_at
from usufruct.archives.opening import open_archive
from usufruct.archives.reading import Archive, digests_of
from usufruct.archives.unpacked import UnpackedFolder
from usufruct.errors import NotAnArchive, PasswordNeeded
from usufruct.model.applications import Application
from usufruct.model.holdings import Volume
from usufruct.model.layout import Layout
from usufruct.model.rulings import Decision, Evidence, Option, SkippedKind, Used
from usufruct.planning.candidates import candidates_of
from usufruct.planning.claims import Claims, claims_of
from usufruct.planning.layout import layout_of, outside_layout
from usufruct.planning.names import folded, is_archive_name, tidy_name
from usufruct.planning.patterns import Patterns, letters_of
from usufruct.planning.tree import Tree

if TYPE_CHECKING:
    from usufruct.archives.nested import WholeFile

# What several archives in or beside one another need is imported only where there are several.
WHOLE, OPENED = "whole", "opened"
_FEW = 3
"""Applications fewer than these are all tried."""


class Variant(Struct, frozen=True):
    """One way to take a download, for one application."""

    layout: Layout
    archive: Archive
    """What the layout's rows are read from."""


class Download:
    """An open file of the downloads folder. Close it after use."""

    def __init__(self, paths: Sequence[Path], request: Request, *, is_alone: bool = False) -> None:
        """Several paths are several downloads as one; `is_alone`: the only path does not belong to a split set.

        Raises the errors of `open_archive`, except for a file that is no archive: it is a single entry.
        """
        self.path = paths[0]
        self.untouched = Untouched(map(str, paths))
        self.request = request
        """How it is taken."""
        self._is_alone = is_alone
        self._wholes: list[WholeFile] = []
        """The download as the one file it is, once that was asked for."""
        self._claims: dict[int, Claims] = {}
        """Archive → what all applications that are known claim of it."""
        self._inside: dict[tuple[int, tuple[int, ...]], Archive | None] = {}
        self.tried: set[str] = set()
        """Names of the applications that have had a say so far."""
        self.archive: Archive
        """The download as it is read by itself."""
        if len(paths) == 1:
            self.archive = self._open(self.path)
        else:
            opened: list[Archive] = []
            try:
                opened.extend(map(self._open, paths))
            except BaseException:
                for archive in opened:
                    archive.close()
                raise
            from usufruct.archives.compound import opened_together

            self.archive = opened_together(opened)
        self.untouched.add(self.archive.facts.volumes)

    @property
    def tidy_name(self) -> str:
        """The file's name without extension, version and copy mark."""
        return tidy_name(self.request.file_name or self.archive.name)

    def _open(self, path: Path) -> Archive:
        if path.is_dir():
            return UnpackedFolder(path, self.request.access.limits)
        try:
            return open_archive(path, self.request.access, is_alone=self._is_alone)
        except NotAnArchive as error:
            from usufruct.archives.nested import WholeFile

            whole = self._whole_file() if path == self.path else WholeFile(path, path.name)
            whole.facts.what = error.what
            return whole

    @cached_property
    def volumes(self) -> tuple[Volume, ...]:
        """The files that it consists of; each is read completely."""
        return tuple(map(volume_at, self.archive.facts.volumes))

    @cached_property
    def digest(self) -> bytes:
        """A digest of all of its content."""
        return digest_of_all(self.volumes)

    def close(self) -> None:
        """Close everything that was opened."""
        for archive in (*filter(None, self._inside.values()), self.archive, *self._wholes):
            archive.close()

    def under(self, request: Request) -> "Download":
        """Return the same download as another request takes it; it is closed with this one."""
        other = copy(self)
        other.request = request
        return other

    def is_read_alike(self, request: Request) -> bool:
        """Whether the files would be read in the same way for another request."""
        own = self.path.name
        names = {request.file_name or own, self.request.file_name or own}
        return len(names) == 1 and request.access == self.request.access

    def variant_for(self, application: Application | None) -> Variant:
        """Return the best way to take the download for an application, or for none."""
        if application:
            self.tried.add(application.name)
        if self.archive in self._wholes:
            return Variant(self._layout(self.archive, application), self.archive)
        opened = self._opened(application)
        if application is None or len(self.archive.facts.volumes) > 1 or not _takes(application, self.archive.name):
            return opened
        words = {folded(word) for word in self.request.choices.choose}
        if folded(OPENED) in words:
            opened.layout.follow([Used(OPENED)])
            return opened
        whole = Variant(self._layout(self._whole_file(), application), self._whole_file())
        if folded(WHOLE) in words:
            whole.layout.follow([Used(WHOLE)])
            return whole
        if (says_more := _stronger(application, whole.layout, opened.layout)) is not None:
            return opened if says_more is opened.layout else whole
        opened.layout.decisions.insert(0, _whole_or_opened(self.archive.name, whole.layout, opened.layout))
        return opened

    def variants(self) -> list[Variant]:
        """Return the best way to take the download for each application that anything in it may be for.

        The others would get nothing, as `variant_for` says for each.
        """
        applications, choices = self.request.applications, self.request.choices
        if len(applications) < _FEW or choices.into or choices.choose or choices.nested:
            return list(map(self.variant_for, applications))
        candidates = candidates_of(applications)
        found = candidates.among(Tree.of(self.archive.listing)) | candidates.taking(self.archive.name)
        variants = {number: self.variant_for(applications[number]) for number in sorted(found)}
        if Tree.of(self.archive.listing).archives:
            # Archives inside are opened for one without outer content, as for all others.
            rest = [number for number in range(len(applications)) if number not in found]
            first = next((number for number in rest if not applications[number].leave), None)
            if first is None:
                found |= set(rest)
            else:
                variants[first] = self.variant_for(applications[first])
                for inside in filter(None, list(self._inside.values())):
                    found |= candidates.among(Tree.of(inside.listing))
            for number in found - variants.keys():
                variants[number] = self.variant_for(applications[number])
        return [variants[number] for number in sorted(variants)]

    def _opened(self, application: Application | None) -> Variant:
        """Return the archive, with the archives in it opened if that is asked for or nothing else would be placed."""
        archive = self.archive
        layout = self._layout(archive, application)
        for _ in range(self.request.access.limits.levels):
            rows = self._archives_in(layout)
            insists = self.request.choices.nested
            if not rows or not (insists or _may_be_wrapped(layout)):
                break
            inside = self._open_inside(archive, rows, insist=insists)
            if inside is None:
                break
            opened = self._layout(inside, application)
            if not insists and layout.evidence > Evidence.EVERYDAY and opened.evidence <= layout.evidence:
                break  # the outer content is as strong, so the archives inside are part of it
            archive, layout = inside, opened
        return Variant(layout, archive)

    def _archives_in(self, layout: Layout) -> tuple[int, ...]:
        if layout.application is None:
            names = layout.listing.names
            nested = self.request.choices.nested
            return tuple(row for row in layout.placed_rows() if nested and is_archive_name(names[row]))
        return tuple(layout.rows_skipped(SkippedKind.ARCHIVE))

    def _open_inside(self, archive: Archive, rows: tuple[int, ...], *, insist: bool) -> Archive | None:
        key = id(archive), rows
        if key not in self._inside:
            from usufruct.archives.nested import opened_inside

            self._inside[key] = opened_inside(archive, rows, self.request.access, insist=insist)
        return self._inside[key]

    def _layout(self, archive: Archive, application: Application | None) -> Layout:
        """Return the layout. Entries with one destination and one size are compared by content."""
        listing, choices = archive.listing, self.request.choices
        if application is None:
            lay_out = partial(outside_layout, listing, self.tidy_name, choices)
        else:
            claims = self._claims_in(archive)
            lay_out = partial(layout_of, listing, application, self.tidy_name, choices, claims=claims)
        layout = lay_out()
        if layout.undecided:
            # Without the password, entries that look equal are shown as equal.
            with suppress(PasswordNeeded):
                layout = lay_out(digests=digests_of(archive, sorted(layout.undecided)))
        return layout

    def _claims_in(self, archive: Archive) -> Claims:
        """Return what any known application claims in an archive."""
        if id(archive) not in self._claims:
            tree = Tree.of(archive.listing)
            applications = self.request.known or self.request.applications
            if len(applications) >= _FEW:
                applications = tuple(applications[number] for number in sorted(candidates_of(applications).among(tree)))
            self._claims[id(archive)] = claims_of(archive.listing, applications)
        return self._claims[id(archive)]

    def _whole_file(self) -> "WholeFile":
        if not self._wholes:
            from usufruct.archives.nested import WholeFile

            self._wholes.append(WholeFile(self.path, self.request.file_name or self.path.name))
        return self._wholes[0]


def _may_be_wrapped(layout: Layout) -> bool:
    """Whether the content may be in archives inside, because only file types speak for what is outside of them.

    What the user's patterns leave out would have been placed.
    """
    if layout.evidence > Evidence.PATTERN or layout.application is None:
        return False
    return not {SkippedKind.LEFT_OUT, SkippedKind.NOT_CHOSEN}.intersection(layout.skipped_as)


def _takes(application: Application, name: str) -> bool:
    named = (pattern for folder in application.folders for pattern in folder.takes if letters_of(pattern))
    return Patterns(named).by_name(name) is not None


def _stronger(application: Application, whole: Layout, opened: Layout) -> Layout | None:
    """Return the one with the stronger evidence, or with the narrower pattern; None if neither is."""
    if not opened.files or whole.evidence != opened.evidence:
        return max((whole, opened), key=lambda layout: layout.evidence if layout.files else -1)
    narrow, wide = (_narrowest(application, layout) for layout in (opened, whole))
    return None if narrow == wide else opened if narrow > wide else whole


def _narrowest(application: Application, layout: Layout) -> int:
    """Return the number of letters of the narrowest pattern that takes any placed file."""
    names = [layout.listing.names[row] for row in layout.placed_rows()]
    patterns = {pattern for folder in application.folders for pattern in folder.takes}
    return max((letters_of(one) for one in patterns if any(map(Patterns([one]).by_name, names))), default=0)


def _whole_or_opened(name: str, whole: Layout, opened: Layout) -> Decision:
    options: Sequence[Option] = [
        Option(name=word, answer=("--choose", word), files=layout.files, size=layout.size)
        for word, layout in ((WHOLE, whole), (OPENED, opened))
    ]
    return Decision(question=f"Should {name} be placed as one file, or its content?", options=tuple(options))
