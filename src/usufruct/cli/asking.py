"""Ask a person the questions of several archives, one after the other."""

from pathlib import Path

from usufruct.actions.adding import Added, add_archives
from usufruct.actions.context import Context
from usufruct.actions.outcomes import Asked
from usufruct.actions.request import Request
from usufruct.cli.questions import Answers, is_answerable, is_locked
from usufruct.cli.reports import add_report
from usufruct.cli.screen import echo


class Asking:
    """Asks the questions of all archives; a person may answer all questions of a kind at once."""

    def __init__(self, context: Context, paths: list[Path], afterwards: str, *, in_full: bool) -> None:
        self._context, self._paths, self._afterwards, self._in_full = context, paths, afterwards, in_full
        self._are_many = len(paths) > 1
        self._answers = Answers(context)

    def all(self, results: list[Added]) -> None:
        """Ask what can be answered; the new results replace the old ones."""
        for number, result in enumerate(results):
            waiting = [one.examined for one in results[number + 1 :] if is_answerable(one.examined)]
            results[number] = self._one(result, waiting)

    def _one(self, result: Added, others: list[Asked]) -> Added:
        """Return the result of adding the archive with the answers; the old one if the person does not answer."""
        if is_locked(result.examined) and self._are_many and not result.examined.request.together:
            result = self._again(result.examined, result.examined.request)
            if not is_answerable(result.examined):
                return self._told(result)
        while is_answerable(asked := result.examined) and not self._answers.pass_over(asked):
            if self._are_many:
                echo()
                for line in add_report(result, in_full=self._in_full, asks=True):
                    echo(line)
            request = self._answers.to(asked, others)
            if request is None:
                return result
            result = self._again(asked, request)
            if not is_answerable(result.examined):
                self._told(result)
        return result

    def _again(self, asked: Asked, request: Request) -> Added:
        paths = self._paths if request.together else [Path(asked.path)]
        (result,) = add_archives(self._context, paths, request, lambda _: None, self._afterwards)
        return result

    def _told(self, result: Added) -> Added:
        for line in add_report(result, in_full=self._in_full):
            echo(line)
        return result
