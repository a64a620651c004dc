"""What was done, by command: everything that one command did is one step."""

from msgspec import Struct, field

from usufruct.actions.context import Context
from usufruct.ledger import Ledger
from usufruct.ledger.changes import changes_done, commands_done
from usufruct.model.changes import Change, ChangeKind

REVERSIBLE = frozenset((ChangeKind.ADD, ChangeKind.REMOVE, ChangeKind.UPDATE))


class Step(Struct):
    """What one command did."""

    changes: list[Change]
    """In the order in which they were made."""
    chains: dict[int, list[Change]] = field(default_factory=dict)
    """Change → those that undid and redid it since, in their order."""

    @property
    def number(self) -> int:
        """The number that it is called by."""
        return self.changes[0].number

    def is_change_undone(self, change: Change) -> bool:
        """Whether an odd number of undos and redos came after it."""
        return len(self.chains.get(change.number, ())) % 2 == 1

    def latest(self, change: Change) -> Change:
        """The change that made things as they are: the last one that undid or redid it, or itself."""
        return (self.chains.get(change.number) or [change])[-1]

    @property
    def reversible(self) -> list[Change]:
        """Those of its changes that can be undone."""
        return [change for change in self.changes if change.kind in REVERSIBLE]

    @property
    def done(self) -> list[Change]:
        """Those of its changes that could be undone now, the newest first."""
        return [change for change in reversed(self.reversible) if not self.is_change_undone(change)]

    @property
    def is_undone(self) -> bool:
        """Whether all of it was undone."""
        return bool(self.reversible) and not self.done


def history(context: Context, most: int | None = None) -> tuple[list[Step], int]:
    """Return the newest `most` steps, newest first, and how many there were before them."""
    with context.reading() as ledger:
        if ledger is None:
            return [], 0
        since, earlier = commands_done(ledger, most) if most is not None else (0, 0)
        return steps_of(ledger, since), earlier


def steps_of(ledger: Ledger, since: int = 0) -> list[Step]:
    """Return the steps from a change on that began a step, newest first."""
    steps: dict[int, Step] = {}
    of_root: dict[int, Step] = {}
    for change in reversed(changes_done(ledger, since)):
        if not change.root:
            of_root[change.number] = step = steps.setdefault(change.command, Step([]))
            step.changes.append(change)
        elif change.root in of_root:
            of_root[change.root].chains.setdefault(change.root, []).append(change)
    return sorted(steps.values(), key=lambda step: -step.number)
