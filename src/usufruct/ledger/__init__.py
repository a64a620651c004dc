"""The record of holdings, files, what they replaced, and history, in SQLite."""

from usufruct.ledger.ledger import Ledger, open_ledger, read_ledger

__all__ = ["Ledger", "open_ledger", "read_ledger"]
