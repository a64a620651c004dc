"""List the holdings on record."""

import os
from collections.abc import Iterable, Sequence

from msgspec.structs import replace

from usufruct.actions.context import Context
from usufruct.errors import WrongUsage
from usufruct.ledger import Ledger
from usufruct.ledger.holdings import all_holdings, holding_named
from usufruct.model.holdings import Holding
from usufruct.planning.names import by_number, folded, suggestion
from usufruct.planning.patterns import Patterns
from usufruct.survey.drives import Presence, presences


def list_holdings(context: Context, *, find: str | None = None, sort: str = "name") -> list[Holding]:
    """Return every holding, or those with a text in name, application or archive; by application, then by `sort`.

    `sort` is `name`, `size` (largest first) or `added` (newest first).
    """
    with context.reading() as ledger:
        holdings = with_presence(context, ledger, all_holdings(ledger)) if ledger else []
    if find:
        wanted = folded(find)
        holdings = [one for one in holdings if wanted in folded(_words(one))]
    if sort == "name":
        return sorted(holdings, key=lambda one: (one.application is None, one.application or "", by_number(one.name)))
    key = _by_size if sort == "size" else _by_time
    return sorted(holdings, key=lambda one: (one.application is None, one.application or "", key(one)))


def with_presence(context: Context, ledger: Ledger, holdings: Iterable[Holding]) -> list[Holding]:
    """Return the holdings, those marked of which a drive is not connected."""
    found = presences(ledger, context.identity_of_drive)
    return [replace(one, is_away=True) if found.get(one.number) is Presence.AWAY else one for one in holdings]


def _words(holding: Holding) -> str:
    """Return the texts that a holding is found by; of the archive only its name."""
    return f"{holding.name} {holding.application or ''} {os.path.basename(holding.archive)}"


def _by_size(holding: Holding) -> int:
    return -holding.size


def _by_time(holding: Holding) -> int:
    return -holding.added


def find_holding(ledger: Ledger | None, name: str) -> Holding:
    """Return the holding of this name; WrongUsage lists similar names."""
    holding = holding_named(ledger, name) if ledger else None
    if holding:
        return holding
    known = [other.name for other in all_holdings(ledger)] if ledger else []
    raise WrongUsage(
        f"There is no holding called {name}.",
        remedy=f"{suggestion(name, known)} `usufruct list` shows all." if known else "Nothing was added yet.",
    )


def find_holdings(ledger: Ledger | None, words: Sequence[str], application: str | None = None) -> list[Holding]:
    """Return the holdings that words mean: names, patterns of names, or the archives that they came from; each once.

    If an application is named, only its holdings; without words, all of them. Raises WrongUsage for a word that means
    none.
    """
    every = all_holdings(ledger) if ledger else []
    if application is not None:
        every = [one for one in every if folded(one.application or "") == folded(application)]
        if not every:
            raise WrongUsage(f"There is no holding of {application}.", remedy="`usufruct list` shows what there is.")
    found: dict[int, Holding] = {}
    for word in words:
        meant = [one for one in every if folded(one.name) == folded(word)]
        meant = meant or [one for one in every if os.path.basename(one.archive) == os.path.basename(word)]
        if not meant and any(sign in word for sign in "*?["):
            patterns = Patterns([word])
            meant = [one for one in every if patterns.by_name(one.name)]
        if not meant:
            if application is None:
                find_holding(ledger, word)
            raise WrongUsage(
                f"There is no holding called {word} of {application}.", remedy="`usufruct list` shows what there is."
            )
        found |= {one.number: one for one in meant}
    return list(found.values()) if words else every
