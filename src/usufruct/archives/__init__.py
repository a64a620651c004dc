"""Read downloads: recognise the format by content, list the entries, stream their bytes."""
