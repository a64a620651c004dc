"""Making things in other threads, a few ahead of who uses them: unpacking and writing let other threads run."""

import queue
import threading
from collections.abc import Callable, Generator, Iterable, Sequence
from contextlib import suppress
from functools import partial
from typing import Any, Self, TypeVar

_Item = TypeVar("_Item")
HandOver = Callable[[Any], None]
"""Hands one item over; raises Stopped once nobody takes any more."""
NOTHING, END = object(), object()
"""What `Pump.take` gives where nothing came in time, and where nothing will come any more."""
_MOMENT = 0.1
"""Seconds after which it is looked whether anybody still waits."""


class Stopped(Exception):
    """Nobody takes any more: whoever makes things ends."""


class _Failure:
    """What making the next one raised."""

    def __init__(self, error: BaseException) -> None:
        self.error = error


class Pump:
    """Threads that make things ahead of who takes them. For `with`, at whose end all of them have ended."""

    def __init__(self, makers: Sequence[Callable[[HandOver], None]], count: int) -> None:
        """Each of the `makers` is called in a thread of its own, with what hands an item over; at most `count` wait."""
        self._made: queue.Queue[Any] = queue.Queue(count)
        self._is_over = threading.Event()
        self._threads = [threading.Thread(target=self._run, args=[maker], name="pump", daemon=True) for maker in makers]
        self._running = len(self._threads)

    def __enter__(self) -> Self:
        for thread in self._threads:
            thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._is_over.set()
        for thread in self._threads:
            thread.join()

    @property
    def is_over(self) -> bool:
        """Nobody takes any more."""
        return self._is_over.is_set()

    def take(self, timeout: float | None = None) -> Any:
        """The next item; NOTHING where none came within so many seconds, END once all threads have ended.

        Raises what one of them raised.
        """
        while self._running:
            try:
                found = self._made.get(timeout=timeout) if timeout != 0 else self._made.get_nowait()
            except queue.Empty:
                return NOTHING
            if isinstance(found, _Failure):
                raise found.error
            if found is not END:
                return found
            self._running -= 1
        return END

    def _run(self, maker: Callable[[HandOver], None]) -> None:
        last: object = END
        try:
            maker(self._hand_over)
        except Stopped:
            return
        except BaseException as error:  # noqa: BLE001 - handed to the thread that waits
            last = _Failure(error)
        with suppress(Stopped):
            self._hand_over(last)

    def _hand_over(self, item: object) -> None:
        while not self._is_over.is_set():
            try:
                self._made.put(item, timeout=_MOMENT)
            except queue.Full:
                continue
            return
        raise Stopped


def ahead(items: Iterable[_Item], count: int) -> Generator[_Item, None, None]:
    """The same items, at most `count` of them made before they are asked for; raises what making them raises.

    The thread has ended when this is at its end or closed.
    """
    with Pump([partial(_hand_all, items)], count) as pump:
        while (item := pump.take()) is not END:
            yield item


def _hand_all(items: Iterable[Any], hand_over: HandOver) -> None:
    for item in items:
        hand_over(item)
