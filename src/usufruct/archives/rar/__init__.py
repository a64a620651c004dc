"""RAR archives of all generations: headers, ciphers, and a module for each method of packing."""
