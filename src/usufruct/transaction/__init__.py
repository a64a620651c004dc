"""Changing the applications' folders so that it can be taken back at any moment.

The order of events of every change:

 1. The ledger says that a change is under way and where it stages (commit).
 2. All new content is written to a staging directory on the destination's volume, checked and hashed. What is to
    be given back is put there too. Backups on another volume are copied, checked and made durable.
 3. What was staged is made durable.
 4. The ledger takes the whole intent, every destination before and after (commit, phase "switching").
 5. Each file is switched in by one rename, after what it replaces has got a second name in the backups. A new
    directory comes, and one that Usufruct made goes, whole.
 6. What was switched is made durable.
 7. One commit of the ledger says "done" and moves ownership. This is the commit point.
 8. Staging directories, and backups that nobody needs, are removed.

Before 7 a failure, a kill or a power cut is answered by going back: `restore` finds by looking which of the steps
have happened and undoes those. After 7 only 8 is left, which may be repeated. Going back may itself be interrupted
and repeated. A file that is in neither of the states that the intent knows was written by somebody else: it is left
as it is and told.

Survived: an error or a kill at any point, a power cut on a file system that keeps its own order of renames (ext4,
xfs, btrfs, APFS, NTFS). Not atomic as a whole: another program may see some files switched and others not yet.
Not survived: a disk that lies about having written, and damage to the ledger or the backups from outside.
"""
