"""Everything that touches files: looking, hashing, staging places, durable renames, and what systems differ in."""
