"""Damaged members of RAR 3, which Python unpacks: `python -m tests.fuzzing.members --count 20000 --seed 3`."""

import argparse
import random
import signal
import sys
import time
from collections.abc import Callable, Iterator
from types import FrameType

from tests.archives.rar_packer import (
    Again,
    Change,
    Match,
    Recent,
    TextPacker,
    filter_code,
    packed3,
    program_of,
)
from tests.fuzzing.mutants import by_bytes
from usufruct.archives.bits import PackedFault
from usufruct.archives.rar.common import RarRefusal
from usufruct.archives.rar.matches import Unpacker29
from usufruct.files.sources import BytesSource

_MOST_KEPT = 6 << 20
"""Bytes that a method may keep: what a match reaches back, and what is given at once."""
_SECONDS = 10
_BYTES = b"the moth at the lantern " * 8 + bytes(range(3, 200))
_TOKENS = [*_BYTES, Match(24, 40), Match(190, 9), Recent(1, 12), Again(), *b"screen", Match(250, 100), Match(3, 60)]
_SIZE = 1500
_PROGRAMS = ((0x1D, 0x0E06077D), (0x35, 0xAD576887), (0x39, 0x3CD7E57E), (0x95, 0x1C2C5DC8), (0xD8, 0xBC85E701))


def _among_text() -> bytes:
    packer = TextPacker(8)
    packer.put((2, 3, *filter_code(Change(5, 90, program_of(*_PROGRAMS[0]), ((0, 3),)))))
    packer.text(_BYTES)
    packer.put((2, 4, 0, 0, 30, 20, 2, 5, 9))
    packer.text(b" and on")
    packer.put((2, 2))
    return packer.block()


def _filtered() -> bytes:
    changes = [
        Change(10 + 50 * number, 45, program_of(*program), ((0, 3), (1, 1)), number and number + 1)
        for number, program in enumerate(_PROGRAMS)
    ]
    return packed3([[*changes, *_TOKENS]])


METHODS: dict[str, Callable[[], bytes]] = {
    "matches": lambda: packed3([_TOKENS, _TOKENS], keeps=True),
    "filters": _filtered,
    "text": _among_text,
}
"""Name → a sound member."""


class _TooLong(Exception):
    pass


def _stop(_signal: int, _frame: FrameType | None) -> None:
    raise _TooLong


def damaged(seed: int, count: int) -> Iterator[tuple[str, bytes, str]]:
    """Members that end in anything else than content of the stated size, or a fault; with what it was."""
    sound = {name: make() for name, make in METHODS.items()}
    signal.signal(signal.SIGVTALRM, _stop)
    for number in range(count):
        chance = random.Random(seed * 1_000_003 + number)
        name = chance.choice(list(METHODS))
        packed = by_bytes(sound[name], chance)
        if chance.random() < 0.05:
            packed = sound[name][:7] + chance.randbytes(len(sound[name]))
        size = chance.choice((_SIZE, len(_BYTES), 100_000, 1))
        signal.setitimer(signal.ITIMER_VIRTUAL, _SECONDS)
        try:
            method = Unpacker29()
            given = 0
            # What follows a broken member of a solid stream is asked for as well.
            for _ in range(2):
                try:
                    for block in method.file(BytesSource(packed), size):
                        given += len(block)
                except (PackedFault, RarRefusal):
                    continue
            if given > 2 * size + 600:
                yield name, packed, f"it gives {given} bytes, not {2 * size} at most"
            if len(method._out) > _MOST_KEPT:
                yield name, packed, "it keeps more than a match reaches"
        except Exception as error:  # noqa: BLE001 - this is what is looked for
            yield name, packed, f"{type(error).__name__}: {error}"
        finally:
            signal.setitimer(signal.ITIMER_VIRTUAL, 0)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seed", type=int, default=0)
    parser.add_argument("--count", type=int, default=20_000)
    words = parser.parse_args()
    begin = time.monotonic()
    failed = 0
    for name, packed, fault in damaged(words.seed, words.count):
        failed += 1
        sys.stdout.write(f"{name}: {fault}\n  {packed.hex()}\n")
    took = time.monotonic() - begin
    sys.stdout.write(f"{words.count:,} damaged members, seed {words.seed}: {failed} failed, {took:.0f} s\n")
    raise SystemExit(bool(failed))


if __name__ == "__main__":
    main()
