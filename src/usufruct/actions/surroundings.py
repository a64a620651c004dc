"""What every action works in: Usufruct's own places, the system, the clock."""

import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from usufruct.files.state_places import StatePlaces
from usufruct.ledger import Ledger, read_ledger
from usufruct.model.progress import Watch, unwatched

if TYPE_CHECKING:
    from usufruct.files.platform import Platform
    from usufruct.model.changes import Change
    from usufruct.model.settings import Settings
    from usufruct.transaction.work import Edges

Recovered = list[tuple["Change", list[str]]]
"""Changes that were cut off and have been reversed, each with the paths left because somebody else changed them."""


def ignore_recovery(recovered: Recovered) -> None:
    """Tell nobody."""


@dataclass(frozen=True, slots=True)
class Surroundings:
    """The outside, handed to every action."""

    places: StatePlaces = field(default_factory=StatePlaces.found)
    platform: "Platform | None" = None
    """None: the one Usufruct runs on."""
    now: Callable[[], int] = time.time_ns
    """Nanoseconds since 1970 UTC."""
    checkpoint: Callable[[str], None] | None = None
    watch: Watch = unwatched
    """Told how far changes have come."""
    on_recovery: Callable[[Recovered], None] = ignore_recovery
    """Told, before a writing command does its work, what it had to put right first."""

    def settings(self) -> "Settings":
        """What the user has set; read when it is needed."""
        from usufruct.definitions.settings import load_settings

        return load_settings(self.places.settings)

    @contextmanager
    def reading(self) -> Iterator[Ledger | None]:
        """The ledger for reading; None where nothing was ever recorded."""
        with read_ledger(self.places.ledger) as ledger:
            yield ledger

    @contextmanager
    def writing(self, doing: str) -> Iterator["Edges"]:
        """The right to change things, once what was cut off before is put right."""
        # Only here: commands that read the ledger start without all that is needed to change anything.
        from usufruct.backups import Backups
        from usufruct.files.locking import only_writer
        from usufruct.files.platform import this_platform
        from usufruct.ledger import open_ledger
        from usufruct.ledger.changes import is_tidy
        from usufruct.transaction.recover import recover
        from usufruct.transaction.work import Edges, no_checkpoint

        platform = self.platform or this_platform()

        with only_writer(self.places.lock, doing, self.settings().patience), open_ledger(self.places.ledger) as ledger:
            edges = Edges(
                ledger=ledger,
                backups=Backups(self.places.backups, platform),
                notes=str(self.places.notes),
                platform=platform,
                now=self.now,
                watch=self.watch,
                checkpoint=self.checkpoint or no_checkpoint,
            )
            if not is_tidy(ledger):
                recovered = recover(edges)
                if recovered:
                    self.on_recovery(recovered)
            yield edges
