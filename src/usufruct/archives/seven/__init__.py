"""7z archives."""
