"""Packed bytes into plain ones, stream by stream."""
