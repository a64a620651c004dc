"""Damaged members of every method of RAR: `python -m tests.fuzzing.members --count 20000 --seed 3`."""

import argparse
import random
import signal
import sys
import time
from collections.abc import Callable, Iterator
from types import FrameType

from tests.archives.rar_streams import (
    Again,
    Change,
    FirstWriter,
    Match,
    Recent,
    TextWriter,
    filter_code,
    packed2,
    packed3,
    packed5,
    program_of,
    sound2,
    text3,
)
from tests.fuzzing.mutants import by_bytes
from usufruct.archives.bits import PackedFault
from usufruct.archives.rar import lz1, lz2, lz3, lz5
from usufruct.archives.rar.common import RarRefusal
from usufruct.archives.rar.unpacking import Unpacker
from usufruct.files.sources import BytesSource

_DICTIONARY = 1 << 12
_MOST_KEPT = 14 << 20
"""Bytes that a method may keep: the largest fixed dictionary, what is kept besides, and one filter's stretch."""
_SECONDS = 10
_BYTES = b"the moth at the lantern " * 8 + bytes(range(200))
_TOKENS = [*_BYTES, Match(24, 40), Match(190, 9), Recent(1, 12), Again(), *b"screen", Match(300, 100), Match(1, 60)]
_SIZE = 1500


def _among_text() -> bytes:
    writer = TextWriter(8, 1 << 20)
    writer.sign(3, *filter_code(Change(0, 5, 90, program=program_of(29, 0x0E06077D), registers=((0, 3),))))
    writer.put(_BYTES)
    writer.sign(4, 0, 0, 30, 20)
    writer.sign(5, 9)
    writer.put(b"\2 and on")
    writer.sign(2)
    return writer.block()


def _filtered3() -> bytes:
    changes = [
        Change(number, 10 + 50 * number, 45, program=program_of(size, checksum), registers=((0, 3), (1, 1)))
        for number, (size, checksum) in enumerate(
            (
                (53, 0xAD576887),
                (57, 0x3CD7E57E),
                (120, 0x3769893F),
                (29, 0x0E06077D),
                (149, 0x1C2C5DC8),
                (216, 0xBC85E701),
            )
        )
    ]
    changes = [changes[0], *(Change(c.kind + 1, c.after, c.size, 1, c.program, c.registers) for c in changes[1:])]
    return packed3([[*changes, *_TOKENS]])


def _filtered5() -> bytes:
    changes = [Change(kind, 10 + 50 * kind, 45, 3) for kind in range(4)]
    return packed5([[*changes, *_TOKENS], _TOKENS], keeps_codes=True)


METHODS: dict[str, tuple[Callable[[], Unpacker], Callable[[], bytes]]] = {
    "1": (lz1.Unpacker15, lambda: FirstWriter().member([t for t in _TOKENS if isinstance(t, int | Match)])),
    "2": (lz2.Unpacker20, lambda: packed2([_TOKENS, _TOKENS])),
    "2, sound": (lz2.Unpacker20, lambda: sound2([(7 * at) & 0x1F for at in range(_SIZE)], 2)),
    "3": (lz3.Unpacker29, lambda: packed3([_TOKENS, _TOKENS])),
    "3, filters": (lz3.Unpacker29, _filtered3),
    "3, text": (lz3.Unpacker29, lambda: text3(_BYTES * 2)),
    "3, filter among text": (lz3.Unpacker29, _among_text),
    "5": (lambda: lz5.Unpacker50(_DICTIONARY), lambda: packed5([_TOKENS, _TOKENS])),
    "5, filters": (lambda: lz5.Unpacker50(_DICTIONARY), _filtered5),
    "7": (lambda: lz5.Unpacker50(_DICTIONARY, is_far=True), lambda: packed5([_TOKENS], is_far=True)),
}
"""Name → what makes its unpacker, and a sound member."""


class _TooLong(Exception):
    pass


def _stop(_signal: int, _frame: FrameType | None) -> None:
    raise _TooLong


def damaged(seed: int, count: int) -> Iterator[tuple[str, bytes, str]]:
    """Members that end in anything else than content of the stated size, or a fault; with what it was."""
    sound = {name: make() for name, (_, make) in METHODS.items()}
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
            method = METHODS[name][0]()
            given = 0
            # What follows a broken member of a solid stream is asked for as well.
            for _ in range(2):
                try:
                    for block in method.file(BytesSource(packed), size):
                        given += len(block)
                except (PackedFault, RarRefusal):
                    continue
            if given > 2 * size:
                yield name, packed, f"it gives {given} bytes, not {2 * size} at most"
            if len(method.history.out) > _MOST_KEPT:  # type: ignore[attr-defined]
                yield name, packed, "it keeps more than its dictionary"
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
