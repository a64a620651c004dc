"""The form of a definition file, as the validating library knows it."""

from typing import Literal

import msgspec

from usufruct.model.applications import Folder, Programs

VERSION = 1
"""Of the format; the first key of every definition."""


class ApplicationForm(msgspec.Struct, forbid_unknown_fields=True, frozen=True, omit_defaults=True):
    """The `[application]` table."""

    name: str
    root: str | tuple[str, ...]
    title: str = ""
    also: tuple[str, ...] = ()
    leave: tuple[str, ...] = ()
    programs: Programs = Programs.ASK
    yields: bool = False
    standard: bool = False
    after: tuple[str | tuple[str, ...], ...] = ()
    program: tuple[str, ...] = ()
    versions: Literal["highest", "each"] = "highest"
    tell: str = ""
    source: str = ""
    checked: str = ""


class PlaceForm(msgspec.Struct, forbid_unknown_fields=True, frozen=True):
    """One `[[place]]` table: a root with the paths that differ there."""

    root: str
    paths: dict[str, str] = {}


class DefinitionForm(msgspec.Struct, forbid_unknown_fields=True, frozen=True, omit_defaults=True):
    """The whole file."""

    usufruct: int
    application: ApplicationForm
    folder: tuple[Folder, ...]
    """With the paths as they are written."""
    place: tuple[PlaceForm, ...] = ()
