"""Reading applications' definitions: TOML in, Applications out, every fault with its file, line and remedy."""
