"""RAR archives of every generation: their headers, their ciphers, and a module for each method of packing."""
