"""Find the archive that a holding came from, and the entries that its files were."""

import os
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

from msgspec.structs import replace

from usufruct.actions.download import Download
from usufruct.actions.gathering import gathered
from usufruct.actions.request import Request, choices_from_text
from usufruct.actions.volumes import is_still
from usufruct.archives.reading import Access, Archive
from usufruct.errors import DamagedArchive, MachineError
from usufruct.ledger.holdings import volumes_of
from usufruct.model.applications import Application
from usufruct.model.entries import EntryKind
from usufruct.model.holdings import Holding
from usufruct.model.records import FileKind, Layer
from usufruct.survey.drives import archive_away
from usufruct.transaction.work import Resources

Rows = dict[str, int]
"""Entry path → row."""


@contextmanager
def source_of(
    resources: Resources,
    holding: Holding,
    applications: Iterable[Application],
    access: Access,
    given: Path | None = None,
) -> Iterator[tuple[Archive, Rows]]:
    """Open the archive that a holding came from as it was opened then, and give it with the rows of its entries.

    `given` is its path if it is not where it was. Raises MachineError if it is missing or has changed.
    """
    paths = archives_of(resources, holding, given)
    known = tuple(applications)
    application = next((one for one in known if one.name == holding.application), None)
    choices, names = choices_from_text(holding.choices)
    request = Request(
        applications=(application,) if application else (),
        known=known,
        to=None if holding.application else holding.root,
        choices=choices,
        access=Access(passwords=access.passwords, names=access.names or names, limits=access.limits),
    )
    try:
        download = Download([path.absolute() for path in paths], request)
    except DamagedArchive:
        # Its good entries may have been rescued; restored content is compared with what was placed anyway.
        request = replace(request, access=replace(request.access, rescues=True))
        download = Download([path.absolute() for path in paths], request)
    try:
        archive = download.variant_for(application).archive
        listing = archive.listing
        yield archive, {listing.path(row): row for row, kind in enumerate(listing.kinds) if kind == EntryKind.FILE}
    finally:
        download.close()


def archives_of(resources: Resources, holding: Holding, given: Path | None = None) -> list[Path]:
    """Return the paths of the archives that a holding came from, once it is certain that they have not changed.

    `given` is the path of the archive if it is not where it was. Raises MachineError if one is missing or has changed,
    DriveAway if its drive is not connected.
    """
    if given:
        return [given]
    volumes = volumes_of(resources.ledger, holding.number)
    for volume in volumes:
        if not os.path.exists(volume.path):
            if away := archive_away(resources.ledger, resources.platform.identity_of_drive, volume.path):
                raise away
            raise MachineError(
                f"The archive of {holding.name}, {volume.path}, is not there any more.",
                remedy="Put it back, or name with --archive where it is now.",
                path=volume.path,
            )
        if not is_still(volume):
            raise MachineError(
                f"{volume.path} is not the archive any more that {holding.name} came from.",
                remedy="Name with --archive where that archive is now.",
                path=volume.path,
            )
    paths = [Path(volume.path) for volume in volumes]
    return paths if any(map(Path.is_dir, paths)) else gathered(paths)


def row_for(layer: Layer, rows: Rows, holding: Holding) -> int | None:
    """Return the row with a layer's content; None for links and directories, which need none."""
    if layer.state.kind is not FileKind.FILE:
        return None
    if layer.entry not in rows:
        raise MachineError(
            f"The archive has no entry {layer.entry} that {holding.name} would need.",
            remedy="Name the archive that it came from.",
        )
    return rows[layer.entry]
