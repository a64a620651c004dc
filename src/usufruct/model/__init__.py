"""The values that every layer shares. They know nothing of disks, databases or screens."""
