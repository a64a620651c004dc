"""Looking at archives: what each is and would do. Nothing is changed."""

from collections.abc import Sequence
from itertools import product
from pathlib import Path

from usufruct.actions.examine import Examined, examined
from usufruct.actions.request import Request
from usufruct.actions.surroundings import Surroundings
from usufruct.errors import MachineError, WrongUsage
from usufruct.planning.names import fault_in_name
from usufruct.survey.own import refuse_own


def look_at(surroundings: Surroundings, archives: Sequence[Path], request: Request) -> list[Examined]:
    """What each archive (or all as one) is and would do, for each application named; changes nothing."""
    results = []
    refuse_name(request)
    with surroundings.reading() as ledger:
        for paths, one in product(groups(archives, request), request.each()):
            with examined(paths, one, ledger, for_adding=False, platform=surroundings.platform) as result:
                refuse_ours(surroundings, result)
                results.append(result)
    return results


def refuse_ours(surroundings: Surroundings, found: Examined) -> None:
    """Let an archive that would go where our own files are be refused."""
    if found.plan and not found.error:
        places = surroundings.places
        try:
            refuse_own(found.plan, (str(places.config), str(places.data)))
        except MachineError as error:
            found.error = error


def refuse_name(request: Request) -> None:
    """Raise WrongUsage where the name that is wished for cannot be one."""
    if request.name is not None and (fault := fault_in_name(request.name)):
        raise WrongUsage(f"A holding cannot be called {request.name!r}: {fault}.", remedy="Give it a plain name.")


def groups(archives: Sequence[Path], request: Request) -> Sequence[Sequence[Path]]:
    """What is to become one holding each, or one for each application."""
    return [archives] if request.together else [[path] for path in archives]
