"""Images of volumes with the FAT file system: floppy disks, memory cards, old hard disks."""
