"""The questions of several archives, put to a person one after the other."""

from pathlib import Path

from usufruct.actions.adding import Added, add_archives
from usufruct.actions.examine import Examined
from usufruct.actions.surroundings import Surroundings
from usufruct.cli.questions import Answers, is_answerable
from usufruct.cli.reports import add_report
from usufruct.cli.screen import echo


class Asking:
    """Puts the questions of all archives, those of one kind once for all where a person wants that."""

    def __init__(self, around: Surroundings, paths: list[Path], afterwards: str, *, in_full: bool) -> None:
        self._around, self._paths, self._afterwards, self._in_full = around, paths, afterwards, in_full
        self._answers = Answers(around)

    def all(self, results: list[Added]) -> None:
        """Let what can be answered be answered; what became of each takes its place among the results."""
        for number, result in enumerate(results):
            waiting = [one.examined for one in results[number + 1 :] if _waits(one)]
            results[number] = self._one(result, waiting)

    def _one(self, result: Added, others: list[Examined]) -> Added:
        """The archive added after all once a person has answered; as it was if they do not."""
        while _waits(result):
            if len(self._paths) > 1:
                echo()
                for line in add_report(result, in_full=self._in_full, asks=True):
                    echo(line)
            request = self._answers.to(result.examined, others)
            if request is None:
                return result
            again = self._paths if request.together else [Path(result.examined.path)]
            (result,) = add_archives(self._around, again, request, lambda _: None, self._afterwards)
            if not _waits(result):
                for line in add_report(result, in_full=self._in_full):
                    echo(line)
        return result


def _waits(result: Added) -> bool:
    """A person can answer what keeps it from being added."""
    return result.state == "refused" and is_answerable(result.examined)
