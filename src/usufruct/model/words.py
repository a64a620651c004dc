"""Counts with their nouns, as people read them."""


def count_words(count: int, one: str, many: str = "") -> str:
    """`1 file`, `2 files`."""
    return f"{count:,} {one if count == 1 else many or one + 's'}"
