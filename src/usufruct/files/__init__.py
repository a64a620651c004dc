"""Everything that touches files: inspecting, hashing, staging, durable renames, and differences between systems."""
