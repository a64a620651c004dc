"""The archives of DOS's first years, each small: arj, zoo and arc, with their LZH and LZW methods."""
