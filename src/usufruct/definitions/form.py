"""The form of a definition file, as the validating library knows it."""

import msgspec

from usufruct.model.applications import Arrange, Programs

VERSION = 1
"""Of the format; the first key of every definition."""


class ApplicationForm(msgspec.Struct, forbid_unknown_fields=True, frozen=True):
    """The `[application]` table."""

    name: str
    root: str
    title: str = ""
    also: tuple[str, ...] = ()
    leave: tuple[str, ...] = ()
    programs: Programs = Programs.ASK
    yields: bool = False
    after: tuple[str, ...] = ()


class FolderForm(msgspec.Struct, forbid_unknown_fields=True, frozen=True):
    """One `[[folder]]` table."""

    name: str
    path: str
    arrange: Arrange
    takes: tuple[str, ...] = ()
    prefer: tuple[str, ...] = ()
    mark: tuple[str, ...] = ()
    unless: tuple[str, ...] = ()
    also: tuple[str, ...] = ()
    known: tuple[str, ...] = ()
    gather: bool = True
    installed: tuple[str, ...] = ()


class DefinitionForm(msgspec.Struct, forbid_unknown_fields=True, frozen=True):
    """The whole file."""

    usufruct: int
    application: ApplicationForm
    folder: tuple[FolderForm, ...]
