"""List what waits in the downloads folders, with the state of each."""

import logging
import os
import time
from collections.abc import Iterator, Sequence
from operator import itemgetter
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from usufruct.actions.applications import applications_here
from usufruct.actions.arrivals import (
    ADDED,
    ARRIVING,
    DAMAGED,
    INCOMPLETE,
    LOCKED,
    NEW,
    NEWER,
    OLDER,
    OTHER,
    UNSAFE,
    Seen,
    folders_of,
)
from usufruct.actions.context import Context
from usufruct.actions.download import Download
from usufruct.actions.gathering import is_archive
from usufruct.actions.request import Request
from usufruct.actions.seen_downloads import SeenDownloads, heed
from usufruct.archives.opening import is_arriving, refuse_arriving
from usufruct.archives.reading import Access
from usufruct.archives.split_sets import sets_among
from usufruct.errors import (
    ArchiveError,
    DamagedArchive,
    IncompleteArchive,
    Misnamed,
    PasswordNeeded,
    StillArriving,
    UnsafeArchive,
    UsufructError,
)
from usufruct.files.looking import digest_of
from usufruct.ledger import Ledger
from usufruct.ledger.holdings import all_holdings, all_volumes
from usufruct.model.applications import Application
from usufruct.model.holdings import Holding
from usufruct.planning.competition import verdict_on
from usufruct.planning.names import compared_versions, folded, tidy_name, version_of

_log = logging.getLogger(__name__)
_log.addHandler(logging.NullHandler())
_LARGE_STREAM = 64 << 20
"""Bytes of a compressed tar above which it is not unpacked only to be listed here."""
_STREAMS = (
    ".tar.gz", ".tgz", ".tar.xz", ".txz", ".tar.bz2", ".tbz", ".tbz2", ".tar.zst", ".tzst", ".tar.lz4",
    ".tar.lz", ".tlz", ".tar.z", ".taz", ".cpio.gz", ".rpm",
)  # fmt: skip


class Waiting(Struct, frozen=True, kw_only=True):
    """One download, or one set of several files."""

    path: str
    """Absolute; of a set the first of its files."""
    files: int
    size: int
    """Bytes of all its files."""
    modified: int
    """Nanoseconds since 1970; when the last of them came."""
    format: str
    application: str | None
    """The one it fits, if there is one."""
    state: str
    """`new`, `added`, `newer` or `older` than what was added, `arriving`, `incomplete`, `damaged`, `locked`, `unsafe`,
    `no archive`.
    """
    detail: str = ""
    """What is missing or wrong, or the holding that it is or would update."""
    asks: bool = False
    """It needs an answer before it can be added."""


def waiting(
    context: Context, *, find: str | None = None, app: str | None = None, most: int | None = None
) -> list[Waiting]:
    """Return the newest `most` downloads; `find` is a text in the name, `app` an application's name."""
    return waiting_and_rest(context, find=find, app=app, most=most)[0]


def waiting_and_rest(
    context: Context, *, find: str | None = None, app: str | None = None, most: int | None = None
) -> tuple[list[Waiting], int]:
    """Return the same, and how many older downloads were not looked at."""
    applications = tuple(applications_here(context))
    # Make objects only of those that are looked at: a folder may contain very many.
    folders = [folder for folder in folders_of(context) if folder.is_dir()]
    found = [one for folder in folders for one in _found_in(folder, folded(find or ""))]
    found.sort(key=itemgetter(0), reverse=True)
    known = SeenDownloads(context.paths.data / "downloads.json", applications)
    results: list[Waiting] = []
    rest = 0
    with context.reading() as ledger:
        record = _Record(ledger)
        for number, (modified, folder, names) in enumerate(found, 1):
            group = [folder / name for name in names]
            try:
                one = _standing(group, modified, applications, known, record)
            except FileNotFoundError:
                # A browser has just given it its final name, under which it is seen next time.
                continue
            if app and folded(one.application or "") != folded(app):
                continue
            results.append(one)
            if most is not None and len(results) == most:
                rest = len(found) - number
                break
    known.save()
    return results, rest


def _found_in(folder: Path, wanted: str) -> Iterator[tuple[int, Path, tuple[str, ...]]]:
    """Yield each set of files in a folder: the time of its newest file, the folder, and the names.

    `wanted`: a text, as names are compared, that one of the names contains.
    """
    times: dict[str, int] = {}
    with os.scandir(folder) as entries:
        for entry in entries:
            try:
                if entry.name[:1] != "." and entry.is_file():
                    times[entry.name] = entry.stat().st_mtime_ns
            except OSError:
                # It is being renamed or removed, and is seen next time.
                continue
    for names in sets_among(folder, times):
        if not wanted or any(wanted in folded(name) for name in names):
            yield max(map(times.__getitem__, names)), folder, names


class _Record:
    """What the ledger knows about archives."""

    def __init__(self, ledger: Ledger | None) -> None:
        self._by_place: dict[tuple[str, int], str] = {}
        """Path and size of an archive's file → the holding that came from it."""
        self._by_content: dict[tuple[str, int], str] = {}
        """Digest and size → the same."""
        self._by_name: dict[tuple[str, str], Holding] = {}
        """Tidy name as it is compared, and application → the first holding of an archive that was called so."""
        self.sizes: set[int] = set()
        """Bytes of archives' files."""
        for name, volume in all_volumes(ledger) if ledger else ():
            self._by_place.setdefault((volume.path, volume.size), name)
            self._by_content.setdefault((volume.digest.hex(), volume.size), name)
            self.sizes.add(volume.size)
        for holding in all_holdings(ledger) if ledger else ():
            self._by_name.setdefault((folded(holding.tidy_name), holding.application or ""), holding)

    def holding_of(self, path: str, size: int, digest: str) -> str | None:
        """Return the holding that came from this file: by its path and size, or by its content."""
        return self._by_place.get((path, size)) or self._by_content.get((digest, size))

    def called_so(self, file_name: str, application: str) -> Holding | None:
        """Return a holding whose archive had the same name except for its version."""
        return self._by_name.get((folded(tidy_name(file_name)), application))


def _standing(
    group: Sequence[Path], modified: int, applications: Sequence[Application], known: SeenDownloads, record: _Record
) -> Waiting:
    """Return the state of one download."""
    path = min(group, key=lambda one: (not is_archive(one), one.name)) if len(group) > 1 else group[0]
    size = sum(one.stat().st_size for one in group)
    seen = known.of(path, size, modified)
    if seen is None:
        seen = _identified(path, size, modified, applications, is_alone=len(group) == 1)
        # A download that may still grow is looked at again.
        is_lasting = seen.state not in (ARRIVING, INCOMPLETE, DAMAGED)
    else:
        is_lasting = True
    if seen.state == NEW and not seen.digest and path.stat().st_size in record.sizes:
        seen = replace(seen, digest=digest_of(str(path)).hex())
    if is_lasting:
        known.keep(path, seen)
    state, detail = seen.state, seen.detail
    if state in (NEW, LOCKED, OTHER):
        state, detail = _against_record(path, seen, record)
    return Waiting(
        path=str(path),
        files=len(group),
        size=size,
        modified=modified,
        format=seen.format,
        application=seen.application or None,
        state=state,
        detail=detail,
        asks=state == LOCKED or (state == NEW and (seen.asks or not seen.application)),
    )


def _against_record(path: Path, seen: Seen, record: _Record) -> tuple[str, str]:
    """Whether it was added, or is another version of an added one."""
    if holding := record.holding_of(str(path), path.stat().st_size, seen.digest):
        return ADDED, holding
    if one := record.called_so(path.name, seen.application):
        order = compared_versions(version_of(path.name), one.version)
        return (NEWER if order >= 0 else OLDER), one.name
    return seen.state, seen.detail


def _identified(path: Path, size: int, modified: int, applications: Sequence[Application], *, is_alone: bool) -> Seen:
    """Return what a download is and for which application."""
    seen = Seen(size, modified, state=NEW)
    if path.name.lower().endswith(_STREAMS) and size > _LARGE_STREAM:
        seen.format, seen.detail = path.name.partition(".")[2], "too large to be looked into here"
        return seen
    if is_arriving(path):
        seen.state = ARRIVING
        return seen
    try:
        refuse_arriving(path)
        download = Download([path], Request(applications=tuple(applications), access=Access()), is_alone=is_alone)
    except StillArriving:
        seen.state = ARRIVING
    except PasswordNeeded:
        seen.state = LOCKED
    except Misnamed as error:
        seen.state, seen.detail = OTHER, error.message
    except DamagedArchive as error:
        seen.state = INCOMPLETE if isinstance(error, IncompleteArchive) else DAMAGED
        seen.detail = error.message
    except UnsafeArchive as error:
        seen.state, seen.detail = UNSAFE, error.message
    except (ArchiveError, UsufructError) as error:
        seen.state, seen.detail = DAMAGED, error.message
    except (Exception, MemoryError) as error:  # noqa: BLE001 - one file must not keep all others from being seen
        _log.error("%s", path, exc_info=error)
        seen.state, seen.detail = DAMAGED, f"it cannot be read: {type(error).__name__}"
    else:
        try:
            _fit(seen, download)
        except UsufructError as error:
            seen.state, seen.detail = DAMAGED, error.message
        except (Exception, MemoryError) as error:  # noqa: BLE001 - as above
            _log.error("%s", path, exc_info=error)
            seen.state, seen.detail = DAMAGED, f"it cannot be read: {type(error).__name__}"
        finally:
            download.close()
    return seen


def _fit(seen: Seen, download: Download) -> None:
    seen.format = download.archive.format
    if not len(download.archive.listing) and not download.archive.listing.refused:
        seen.state, seen.detail = OTHER, "it holds nothing"
        return
    if refused := download.archive.listing.refused:
        more = f", and {len(refused) - 1} more entries" if len(refused) > 1 else ""
        seen.state, seen.detail = UNSAFE, f"{refused[0].entry}: {refused[0].reason}{more}"
        return
    if download.archive.facts.locks:
        seen.state = LOCKED
    verdict = verdict_on([variant.layout for variant in download.variants()], download.archive.name)
    heed(seen, download)
    if verdict.layout and verdict.layout.application:
        seen.application = verdict.layout.application.name
        seen.asks = bool(verdict.layout.decisions)
        return
    # A single file of a common type, such as a letter or a photo, is not content for a program.
    if seen.format == "file" and (verdict.decision is None or verdict.decision.is_open):
        seen.state = OTHER


def age_of(one: Waiting) -> float:
    """Return the seconds since it arrived."""
    return max(0.0, time.time() - one.modified / 1e9)
