"""Reading downloads: what a file is by its content, which entries it holds, and their bytes in a stream."""
