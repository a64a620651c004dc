"""Change application folders so that every change can be reversed at any moment."""
