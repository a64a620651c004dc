"""One module for each command; what they share stands above."""
