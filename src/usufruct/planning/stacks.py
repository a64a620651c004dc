"""Rules of layers: what putting one on top of a stack or taking one out of it means."""

from msgspec import Struct

from usufruct.model.plan import Detach, Leave, RemovalStep
from usufruct.model.records import FileKind, FileState, Layer


class Laid(Struct, frozen=True):
    """What putting a layer of a holding on a stack changes in the ledger."""

    layers: tuple[Layer, ...]
    """To be entered: perhaps the user's own, then the holding's."""
    covered: tuple[int, ...]
    """Levels on record whose bytes go to the backups now."""
    is_shared: bool
    """The content is on disk already: nothing is written there."""

    @property
    def backs_up(self) -> bool:
        """Bytes that are on disk now must be kept."""
        return bool(self.covered) or any(layer.is_backed for layer in self.layers)


def is_unchanged(layer: Layer, disk: FileState) -> bool:
    """Whether the disk still has what the layer put there: the very same file, or the same content."""
    return layer.state.is_same_file(disk) or layer.state.has_same_content(disk)


def laid_on(
    stack: tuple[Layer, ...],
    disk: FileState,
    holding: int,
    state: FileState,
    entry: str,
    *,
    at_least: int | None = None,
) -> Laid:
    """Return what placing a holding's file on top of a stack means; `disk` and `state` have digests.

    `at_least` is the level that the file had there before: layers that were below it may come back and need room. On
    top of another holding's file with the same content, it gets its own time and mode again.
    """
    level = stack[-1].level + 1 if stack else 0
    comes_back = at_least is not None and bool(stack) and is_unchanged(stack[-1], disk)
    is_shared = disk.is_alike(state) if comes_back else disk.has_same_content(state)
    is_shared = is_shared or disk.kind is state.kind is FileKind.DIRECTORY
    # Also if both are equal: they share the file on disk, and deleting it must not lose the lower one.
    needs_backup = disk.kind is FileKind.FILE
    layers = []
    covered: tuple[int, ...] = ()
    if stack and is_unchanged(stack[-1], disk):
        covered = (stack[-1].level,) if needs_backup else ()
    elif stack or disk.kind is not FileKind.ABSENT:
        # The user's own: a file that was there before, or a placed file that was changed since.
        layers.append(Layer(level, None, disk, is_backed=needs_backup))
        level += 1
    layers.append(
        Layer(max(level, at_least or 1), holding, disk._replace(digest=state.digest) if is_shared else state, entry)
    )
    return Laid(tuple(layers), covered, is_shared)


class Renewal(Struct, frozen=True):
    """What replacing the content of a layer means."""

    layer: Layer
    """To be entered, at the level of the one that goes."""
    documented: Layer | None
    """A layer that must be entered first so that the ledger tells what is on disk."""
    is_on_top: bool
    """What is on disk changes with it."""
    is_same: bool
    """The content is what it was."""


def renewal(
    stack: tuple[Layer, ...], level: int, disk: FileState, holding: int, state: FileState, entry: str
) -> Renewal:
    """Return what replacing a layer's content means; `state` has a digest.

    Layers above it stay above it. If it is the top layer, the file on disk is replaced; a file that the user deleted
    comes back.
    """
    index = next(number for number, layer in enumerate(stack) if layer.level == level)
    mine, above = stack[index], stack[index + 1 :]
    is_on_top = not above
    is_there = is_on_top and is_unchanged(mine, disk)
    is_same = mine.state.has_same_content(state) and (is_there or not is_on_top)
    if is_same:
        return Renewal(mine._replace(holding=holding, entry=entry), None, is_on_top, True)
    documented = Layer(level + 1, None, disk) if is_on_top and not is_there else None
    is_backed = not is_on_top and state.kind is FileKind.FILE
    return Renewal(Layer(level, holding, state, entry, is_backed), documented, is_on_top, False)


def out_of(
    stack: tuple[Layer, ...],
    holding: int,
    directory: int,
    name: str,
    disk: FileState,
    *,
    gives_back_changed: bool = False,
) -> RemovalStep:
    """Return what taking a holding out of a destination's stack means.

    A file that the user has changed stays, unless `gives_back_changed`; a file that the user deleted counts as
    unchanged. `disk` needs a digest only if `needs_digest` says so, or with `gives_back_changed`.
    """
    index = next(number for number, layer in enumerate(stack) if layer.holding == holding)
    mine, above = stack[index], stack[index + 1 :]
    if above and above[0].holding is None:
        if above[0].state.kind is not FileKind.ABSENT and not gives_back_changed:
            return Leave(directory, name, above[0].state)
        return Detach(directory, name, (mine.level, above[0].level), disk, None, None, changes_disk=False)
    if above:
        return Detach(directory, name, (mine.level,), disk, None, None, changes_disk=False)
    documented = None
    if not is_unchanged(mine, disk):
        if disk.kind is not FileKind.ABSENT and not gives_back_changed:
            return Leave(directory, name, disk)
        documented = Layer(mine.level + 1, None, disk)
    beneath = stack[index - 1] if index else None
    now = disk if documented else mine.state
    is_as_before = beneath is not None and beneath.state.is_alike(now)
    nothing_to_do = (beneath is None and now.kind is FileKind.ABSENT) or is_as_before
    return Detach(directory, name, (mine.level,), disk, documented, beneath, changes_disk=not nothing_to_do)


def needs_digest(stack: tuple[Layer, ...], holding: int, disk: FileState) -> bool:
    """Whether only the content of `disk` can tell if the holding's file was changed."""
    top = stack[-1]
    return (
        top.holding == holding
        and disk.kind is FileKind.FILE
        and top.state.kind is FileKind.FILE
        and top.state.size == disk.size
        and not top.state.is_same_file(disk)
    )
