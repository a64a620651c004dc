"""Recording what older versions did not record: on which volumes holdings lie."""

import os

from usufruct.files.paths import is_below
from usufruct.ledger.holdings import enter_places, holdings_without_places
from usufruct.ledger.layers import directories_of_holding
from usufruct.survey.drives import drives_of
from usufruct.transaction.work import Resources


def record_missing_places(resources: Resources) -> None:
    """Record the volumes of holdings that an older version placed, where their files' directories are there.

    Those of a drive that is away wait until it is back: an empty mount point must not be taken for it.
    """
    ledger = resources.ledger
    holdings = holdings_without_places(ledger)
    if not holdings:
        return
    drives = drives_of(ledger, resources.platform.identity_of_volume)
    with ledger.transaction():
        for holding in holdings:
            there = [path for _, path in directories_of_holding(ledger, holding.number) if os.path.isdir(path)]
            bases = {holding.root if is_below(path, holding.root) else path for path in there}
            enter_places(ledger, holding.number, [drives.held(base) for base in sorted(bases) if os.path.isdir(base)])
