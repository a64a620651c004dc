"""Formats that the system's archive library reads."""
