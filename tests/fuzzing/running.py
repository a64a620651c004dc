"""Mutants through the readers and the whole way, in a process of its own under limits; bombs through the program."""

import multiprocessing
import os
import random
import resource
import shutil
import signal
import tempfile
import traceback
from collections.abc import Iterable, Iterator, Sequence, Set
from multiprocessing.connection import Connection
from pathlib import Path
from types import FrameType

from msgspec.structs import replace

from tests.archives.case import OLD
from tests.fuzzing.bombs import BOMBS
from tests.fuzzing.limits import Ended, ended
from tests.fuzzing.mutants import PASSWORD, SEEDS, mutant, seed_of
from tests.support import World
from usufruct.actions.adding import add_archives
from usufruct.actions.demonstration import differences, tree_of
from usufruct.actions.removing import remove_holdings
from usufruct.actions.request import Request
from usufruct.archives.opening import open_archive
from usufruct.archives.passwords import Passwords
from usufruct.archives.reading import Access, digests_of
from usufruct.errors import UsufructError
from usufruct.model.choices import Choices
from usufruct.model.entries import EntryKind

Found = tuple[str, bytes, str]
"""A name for the input, the input, and what is wrong."""
_SECONDS = 5
"""Of processor time for one mutant of a few kilobytes."""
_MEMORY = 2 << 30
_WHOLE_WAY = 25
"""Every so many mutants are added and removed as well."""


class Fault(AssertionError):
    """It ended in something else than content or a clear error."""


def access() -> Access:
    return Access(passwords=Passwords((PASSWORD,), given=True))


def read_all(path: Path, right: Set[bytes] | None = None) -> bool:
    """List and read an archive; whether that went well. A clear error is fine, anything else is raised.

    `right`: digests of all that may come out of it.
    """
    try:
        archive = open_archive(path, access(), is_alone=True)
        try:
            for entry in archive.listing:
                if entry.path.startswith("/") or ".." in entry.path.split("/") or "\0" in entry.path:
                    raise Fault(f"it lists {entry.path!r}")
            archive.unlock()
            rows = [row for row, kind in enumerate(archive.listing.kinds) if kind == EntryKind.FILE]
            digests = digests_of(archive, rows)
            if right is not None and not right.issuperset(digests.values()):
                raise Fault("it reads what was never packed")
        finally:
            archive.close()
    except UsufructError as error:
        if not (error.message and error.remedy):
            raise Fault(f"it says too little: {error!r}") from error
        return False
    return True


def go_the_whole_way(world: World, path: Path) -> None:
    """Add an archive and take it out again: the folder is as before, whatever came of it."""
    apps = world.folder / "apps"
    before = tree_of(apps)
    request = Request(applications=world.applications, access=access(), takes_safe=True)
    skipping = replace(request, to=str(apps), applications=(), choices=Choices(skip_unsafe=True))
    for one in (request, skipping):
        for added in add_archives(world.context, [path], one, lambda _: None):
            if added.placed:
                remove_holdings(world.context, [added.examined.name], lambda _: None)
    if found := differences(before, tree_of(apps)):
        raise Fault(f"it is not as before: {found[:3]}")


def mutants(seed: int, count: int, kinds: Sequence[str] = tuple(SEEDS)) -> list[Found]:
    """What is wrong with mutants, by seed. A process that dies or hangs is told with the mutant it was at."""
    found: list[Found] = []
    first = 0
    for kind in kinds:
        seed_of(kind)
    while first < count:
        ours, theirs = multiprocessing.Pipe(duplex=False)
        worker = multiprocessing.get_context("fork").Process(target=_work, args=(theirs, seed, first, count, kinds))
        worker.start()
        theirs.close()
        at = first
        try:
            while True:
                at, fault = ours.recv()
                if fault:
                    found.append((*_mutant(seed, at, kinds), fault))
        except EOFError:
            worker.join()
        if worker.exitcode == 0:
            return found
        found.append((*_mutant(seed, at, kinds), f"its process ended with {worker.exitcode}"))
        first = at + 1
    return found


def _mutant(seed: int, number: int, kinds: Sequence[str]) -> tuple[str, bytes]:
    kind = kinds[number % len(kinds)]
    name = f"{kind.replace(', ', '-').replace(' ', '-')}-{seed}-{number}"
    return name, mutant(kind, random.Random(f"{seed} {number}")).content


def _work(out: Connection, seed: int, first: int, count: int, kinds: Sequence[str]) -> None:
    resource.setrlimit(resource.RLIMIT_AS, (_MEMORY, _MEMORY))
    resource.setrlimit(resource.RLIMIT_FSIZE, (_MEMORY, _MEMORY))
    signal.signal(signal.SIGPROF, _too_long)
    folder = Path(tempfile.mkdtemp(prefix="usufruct-fuzzing-"))
    try:
        world = World(folder)
        path = world.folder / "downloads" / "mutant"
        for number in range(first, count):
            out.send((number, ""))
            kind = kinds[number % len(kinds)]
            made = mutant(kind, random.Random(f"{seed} {number}"))
            path.write_bytes(made.content)
            os.utime(path, (OLD, OLD))
            signal.setitimer(signal.ITIMER_PROF, _SECONDS)
            try:
                read_all(path, made.right)
                if number % _WHOLE_WAY == 0:
                    go_the_whole_way(world, path)
            except BaseException as error:  # noqa: BLE001 - whatever it is, it is what is looked for
                lines = traceback.format_exception(error)
                out.send((number, f"{lines[-1].strip()} <- {lines[-2].strip()}"))
            finally:
                signal.setitimer(signal.ITIMER_PROF, 0)
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def _too_long(_number: int, _frame: FrameType | None) -> None:
    raise Fault(f"it takes more than {_SECONDS} s")


def bombs(names: Iterable[str] = BOMBS) -> Iterator[tuple[str, Ended]]:
    """Each of these files looked at, and then listed among the downloads."""
    for name in names:
        folder = Path(tempfile.mkdtemp(prefix="usufruct-fuzzing-"))
        try:
            downloads = folder / "downloads"
            downloads.mkdir()
            (folder / "settings.toml").write_text(f'downloads = "{downloads}"\n', encoding="utf-8")
            file = downloads / name
            file.write_bytes(BOMBS[name]())
            looked = ended(["look", str(file)], folder)
            yield name, looked if looked.fault else ended(["downloads", "--all"], folder)
        finally:
            shutil.rmtree(folder)
