"""Passwords that may open an archive: known ones first, then the user's answers."""

from collections.abc import Callable, Iterator
from contextlib import contextmanager

from usufruct.errors import PasswordNeeded, WrongPassword

TRIES = 3
"""How often a person is asked for one archive."""


class Passwords:
    """Supplies passwords; remembers those that opened something, for the next archive."""

    def __init__(
        self, known: tuple[str, ...] = (), ask: Callable[[str, int], str | None] | None = None, *, given: bool = False
    ) -> None:
        self._known = list(known)
        self._ask = ask
        self.were_given = given
        """The user gave passwords for this very command, so that one that does not fit is wrong."""

    def first_fitting(self, name: str, fits: Callable[[str], bool], what: str = "") -> str:
        """Return the first password that fits the archive with this name.

        Raises PasswordNeeded if there is none and nobody answers, WrongPassword if none fits. `what` says what is
        locked, if not the whole archive.
        """
        tried = 0
        known = len(self._known)
        for password in self._candidates(name):
            tried += 1
            if fits(password):
                if password in self._known:
                    self._known.remove(password)
                self._known.insert(0, password)
                return password
        locked = what or name
        if tried and (self.were_given or tried > known):
            raise WrongPassword(
                f"The password for {locked} is wrong." if tried == 1 else f"None of {tried} passwords opens {locked}.",
                remedy="Give the right one, at the prompt or with --password-file.",
            )
        raise PasswordNeeded(
            f"{locked} is locked with a password.",
            remedy="Put the password into a file and name it with --password-file, or run the command at a terminal.",
        )

    @contextmanager
    def known_only(self, is_wanted: bool = True) -> Iterator[None]:
        """Do not ask the user inside the block: show what can be shown without the password."""
        ask, self._ask = self._ask, None if is_wanted else self._ask
        try:
            yield
        finally:
            self._ask = ask

    def _candidates(self, name: str) -> Iterator[str]:
        yield from list(self._known)
        if self._ask:
            for attempt in range(1, TRIES + 1):
                answer = self._ask(name, attempt)
                if answer is None:
                    return
                yield answer
