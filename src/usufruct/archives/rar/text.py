"""The text model of the third generation: PPMd variant H with RAR's own range coder.

Source: the model as Dmitry Shkarin and Igor Pavlov put it into the public domain (in libarchive: archive_ppmd7.c). What
is restarted when the memory is full depends on where each thing lies in it, so the same places are given out here,
unit by unit; but a context's numbers are kept in tables by the number of its unit.

A reference is the number of a context's unit; a place in the text behind which nothing is known yet is -1 - place; and
0 is none.
"""

from array import array

from usufruct.archives.bits import Bits, PackedFault

UNIT = 12
"""Bytes of a unit: a context, or two states."""
_MOST_FREQUENCY = 124
"""MAX_FREQ of the model."""
_UNITS_OF: tuple[int, ...] = (*range(1, 5), *range(6, 13, 2), *range(15, 25, 3), *range(28, 129, 4))
"""Size of block → units."""
_SIZES = len(_UNITS_OF)
_SIZE_OF = tuple(next(size for size, units in enumerate(_UNITS_OF) if units >= count) for count in (1, *range(1, 129)))
"""Units → size of block that holds them."""
_LARGEST_GLUED = 0x10000
"""Units that free neighbours are glued to at most: their count has 16 bits."""
_GLUE_AFTER = 255
"""Vain searches before the free places are glued."""
_BINARY_ESCAPES = (0x3CDD, 0x1F3F, 0x59BF, 0x48F3, 0x64A1, 0x5ABC, 0x6632, 0x6051)
"""kInitBinEsc of the model."""
_ESCAPE_BY_PROBABILITY = (25, 14, 9, 7, 5, 5, 4, 4, 4, 3, 3, 3, 2, 2, 2, 2)
"""kExpEscape of the model."""
_SUCCESS_BY_STATES = (0, 0, 2, *(4,) * 9, *(6,) * 246)
"""States of the context below → place in the table of binary probabilities."""


def _see_by_states() -> tuple[int, ...]:
    found = [0, 1, 2]
    row, left = 3, 1
    while len(found) < 257:
        found.append(row)
        left -= 1
        if not left:
            row += 1
            left = row - 2
    return tuple(found)


_SEE_BY_STATES = _see_by_states()
_IS_HIGH, _IS_HIGHER = (0,) * 0x40 + (8,) * 0xC0, (0,) * 0x40 + (16,) * 0xC0
"""Symbol → what it adds to a place in the tables, as the one before and as the one that is foretold."""


_BYTES_FOR_LEVEL = 144
"""Bytes of memory that a symbol takes at most for each byte of a context: a new context, and one state more in each.

On the way to the largest block that states are moved to, each has taken 8.4 units; and an eighth is for the text.
"""
_BESIDE = 4096
"""Symbols that stand for something else than content."""


def enough_for(size: int, order: int) -> int:
    """Bytes of memory that so many bytes of content cannot fill: with more the model would do the very same.

    Packers state what they gave the model, 25 to 128 MB, also for a file of a kilobyte.
    """
    return (2 * size + _BESIDE) * (_BYTES_FOR_LEVEL * order + 8)


class TextModel:
    """A model that foretells the next byte from those before it, and decodes what differs from its guess."""

    def __init__(self, order: int, size: int) -> None:
        """`order` is how many bytes a context has at most, `size` the bytes of memory that the packer gave it."""
        self._order = order
        self._size = size
        self._count = count = size // UNIT + 1
        self._states = array("H", bytes(2 * count))
        """Context → how many symbols it has met; its states lie beside each other from `first` on."""
        self._sums = array("H", bytes(2 * count))
        """Context → sum of its states' frequencies and of its escape."""
        self._first = array("i", bytes(4 * count))
        """Context → number of its first state; with one only, that of the state at its own unit."""
        self._below = array("i", bytes(4 * count))
        """Context → the context that is one byte shorter."""
        self._symbols = bytearray(2 * count)
        self._frequencies = bytearray(2 * count)
        self._next = array("i", bytes(8 * count))
        """State → reference to the context that follows its symbol."""
        self._low = self._range = self._code = 0
        self._restart()

    def start_coder(self, bits: Bits) -> None:
        """Take the range coder's first bytes."""
        self._low = 0
        self._range = 0xFFFFFFFF
        self._code = bits.take(32)

    # --- memory ------------------------------------------------------------------------------------------

    def _restart(self) -> None:
        units = self._size // 8 // UNIT * 7
        self._text = bytearray()
        self._text_at = 0
        """Where the next byte goes; what was written there once may still be looked at."""
        self._free: list[list[int]] = [[] for _ in range(_SIZES)]
        """Size of block → free ones, the latest last."""
        self._high: int = self._count
        self._lowest: int
        self._lowest = self._start = self._count - units
        self._text_end = self._size - UNIT * units
        """Bytes that the text may take."""
        self._glue_in = 0
        self._order_fall = self._order
        self._run = self._first_run = -min(self._order, 12) - 1
        self._was_sure = 0
        self._first_escape = 0
        self._high -= 1
        root = self._root = self._minimum = self._maximum = self._high
        self._below[root] = 0
        self._states[root] = 256
        self._sums[root] = 257
        first = self._found = 2 * self._lowest
        self._lowest += 128
        self._first[root] = first
        self._symbols[first : first + 256] = bytes(range(256))
        self._frequencies[first : first + 256] = b"\1" * 256
        self._next[first : first + 256] = array("i", bytes(1024))
        self._binary = [0] * 64 + [
            0x4000 - escape // (row + 2) for row in range(128) for _ in range(8) for escape in _BINARY_ESCAPES
        ]
        self._see_sums = [(5 * row + 10) << 3 for row in range(25) for _ in range(16)]
        self._see_shifts = [3] * 400
        self._see_counts = [4] * 400

    def _take_context(self) -> int:
        """A unit for a context; 0 if there is none left."""
        if self._high != self._lowest:
            self._high -= 1
            return self._high
        if self._free[0]:
            return self._free[0].pop()
        return self._take_rare(0)

    def _take(self, size: int) -> int:
        if self._free[size]:
            return self._free[size].pop()
        units = _UNITS_OF[size]
        if units <= self._high - self._lowest:
            self._lowest += units
            return self._lowest - units
        return self._take_rare(size)

    def _take_rare(self, size: int) -> int:
        if not self._glue_in:
            self._glue()
            if self._free[size]:
                return self._free[size].pop()
        for larger in range(size + 1, _SIZES):
            if self._free[larger]:
                block = self._free[larger].pop()
                self._split(block, larger, size)
                return block
        self._glue_in -= 1
        units = _UNITS_OF[size]
        if self._text_end - self._text_at > UNIT * units:
            self._text_end -= UNIT * units
            self._start -= units
            return self._start
        return 0

    def _split(self, block: int, old: int, new: int) -> None:
        self._put(block + _UNITS_OF[new], _UNITS_OF[old] - _UNITS_OF[new])

    def _put(self, block: int, units: int) -> None:
        """Free a block of at most 128 units, in one or two."""
        size = _SIZE_OF[units]
        if _UNITS_OF[size] != units:
            size -= 1
            kept = _UNITS_OF[size]
            self._free[units - kept - 1].append(block + kept)
        self._free[size].append(block)

    def _glue(self) -> None:
        """Put free blocks together that lie beside each other."""
        self._glue_in = _GLUE_AFTER
        units = {block: _UNITS_OF[size] for size, blocks in enumerate(self._free) for block in blocks}
        order = [block for blocks in self._free for block in reversed(blocks)]
        order.reverse()
        for blocks in self._free:
            blocks.clear()
        # The gap between both ends is not free in this sense, and nothing lies behind the last unit.
        for block in order:
            while block in units:
                neighbour = block + units[block]
                more = units.get(neighbour, 0)
                if not more or units[block] + more >= _LARGEST_GLUED:
                    break
                units[block] += more
                del units[neighbour]
        for block in order:
            count = units.get(block, 0)
            at = block
            while count > 128:
                self._free[-1].append(at)
                at += 128
                count -= 128
            if count:
                self._put(at, count)

    # --- decoding ----------------------------------------------------------------------------------------

    def decode(self, bits: Bits, out: bytearray, most: int, escape: int) -> bool:
        """Put `most` bytes to the end of `out`, or those before the byte `escape`, which is left out: True if so."""
        states, sums, first, below = self._states, self._sums, self._first, self._below
        symbols, frequencies, following = self._symbols, self._frequencies, self._next
        binary, see_sums, see_shifts, see_counts = self._binary, self._see_sums, self._see_shifts, self._see_counts
        append = out.append
        low, width, code = self._low, self._range, self._code
        acc, have, words = bits.acc, bits.have, bits.words
        minimum, maximum, found = self._minimum, self._maximum, self._found
        order_fall, run, first_run, was_sure = self._order_fall, self._run, self._first_run, self._was_sure
        first_escape, is_high, is_higher, success = self._first_escape, _IS_HIGH, _IS_HIGHER, _SUCCESS_BY_STATES
        symbol = symbols[found]
        # `code` counts from `low` on.
        try:
            for _ in range(most):
                high = is_high[symbol]
                count = states[minimum]
                state = first[minimum]
                if count == 1:
                    symbol = symbols[state]
                    frequency = frequencies[state]
                    place = (
                        (frequency << 6) + was_sure + success[states[below[minimum]]] + high + is_higher[symbol]
                        + (run >> 26 & 0x20)
                    )  # fmt: skip
                    probability = binary[place]
                    width >>= 14
                    bound = width * probability
                    if code < bound:
                        width = bound
                        binary[place] = probability + 128 - (probability + 32 >> 7)
                        found = state
                        if frequency < 128:
                            frequencies[state] = frequency + 1
                        was_sure = 1
                        run += 1
                        if width >= 0x1000000 and not order_fall and (successor := following[state]) > 0:
                            # What is met most, without a look at all that might be else.
                            minimum = maximum = successor
                            if symbol == escape:
                                return True
                            append(symbol)
                            continue
                        masked = 0
                    else:
                        code -= bound
                        low = low + bound & 0xFFFFFFFF
                        width *= 0x4000 - probability
                        probability -= probability + 32 >> 7
                        binary[place] = probability
                        first_escape = _ESCAPE_BY_PROBABILITY[probability >> 10]
                        was_sure = 0
                        masked = 1
                else:
                    total = sums[minimum]
                    width //= total
                    reach = frequencies[state]
                    if code < (bound := width * reach):
                        width = bound
                        found = state
                        was_sure = 1 if 2 * reach > total else 0
                        run += was_sure
                        symbol = symbols[state]
                        sums[minimum] = total + 4
                        frequencies[state] = reach + 4
                        if reach > _MOST_FREQUENCY - 4:
                            found = self._rescale(minimum, found, order_fall)
                        masked = 0
                    else:
                        was_sure = 0
                        wanted = code // width
                        for frequency in frequencies[state + 1 : state + count]:
                            state += 1
                            reach += frequency
                            if reach > wanted:
                                bound = width * (reach - frequency)
                                code -= bound
                                low = low + bound & 0xFFFFFFFF
                                width *= frequency
                                symbol = symbols[state]
                                sums[minimum] = total + 4
                                frequency += 4
                                if frequency > frequencies[state - 1]:
                                    # A state that has become likelier goes before the one that was.
                                    frequencies[state] = frequencies[state - 1]
                                    symbols[state] = symbols[state - 1]
                                    following[state], following[state - 1] = following[state - 1], following[state]
                                    state -= 1
                                    symbols[state] = symbol
                                    frequencies[state] = frequency
                                    if frequency > _MOST_FREQUENCY:
                                        state = self._rescale(minimum, state, order_fall)
                                else:
                                    frequencies[state] = frequency
                                found = state
                                masked = 0
                                break
                        else:
                            if wanted >= total:
                                raise PackedFault("the text model meets a value that stands for nothing")
                            bound = width * reach
                            code -= bound
                            low = low + bound & 0xFFFFFFFF
                            width *= total - reach
                            masked = count
                while width < 0x1000000:
                    if low ^ low + width >= 0x1000000:
                        if width >= 0x8000:
                            break
                        width = -low & 0x7FFF
                    if not have:
                        acc = next(words)
                        have = 32
                    have -= 8
                    code = (code << 8 | acc >> have & 0xFF) & 0xFFFFFFFF
                    low = low << 8 & 0xFFFFFFFF
                    width <<= 8
                while masked:
                    known = symbols[first[minimum] : first[minimum] + masked]
                    while True:
                        order_fall += 1
                        minimum = below[minimum]
                        if not minimum:
                            raise PackedFault("the text model ends")
                        count = states[minimum]
                        if count != masked:
                            break
                    state = first[minimum]
                    left = [
                        place
                        for place, symbol in enumerate(symbols[state : state + count], state)
                        if symbol not in known
                    ]
                    reach = sum(map(frequencies.__getitem__, left))
                    if count != 256:
                        unmasked = count - masked
                        see = (
                            (_SEE_BY_STATES[unmasked - 1] << 4)
                            + (unmasked < states[below[minimum]] - count)
                            + 2 * (sums[minimum] < 11 * count)
                            + 4 * (masked > unmasked)
                            + high
                        )
                        seen = see_sums[see]
                        escaping = seen >> see_shifts[see]
                        see_sums[see] = seen - escaping & 0xFFFF
                        escaping = escaping or 1
                    else:
                        see, escaping = -1, 1
                    total = reach + escaping
                    width //= total
                    if code < width * reach:
                        wanted = code // width
                        reach = 0
                        for state in left:
                            frequency = frequencies[state]
                            reach += frequency
                            if reach > wanted:
                                break
                        bound = width * (reach - frequency)
                        code -= bound
                        low = low + bound & 0xFFFFFFFF
                        width *= frequency
                        if see >= 0 and (shift := see_shifts[see]) < 7:
                            see_counts[see] = counted = see_counts[see] - 1 & 0xFF
                            if not counted:
                                see_sums[see] = see_sums[see] << 1 & 0xFFFF
                                see_counts[see] = 3 << shift & 0xFF
                                see_shifts[see] = shift + 1
                        symbol = symbols[state]
                        found = state
                        sums[minimum] = sums[minimum] + 4
                        frequencies[state] = frequency + 4
                        if frequency > _MOST_FREQUENCY - 4:
                            found = self._rescale(minimum, found, order_fall)
                        run = first_run
                        masked = 0
                    else:
                        if code >= width * total:
                            raise PackedFault("the text model meets a value that stands for nothing")
                        bound = width * reach
                        code -= bound
                        low = low + bound & 0xFFFFFFFF
                        width *= escaping
                        if see >= 0:
                            see_sums[see] = see_sums[see] + total & 0xFFFF
                        masked = count
                    while width < 0x1000000:
                        if low ^ low + width >= 0x1000000:
                            if width >= 0x8000:
                                break
                            width = -low & 0x7FFF
                        if not have:
                            acc = next(words)
                            have = 32
                        have -= 8
                        code = (code << 8 | acc >> have & 0xFF) & 0xFFFFFFFF
                        low = low << 8 & 0xFFFFFFFF
                        width <<= 8
                successor = following[found]
                if not order_fall and successor > 0:
                    minimum = maximum = successor
                else:
                    self._minimum, self._maximum, self._found = minimum, maximum, found
                    self._order_fall, self._first_escape = order_fall, first_escape
                    if self._update(symbol, successor):
                        minimum = maximum = self._minimum
                        found, order_fall = self._found, self._order_fall
                    else:
                        self._restart()
                        binary = self._binary
                        see_sums, see_shifts, see_counts = self._see_sums, self._see_shifts, self._see_counts
                        minimum, maximum, found = self._minimum, self._maximum, self._found
                        order_fall, run, was_sure = self._order_fall, self._run, self._was_sure
                        if symbol == escape:
                            return True
                        append(symbol)
                        symbol = 0  # what the first state stands for
                        continue
                if symbol == escape:
                    return True
                append(symbol)
        except StopIteration:
            raise PackedFault("the packed bytes end too early") from None
        except (ZeroDivisionError, OverflowError):
            raise PackedFault("the text model meets a value that stands for nothing") from None
        finally:
            self._low, self._range, self._code = low, width, code
            bits.acc, bits.have = acc, have
            self._minimum, self._maximum, self._found = minimum, maximum, found
            self._order_fall, self._run, self._was_sure = order_fall, run, was_sure
            self._first_escape = first_escape
        return False

    # --- learning ----------------------------------------------------------------------------------------

    def _update(self, symbol: int, successor: int) -> bool:
        """Learn that `symbol` was met, which `_found` in `_minimum` leads to; False if the memory is full."""
        states, sums, first, below = self._states, self._sums, self._first, self._below
        symbols, frequencies, following = self._symbols, self._frequencies, self._next
        minimum, maximum, found = self._minimum, self._maximum, self._found
        frequency = frequencies[found]
        if frequency < _MOST_FREQUENCY // 4 and (context := below[minimum]):
            state = first[context]
            if states[context] == 1:
                if frequencies[state] < 32:
                    frequencies[state] += 1
            else:
                if symbols[state] != symbol:
                    state = symbols.index(symbol, state)
                    if frequencies[state] >= frequencies[state - 1]:
                        self._swap(state)
                        state -= 1
                if frequencies[state] < _MOST_FREQUENCY - 9:
                    frequencies[state] += 2
                    sums[context] += 2
        if not self._order_fall:
            context = self._create(symbol, successor, is_found_left=True)
            following[found] = self._minimum = context
            return bool(context)
        at = self._text_at
        self._text[at : at + 1] = bytes((symbol,))
        at += 1
        self._text_at = at
        if at >= self._text_end:
            return False
        newest = -1 - at
        if successor:
            if successor < 0 and not (successor := self._create(symbol, successor, is_found_left=False)):
                return False
            self._order_fall -= 1
            if not self._order_fall:
                newest = successor
                self._text_at -= maximum != minimum
        else:
            following[found] = newest
            successor = minimum
        count = states[minimum]
        rest = sums[minimum] - count - (frequency - 1)
        context = maximum
        while context != minimum:
            old = states[context]
            if old == 1:
                if not (block := self._take(0)):
                    return False
                single, state = first[context], 2 * block
                symbols[state] = symbols[single]
                following[state] = following[single]
                first[context] = state
                known = frequencies[single]
                known = known << 1 if known < _MOST_FREQUENCY // 4 - 1 else _MOST_FREQUENCY - 4
                frequencies[state] = known
                total = known + self._first_escape + (count > 3)
            else:
                state = first[context]
                if not old & 1 and (size := _SIZE_OF[old >> 1]) != _SIZE_OF[(old >> 1) + 1]:
                    if not (block := self._take(size + 1)):
                        return False
                    self._move(state, 2 * block, old)
                    self._free[size].append(state >> 1)
                    first[context] = state = 2 * block
                total = sums[context]
                total += (2 * old < count) + 2 * (4 * old <= count and total <= 8 * old)
            chance = 2 * frequency * (total + 6)
            whole = rest + total
            if chance < 6 * whole:
                chance = 1 + (chance > whole) + (chance >= 4 * whole)
                total += 3
            else:
                chance = 4 + (chance >= 9 * whole) + (chance >= 12 * whole) + (chance >= 15 * whole)
                total += chance
            sums[context] = total & 0xFFFF
            state += old
            following[state] = newest
            symbols[state] = symbol
            frequencies[state] = chance
            states[context] = old + 1
            context = below[context]
        self._minimum = successor
        return True

    def _create(self, symbol: int, branch: int, *, is_found_left: bool) -> int:
        """The contexts that follow `symbol` in the present one and those below; 0 if the memory is full."""
        states, first, below = self._states, self._first, self._below
        symbols, frequencies, following = self._symbols, self._frequencies, self._next
        context = self._minimum
        leading = [] if is_found_left else [self._found]
        while context := below[context]:
            state = first[context]
            if states[context] != 1:
                state = symbols.index(symbol, state)
            if following[state] != branch:
                context = following[state]
                break
            leading.append(state)
        else:
            context = self._root
        if not leading:
            return context
        after = self._text[-1 - branch]
        if states[context] == 1:
            frequency = frequencies[first[context]]
        else:
            chance = frequencies[symbols.index(after, first[context])] - 1
            rest = self._sums[context] - states[context] - chance
            more = 5 * chance > rest if 2 * chance <= rest else (2 * chance + 3 * rest - 1) // (2 * rest)
            frequency = 1 + more & 0xFF
        for state in reversed(leading):
            if not (unit := self._take_context()):
                return 0
            states[unit] = 1
            first[unit] = single = 2 * unit
            symbols[single] = after
            frequencies[single] = frequency
            following[single] = branch - 1
            below[unit] = context
            following[state] = context = unit
        return context

    def _rescale(self, context: int, found: int, order_fall: int) -> int:
        """Halve a context's frequencies, the found one first; where the found state is then."""
        symbols, frequencies, following = self._symbols, self._frequencies, self._next
        begin, count = self._first[context], self._states[context]
        order = [found, *(state for state in range(begin, begin + count) if state != found)]
        known = [(symbols[state], frequencies[state], following[state]) for state in order]
        escaping = self._sums[context] - sum(frequency for _, frequency, _ in known)
        more = 1 if order_fall else 0
        halved = [
            (symbol, frequency + (0 if place else 4) + more >> 1, to)
            for place, (symbol, frequency, to) in enumerate(known)
        ]
        halved.sort(key=lambda state: -state[1])
        total = sum(frequency for _, frequency, _ in halved)
        kept = [state for state in halved if state[1]]
        escaping += count - len(kept)
        if len(kept) == 1:
            symbol, frequency, to = kept[0]
            while True:
                frequency -= frequency >> 1
                escaping >>= 1
                if escaping <= 1:
                    break
            self._free[_SIZE_OF[count + 1 >> 1]].append(begin >> 1)
            self._states[context] = 1
            self._first[context] = begin = 2 * context
            # The single state lies where the sum lay, and is once more taken for it.
            self._sums[context] = symbol | frequency << 8
            symbols[begin], frequencies[begin], following[begin] = symbol, frequency, to
            return begin
        if len(kept) != count:
            self._states[context] = len(kept)
            begin = self._shrink(begin, count + 1 >> 1, len(kept) + 1 >> 1)
            self._first[context] = begin
        for state, (symbol, frequency, to) in enumerate(kept, begin):
            symbols[state], frequencies[state], following[state] = symbol, frequency, to
        self._sums[context] = total + escaping - (escaping >> 1) & 0xFFFF
        return begin

    def _shrink(self, begin: int, old: int, new: int) -> int:
        old_size, new_size = _SIZE_OF[old], _SIZE_OF[new]
        if old_size == new_size:
            return begin
        if self._free[new_size]:
            block = self._free[new_size].pop()
            self._free[old_size].append(begin >> 1)
            return 2 * block
        self._split(begin >> 1, old_size, new_size)
        return begin

    def _move(self, old: int, new: int, count: int) -> None:
        self._symbols[new : new + count] = self._symbols[old : old + count]
        self._frequencies[new : new + count] = self._frequencies[old : old + count]
        self._next[new : new + count] = self._next[old : old + count]

    def _swap(self, state: int) -> None:
        """Put a state before the one that was before it."""
        before = state - 1
        for kept in (self._symbols, self._frequencies, self._next):
            kept[before], kept[state] = kept[state], kept[before]
