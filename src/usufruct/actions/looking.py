"""Look at archives: what each is and would do. Nothing is changed."""

from collections.abc import Iterator, Sequence
from itertools import product
from pathlib import Path

from usufruct.actions.context import Context
from usufruct.actions.examine import examined
from usufruct.actions.outcomes import Examined
from usufruct.actions.request import Request
from usufruct.errors import WrongUsage
from usufruct.planning.names import fault_in_name


def look_at(context: Context, archives: Sequence[Path], request: Request) -> Iterator[Examined]:
    """Yield what each archive (or all as one) is and would do, for each named application; nothing is changed.

    Each is closed before the next is opened: many together would fill the memory.
    """
    refuse_name(request)
    with context.reading() as ledger:
        for paths, one in product(groups(archives, request), request.each()):
            with examined(context, paths, one, ledger, for_adding=False) as result:
                yield result


def refuse_name(request: Request) -> None:
    """Raise WrongUsage if the wanted name cannot be the name of a holding."""
    if request.name is not None and (fault := fault_in_name(request.name)):
        raise WrongUsage(f"A holding cannot be called {request.name!r}: {fault}.", remedy="Give it a plain name.")


def groups(archives: Sequence[Path], request: Request) -> Sequence[Sequence[Path]]:
    """Return the archives and requests that become one holding each; several for several applications."""
    return [archives] if request.together else [[path] for path in archives]
