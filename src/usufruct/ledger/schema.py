"""The tables of the ledger and their version.

One row of `layer` is both record and journal. A change that is under way enters the layers it brings with
`born` and marks those it takes with `gone`; until its one committing row says `done`, both can be undone:

    before the change   rows not born in it, and the user's own (`holding` NULL), gone or not
    after the change    rows not gone in it

A destination's highest level is on disk; of the others the bytes lie in the backups (`is_backed`).
Times are nanoseconds since 1970 UTC, sizes are bytes, paths are absolute with `/`.
"""

VERSION = 6

TABLES = """
CREATE TABLE identity (
    ledger TEXT NOT NULL                 -- tells this ledger from all others
);

CREATE TABLE change (
    number   INTEGER PRIMARY KEY,
    kind     TEXT NOT NULL,
    phase    TEXT NOT NULL,
    started  INTEGER NOT NULL,
    finished INTEGER,
    about    TEXT NOT NULL,              -- names of the holdings concerned
    root     INTEGER NOT NULL DEFAULT 0, -- the change that this one undoes or redoes; 0: it is no such
    command  INTEGER NOT NULL DEFAULT 0, -- the first change of the command that made it
    brought  INTEGER,                    -- numbers of the holdings that came and went by it
    took     INTEGER,
    is_part  INTEGER NOT NULL DEFAULT 0  -- they came or went only in part; 2: the user said which
);
CREATE INDEX change_phase ON change (phase) WHERE phase IN ('staging', 'switching');

CREATE TABLE staging (
    path          TEXT PRIMARY KEY,
    change        INTEGER NOT NULL REFERENCES change,
    base          TEXT NOT NULL,
    parent_before INTEGER NOT NULL,
    parent_after  INTEGER NOT NULL,
    volume        TEXT NOT NULL,          -- what tells it from all others; empty: nothing does
    is_beside     INTEGER NOT NULL,       -- it is the one that this ledger is on
    settles       INTEGER,                -- the time its parent gets; NULL: its removal was not begun
    expected      BLOB NOT NULL           -- what may lie in it, packed
) WITHOUT ROWID;

CREATE TABLE holding (
    number       INTEGER PRIMARY KEY,
    name         TEXT NOT NULL,
    name_key     TEXT NOT NULL,
    application  TEXT,
    root         TEXT NOT NULL,
    archive      TEXT NOT NULL,
    archive_size INTEGER NOT NULL,
    archive_blake3 BLOB NOT NULL,
    format       TEXT NOT NULL,
    tidy_name    TEXT NOT NULL,
    tidy_key     TEXT NOT NULL,
    version      TEXT NOT NULL,
    origin       TEXT NOT NULL,           -- where the archive was downloaded from, if that is known
    choices      TEXT NOT NULL,
    added        INTEGER NOT NULL,
    files        INTEGER NOT NULL,
    size         INTEGER NOT NULL,
    is_partial   INTEGER NOT NULL DEFAULT 0,
    born         INTEGER NOT NULL REFERENCES change,
    gone         INTEGER REFERENCES change
);
CREATE UNIQUE INDEX holding_name ON holding (name_key) WHERE gone IS NULL;

CREATE TABLE directory (
    number   INTEGER PRIMARY KEY,
    path     TEXT NOT NULL UNIQUE,
    parent   INTEGER REFERENCES directory,  -- NULL: nothing is on record of the directory above
    made     INTEGER REFERENCES change,  -- NULL: it was there before Usufruct
    original INTEGER,                    -- its time before the first change in it
    left     INTEGER                     -- its time as the last change left it
);
CREATE INDEX directory_parent ON directory (parent);

CREATE TABLE layer (
    directory INTEGER NOT NULL REFERENCES directory,
    name      TEXT NOT NULL,
    level     INTEGER NOT NULL,
    born      INTEGER NOT NULL REFERENCES change,
    gone      INTEGER REFERENCES change,
    holding   INTEGER REFERENCES holding,  -- NULL: the user's own
    kind      TEXT NOT NULL,
    size      INTEGER NOT NULL,
    modified  INTEGER NOT NULL,
    mode      INTEGER NOT NULL,
    inode     INTEGER NOT NULL,
    blake3    BLOB NOT NULL,
    target    TEXT NOT NULL,
    entry     TEXT NOT NULL,
    is_backed INTEGER NOT NULL,
    PRIMARY KEY (directory, name, level, born)
) WITHOUT ROWID;
CREATE INDEX layer_backed ON layer (blake3) WHERE is_backed;

CREATE TABLE holding_directory (
    holding   INTEGER NOT NULL REFERENCES holding,
    directory INTEGER NOT NULL REFERENCES directory,
    PRIMARY KEY (holding, directory)
) WITHOUT ROWID;

CREATE TABLE touched (                   -- directories of a change that is under way
    change    INTEGER NOT NULL REFERENCES change,
    directory INTEGER NOT NULL REFERENCES directory,
    modified  INTEGER,                   -- the directory's time before the change; NULL: it was not there
    PRIMARY KEY (change, directory)
) WITHOUT ROWID;

CREATE TABLE unneeded (                  -- backups to forget once a change is done or reversed
    blake3 BLOB PRIMARY KEY
) WITHOUT ROWID;

CREATE TABLE note (
    holding INTEGER NOT NULL REFERENCES holding,
    entry   TEXT NOT NULL,
    file    TEXT NOT NULL,               -- name below the notes directory of the holding
    size    INTEGER NOT NULL,
    PRIMARY KEY (holding, entry)
) WITHOUT ROWID;

CREATE TABLE volume (                    -- the files of the archives that a holding came from
    holding  INTEGER NOT NULL REFERENCES holding,
    position INTEGER NOT NULL,
    path     TEXT NOT NULL,
    size     INTEGER NOT NULL,
    blake3   BLOB NOT NULL,
    is_trashed INTEGER NOT NULL DEFAULT 0, -- it went to the trash, wherever that is
    PRIMARY KEY (holding, position)
) WITHOUT ROWID;

CREATE TABLE past_layer (                -- what the last changes took, so that they can be undone
    change    INTEGER NOT NULL REFERENCES change,
    path      TEXT NOT NULL,             -- of the directory
    name      TEXT NOT NULL,
    level     INTEGER NOT NULL,
    holding   INTEGER NOT NULL,
    kind      TEXT NOT NULL,
    size      INTEGER NOT NULL,
    modified  INTEGER NOT NULL,
    mode      INTEGER NOT NULL,
    blake3    BLOB NOT NULL,
    target    TEXT NOT NULL,
    entry     TEXT NOT NULL,
    is_claim  INTEGER NOT NULL,          -- the user's own lay there, and the holding had made it its own
    PRIMARY KEY (change, path, name, level)
) WITHOUT ROWID;

CREATE TABLE place (                     -- the drives that a holding lies on
    holding   INTEGER NOT NULL REFERENCES holding,
    base      TEXT NOT NULL,             -- the topmost of its directories there
    mount     TEXT NOT NULL,             -- where the drive was mounted; empty: not known
    volume    TEXT NOT NULL,             -- what tells it from all others; empty: nothing does
    is_beside INTEGER NOT NULL,          -- it was the one that this ledger is on
    PRIMARY KEY (holding, base)
) WITHOUT ROWID;

CREATE TABLE archive_place (             -- the drives that archives lie on
    base      TEXT PRIMARY KEY,          -- the directory that they are in
    mount     TEXT NOT NULL,             -- the rest as in `place`
    volume    TEXT NOT NULL,
    is_beside INTEGER NOT NULL
) WITHOUT ROWID;

CREATE TABLE unneeded_note (             -- notes to forget once a change is done or reversed
    holding INTEGER PRIMARY KEY
) WITHOUT ROWID;

CREATE TABLE claim (                     -- files of the user's that a holding made its own, as they lay there
    holding   INTEGER NOT NULL REFERENCES holding,
    directory INTEGER NOT NULL REFERENCES directory,
    name      TEXT NOT NULL,
    PRIMARY KEY (holding, directory, name)
) WITHOUT ROWID;

-- What keeps a question from looking at all that is on record; a row of `layer` is a fifth larger for it.
CREATE INDEX layer_holding ON layer (holding, directory);
CREATE INDEX layer_gone ON layer (gone, directory) WHERE gone IS NOT NULL;
CREATE INDEX holding_gone ON holding (gone) WHERE gone IS NOT NULL;
CREATE INDEX holding_archive_size ON holding (archive_size);
CREATE INDEX holding_tidy_key ON holding (tidy_key);
CREATE INDEX holding_archive ON holding (archive);
CREATE INDEX volume_path ON volume (path);
CREATE INDEX volume_trashed ON volume (path) WHERE is_trashed;
CREATE INDEX holding_directory_directory ON holding_directory (directory);
CREATE INDEX touched_directory ON touched (directory);
CREATE INDEX claim_directory ON claim (directory);
"""
"""The statements that make a new ledger."""
