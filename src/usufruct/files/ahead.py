"""Produce things in other threads, a few ahead of the consumer. Unpacking and writing release the interpreter."""

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
    """Nobody takes items any more, so the producer ends."""


class _Failure:
    """The error raised while the next item was made."""

    def __init__(self, error: BaseException) -> None:
        self.error = error


class Pump:
    """Threads that produce items ahead of the consumer. A context manager: all threads have ended when it exits."""

    def __init__(self, makers: Sequence[Callable[[HandOver], None]], count: int) -> None:
        """Call each of `makers` in its own thread with a function that hands over an item; at most `count` wait."""
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
        """Whether the consumer has stopped."""
        return self._is_over.is_set()

    def take(self, timeout: float | None = None) -> Any:
        """Return the next item; NOTHING if none came within so many seconds, END when all threads have ended.

        Raises what a thread raised.
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
    """Yield the same items, at most `count` of them made in advance; raises what making them raises.

    The thread has ended when this generator is exhausted or closed.
    """
    with Pump([partial(_hand_all, items)], count) as pump:
        while (item := pump.take()) is not END:
            yield item


def _hand_all(items: Iterable[Any], hand_over: HandOver) -> None:
    for item in items:
        hand_over(item)
