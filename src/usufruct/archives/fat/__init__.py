"""Images of FAT file systems: floppy disks, memory cards, old hard disks."""
