"""Making things in a thread of its own, a few ahead of who uses them: unpacking and writing let other threads run."""

import queue
import threading
from collections.abc import Generator, Iterable
from typing import Any, TypeVar

_Item = TypeVar("_Item")
_END = object()
_MOMENT = 0.1
"""Seconds after which it is looked whether anybody still waits."""


class _Failure:
    """What making the next one raised."""

    def __init__(self, error: BaseException) -> None:
        self.error = error


def ahead(items: Iterable[_Item], count: int) -> Generator[_Item, None, None]:
    """The same items, at most `count` of them made before they are asked for; raises what making them raises.

    The thread has ended when this is at its end or closed.
    """
    made: queue.Queue[Any] = queue.Queue(count)
    is_over = threading.Event()

    def hand_over(item: object) -> None:
        while not is_over.is_set():
            try:
                made.put(item, timeout=_MOMENT)
            except queue.Full:
                continue
            return

    def work() -> None:
        last: object = _END
        try:
            for item in items:
                hand_over(item)
                if is_over.is_set():
                    return
        except BaseException as error:  # noqa: BLE001 - handed to the thread that waits
            last = _Failure(error)
        hand_over(last)

    thread = threading.Thread(target=work, name="ahead", daemon=True)
    thread.start()
    try:
        while (item := made.get()) is not _END:
            if isinstance(item, _Failure):
                raise item.error
            yield item
    finally:
        is_over.set()
        thread.join()
