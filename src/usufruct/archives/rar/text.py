"""The text model of RAR 3: PPMd variant H with a range coder.

Source: PPMd variant H by Dmitry Shkarin, in the public domain; as in libarchive (archive_ppmd7.c).

The packer restarts its model when its memory is full, at a moment that depends on where it had put each piece. That
moment is not computed here: a text whose model may have reached it is refused.
"""

from collections.abc import Callable
from typing import Protocol

from usufruct.archives.bits import PackedFault
from usufruct.archives.rar.common import RarRefusal

_MOST = 124
"""A frequency beyond which all of a context are halved."""
_UNIT = 12
"""Bytes of the packer's memory that a context takes, or two of its symbols."""
_SCALE_BITS, _PERIOD_BITS = 14, 7
_SCALE = 1 << _SCALE_BITS
_WORD = 0xFFFF_FFFF
_TOP, _BOTTOM = 1 << 24, 1 << 15
_FIRST_ESCAPES = (0x3CDD, 0x1F3F, 0x59BF, 0x48F3, 0x64A1, 0x5ABC, 0x6632, 0x6051)
_LATER_ESCAPES = (25, 14, 9, 7, 5, 5, 4, 4, 4, 3, 3, 3, 2, 2, 2, 2)


def _class_sizes() -> list[int]:
    """Return the block sizes of the packer's memory in units: steps of 1, 2, 3 and then 4."""
    given: list[int] = [0]
    for step in [1] * 4 + [2] * 4 + [3] * 4 + [4] * 26:
        given += [len(given) + step - 1] * step
    return given


_GIVEN = _class_sizes()


def _classes_of_rest() -> list[int]:
    """Return for each number of remaining symbols its row of estimates; finer for few."""
    rows = [0, 1, 2]
    row, left = 3, 1
    while len(rows) < 256:
        rows.append(row)
        left -= 1
        if not left:
            row += 1
            left = row - 2
    return rows


_REST = _classes_of_rest()
_FEW = [0, 2, *[4] * 9, *[6] * 245]
"""For each number of symbols less one, a part of the place of an estimate."""


class _State:
    """A symbol in a context, with its count and the context that follows."""

    __slots__ = ("count", "next", "symbol")

    def __init__(self, symbol: int, count: int, following: "_TextContext | int | None") -> None:
        self.symbol, self.count = symbol, count
        self.next = following
        """The context that it leads to, a place in the text behind it as long as there is none, or None."""


class _TextContext:
    """The symbols that followed the same few symbols."""

    __slots__ = ("shorter", "states", "total")

    def __init__(self, states: list[_State], shorter: "_TextContext | None") -> None:
        self.states = states
        self.shorter = shorter
        self.total = 0
        """Of the counts and of what is left for a symbol that did not come yet; means nothing for one state."""

    def state(self, symbol: int) -> _State:
        for state in self.states:
            if state.symbol == symbol:
                return state
        raise PackedFault("its text model does not hold together")


class _Estimate:
    """The probability that a symbol is none of the remaining ones of a context."""

    __slots__ = ("count", "shift", "sum")

    def __init__(self, begin: int) -> None:
        self.shift = _PERIOD_BITS - 4
        self.sum = begin << self.shift
        self.count = 4


class SymbolCoder(Protocol):
    """Gives the model the position of the next symbol in a range."""

    def threshold(self, total: int) -> int:
        """The place within `total` parts."""
        ...

    def narrow(self, start: int, size: int) -> None:
        """Go on within these parts of the total asked for last."""
        ...


class RangeDecoder:
    """Decodes positions from packed bytes."""

    __slots__ = ("_byte", "_code", "_low", "_range")

    def __init__(self, byte: Callable[[], int]) -> None:
        """`byte` gives the next packed byte."""
        self._byte = byte
        self._low, self._range = 0, _WORD
        self._code = 0
        for _ in range(4):
            self._code = self._code << 8 | byte()

    def threshold(self, total: int) -> int:
        """See `SymbolCoder`."""
        self._range //= total
        if not self._range:
            raise PackedFault("its text model does not hold together")
        return (self._code - self._low & _WORD) // self._range

    def narrow(self, start: int, size: int) -> None:
        """See `SymbolCoder`."""
        low, width = self._low + start * self._range & _WORD, self._range * size
        while True:
            if (low ^ low + width) & _WORD >= _TOP:
                if width >= _BOTTOM:
                    break
                width = -low & _BOTTOM - 1
            self._code = (self._code << 8 | self._byte()) & _WORD
            width = width << 8 & _WORD
            low = low << 8 & _WORD
        self._low, self._range = low, width


class TextModel:
    """Predicts symbols one after the other, and learns from each."""

    def __init__(self, order: int, memory: int) -> None:
        """`order` is the length of the longest context, `memory` what the packer's model had, in bytes."""
        self.coder: SymbolCoder | None = None
        """Set before the first symbol, and anew for each block."""
        self._order = order
        units = memory // 8 // _UNIT * 7
        self._units_left = units - 129
        self._most_text = memory - units * _UNIT
        self._text = bytearray()
        self._fall = order
        """How much shorter the present context is than the longest."""
        self._first_run = self._run = -min(order, 12) - 1
        self._was_first = 0
        self._escape = 0
        root = _TextContext([_State(symbol, 1, None) for symbol in range(256)], None)
        root.total = 257
        self.least = self._longest = root
        """The context that the next symbol is told in."""
        self._found = root.states[0]
        self._is_high = 0
        self._lone = [[_SCALE - first // (count + 2) for first in _FIRST_ESCAPES] * 8 for count in range(128)]
        self._estimates = [[_Estimate(5 * row + 10) for _ in range(16)] for row in range(25)]
        self._none = _Estimate(0)
        self._none.shift = _PERIOD_BITS

    def symbol(self) -> int:
        """Return the next symbol; PackedFault if the bytes are invalid, RarRefusal if the packer's memory was full."""
        coder = self.coder
        assert coder, "a block sets it"
        context = self.least
        states = context.states
        if len(states) > 1:
            total = context.total
            position = coder.threshold(total)
            upto = states[0].count
            if position < upto:
                return self._found_first(coder, context)
            self._was_first = 0
            for index in range(1, len(states)):
                state = states[index]
                upto += state.count
                if position < upto:
                    return self._found_later(coder, context, index, upto)
            if position >= total:
                raise PackedFault("its text tells no symbol")
            self._is_high = 8 if self._found.symbol >= 0x40 else 0
            coder.narrow(upto, total - upto)
        elif (symbol := self._in_lone(coder, context)) is not None:
            return symbol
        masked = {state.symbol for state in states}
        while True:
            passed = len(context.states)
            while True:
                self._fall += 1
                if context.shorter is None:
                    raise PackedFault("its text tells no symbol")
                context = context.shorter
                if len(context.states) != passed:
                    break
            self.least = context
            left = [state for state in context.states if state.symbol not in masked]
            known = sum([state.count for state in left])
            estimate, unknown = self._estimated(context, passed)
            total = known + unknown
            position = coder.threshold(total)
            if position < known:
                upto = 0
                for state in left:
                    upto += state.count
                    if position < upto:
                        break
                coder.narrow(upto - state.count, state.count)
                return self._found_after_escape(context, state, estimate)
            if position >= total:
                raise PackedFault("its text tells no symbol")
            coder.narrow(known, unknown)
            estimate.sum = estimate.sum + total & 0xFFFF
            masked.update([state.symbol for state in left])

    # --- where the symbol was found ----------------------------------------------------------------------

    def _found_first(self, coder: SymbolCoder, context: _TextContext) -> int:
        state = context.states[0]
        coder.narrow(0, state.count)
        self._was_first = 1 if 2 * state.count > context.total else 0
        self._run += self._was_first
        return self._counted(context, state)

    def _found_later(self, coder: SymbolCoder, context: _TextContext, index: int, upto: int) -> int:
        states = context.states
        state = states[index]
        coder.narrow(upto - state.count, state.count)
        if state.count + 4 > states[index - 1].count:
            states[index - 1], states[index] = state, states[index - 1]
            return self._counted(context, state)
        state.count += 4
        context.total += 4
        self._found = state
        self._go_on()
        return state.symbol

    def _counted(self, context: _TextContext, state: _State) -> int:
        state.count += 4
        context.total += 4
        self._found = state
        symbol = state.symbol
        if state.count > _MOST:
            self._halve(context)
        self._go_on()
        return symbol

    def _in_lone(self, coder: SymbolCoder, context: _TextContext) -> int | None:
        """Return the symbol of a context that has only one; None if it is another."""
        state = context.states[0]
        assert context.shorter, "the shortest context knows every symbol"
        self._is_high = 8 if self._found.symbol >= 0x40 else 0
        row = self._lone[state.count - 1]
        column = (
            self._was_first
            + _FEW[len(context.shorter.states) - 1]
            + self._is_high
            + (16 if state.symbol >= 0x40 else 0)
            + (32 if self._run < 0 else 0)
        )
        chance = row[column]
        mean = chance + 32 >> _PERIOD_BITS
        if coder.threshold(_SCALE) < chance:
            coder.narrow(0, chance)
            row[column] = chance + 128 - mean
            if state.count < 128:
                state.count += 1
            self._was_first = 1
            self._run += 1
            self._found = state
            self._go_on()
            return state.symbol
        coder.narrow(chance, _SCALE - chance)
        row[column] = chance - mean
        self._escape = _LATER_ESCAPES[row[column] >> 10]
        self._was_first = 0
        return None

    def _found_after_escape(self, context: _TextContext, state: _State, estimate: _Estimate) -> int:
        if estimate.shift < _PERIOD_BITS:
            estimate.count -= 1
            if not estimate.count:
                estimate.sum = estimate.sum << 1 & 0xFFFF
                estimate.count = 3 << estimate.shift & 0xFF
                estimate.shift += 1
        context.total += 4
        state.count += 4
        self._found = state
        symbol = state.symbol
        if state.count > _MOST:
            self._halve(context)
        self._run = self._first_run
        self._learn()
        return symbol

    def _estimated(self, context: _TextContext, passed: int) -> tuple[_Estimate, int]:
        """Return the share of the range for symbols outside the context."""
        known = len(context.states)
        if known == 256 or context.shorter is None:
            return self._none, 1
        left = known - passed
        column = (
            (1 if left < len(context.shorter.states) - known else 0)
            + (2 if context.total < 11 * known else 0)
            + (4 if passed > left else 0)
            + self._is_high
        )
        estimate = self._estimates[_REST[left - 1]][column]
        parts = estimate.sum >> estimate.shift
        estimate.sum -= parts
        return estimate, parts or 1

    # --- learning ----------------------------------------------------------------------------------------

    def _halve(self, context: _TextContext) -> None:
        """Halve the counts of a context, and move the found symbol to the front."""
        states, found = context.states, self._found
        states.remove(found)
        states.insert(0, found)
        left = context.total - found.count
        adder = 1 if self._fall else 0
        found.count = found.count + 4 + adder >> 1
        total = found.count
        for index in range(1, len(states)):
            state = states[index]
            left -= state.count
            state.count = state.count + adder >> 1
            total += state.count
            at = index
            while at and state.count > states[at - 1].count:
                at -= 1
            if at != index:
                del states[index]
                states.insert(at, state)
        gone = 0
        while not states[-1].count:
            states.pop()
            gone += 1
        left += gone
        if gone and len(states) == 1:
            state = states[0]
            while True:
                state.count -= state.count >> 1
                left >>= 1
                if left <= 1:
                    break
            self._found = state
            return
        context.total = total + left - (left >> 1)
        self._found = states[0]

    def _go_on(self) -> None:
        following = self._found.next
        if not self._fall and isinstance(following, _TextContext):
            self.least = self._longest = following
        else:
            self._learn()

    def _learn(self) -> None:
        """Add the found symbol to the contexts that did not have it."""
        found, least = self._found, self.least
        symbol, following = found.symbol, found.next
        if found.count < _MOST // 4 and least.shorter is not None:
            self._count_in_shorter(least.shorter, symbol)
        if not self._fall:
            self.least = self._longest = found.next = self._made(is_known=True)
            return
        self._text.append(symbol)
        if len(self._text) >= self._most_text:
            raise _refusal()
        reached: _TextContext | int = len(self._text)
        if following is None:
            found.next = reached
            following = least
        else:
            if not isinstance(following, _TextContext):
                following = self._made(is_known=False)
            self._fall -= 1
            if not self._fall:
                reached = following
                if self._longest is not least:
                    self._text.pop()
        known = len(least.states)
        others = least.total - known - (found.count - 1)
        context = self._longest
        while context is not least:
            self._enter(context, known, others, reached)
            assert context.shorter, "the chain leads to the context where it was found"
            context = context.shorter
        self.least = self._longest = following

    def _count_in_shorter(self, context: _TextContext, symbol: int) -> None:
        states = context.states
        state = context.state(symbol)
        if len(states) == 1:
            if state.count < 32:
                state.count += 1
            return
        if states[0] is not state:
            at = states.index(state)
            if state.count >= states[at - 1].count:
                states[at - 1], states[at] = state, states[at - 1]
        if state.count < _MOST - 9:
            state.count += 2
            context.total += 2

    def _enter(self, context: _TextContext, known: int, others: int, reached: "_TextContext | int") -> None:
        """Add the found symbol to one context that did not have it."""
        states, found = context.states, self._found
        count = len(states)
        if count > 1:
            if not count & 1:
                self._grow(count >> 1)
            context.total += (2 * count < known) + 2 * ((4 * count <= known) & (context.total <= 8 * count))
        else:
            self._take(1)
            state = states[0]
            state.count = 2 * state.count if state.count < _MOST // 4 - 1 else _MOST - 4
            context.total = state.count + self._escape + (known > 3)
        weight = 2 * found.count * (context.total + 6)
        whole = others + context.total
        if weight < 6 * whole:
            weight = 1 + (weight > whole) + (weight >= 4 * whole)
            context.total += 3
        else:
            weight = 4 + (weight >= 9 * whole) + (weight >= 12 * whole) + (weight >= 15 * whole)
            context.total += weight
        states.append(_State(found.symbol, weight, reached))

    def _made(self, *, is_known: bool) -> _TextContext:
        """Return the context that the symbol leads to; creates it and those in between.

        `is_known`: the current context already has a successor.
        """
        found, context = self._found, self.least
        branch = found.next
        leading = [] if is_known else [found]
        while context.shorter is not None:
            context = context.shorter
            state = context.state(found.symbol)
            if state.next != branch:
                if not isinstance(state.next, _TextContext):
                    raise PackedFault("its text model does not hold together")
                context = state.next
                if not leading:
                    return context
                break
            leading.append(state)
        if not isinstance(branch, int) or branch >= len(self._text):
            raise PackedFault("its text model does not hold together")
        symbol = self._text[branch]
        if len(context.states) == 1:
            count = context.states[0].count
        else:
            seen = context.state(symbol).count - 1
            others = context.total - len(context.states) - seen
            is_rare = 2 * seen <= others
            count = 1 + ((5 * seen > others) if is_rare else (2 * seen + 3 * others - 1) // (2 * others))
        for state in reversed(leading):
            self._take(1)
            context = _TextContext([_State(symbol, count, branch + 1)], context)
            state.next = context
        return context

    def _grow(self, units: int) -> None:
        """Count the memory of a context with so many units of symbols that needs one more."""
        if _GIVEN[units] == units:
            self._take(_GIVEN[units + 1])

    def _take(self, units: int) -> None:
        self._units_left -= units
        if self._units_left < 0:
            raise _refusal()


def _refusal() -> RarRefusal:
    return RarRefusal("its text fills the memory of the model that packed it, and such a text is not read")
