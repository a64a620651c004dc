"""Ending a process at a named point of a change, as a kill would."""

import os
import traceback
from collections.abc import Callable

from tests.support import World

_KILLED = 77


def killed_at(world: World, action: Callable[[], object], number: int, point: str = "") -> str | None:
    """Run an action in a child that dies at its checkpoint of this number; its name, None if it has fewer.

    `point`: only checkpoints of this name count.

    Raises AssertionError if the child fails in another way.
    """
    reading, writing = os.pipe()
    child = os.fork()
    if not child:
        seen = 0

        def checkpoint(name: str) -> None:
            nonlocal seen
            if point and name != point:
                return
            if seen == number:
                os.write(writing, name.encode())
                os._exit(_KILLED)
            seen += 1

        world.checkpoint = checkpoint
        try:
            action()
        except BaseException:  # noqa: BLE001 - a child must end here, whatever happened
            traceback.print_exc()
            os._exit(1)
        os._exit(0)
    os.close(writing)
    _, status = os.waitpid(child, 0)
    with os.fdopen(reading, "rb") as pipe:
        name = pipe.read().decode()
    code = os.waitstatus_to_exitcode(status)
    if code not in (0, _KILLED):
        raise AssertionError("the child failed in another way")
    return name if code == _KILLED else None
