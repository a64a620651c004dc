-- A ledger as version 4 wrote it.
PRAGMA user_version = 4;
BEGIN TRANSACTION;
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
    is_part  INTEGER NOT NULL DEFAULT 0  -- they came or went only in part
);
INSERT INTO "change" VALUES(1,'add','done',1795849235479226020,1795849235502271037,'one',0,1,1,NULL,0);
INSERT INTO "change" VALUES(2,'add','done',1795849236363916121,1795849236376325754,'two',0,2,2,NULL,0);
INSERT INTO "change" VALUES(3,'add','done',1795849237238113650,1795849237246427766,'three',0,3,3,NULL,0);
INSERT INTO "change" VALUES(4,'remove','done',1795849237702577294,1795849237710489842,'three',0,4,NULL,3,0);
CREATE TABLE claim (                     -- files of the user's that a holding made its own, as they lay there
    holding   INTEGER NOT NULL REFERENCES holding,
    directory INTEGER NOT NULL REFERENCES directory,
    name      TEXT NOT NULL,
    PRIMARY KEY (holding, directory, name)
) WITHOUT ROWID;
CREATE TABLE directory (
    number   INTEGER PRIMARY KEY,
    path     TEXT NOT NULL UNIQUE,
    parent   INTEGER REFERENCES directory,  -- NULL: nothing is on record of the directory above
    made     INTEGER REFERENCES change,  -- NULL: it was there before Usufruct
    original INTEGER,                    -- its time before the first change in it
    left     INTEGER                     -- its time as the last change left it
);
INSERT INTO "directory" VALUES(1,'@ROOT@/apps/Lanternbox/Gels',NULL,NULL,1795849234359936845,1795849237703936960);
INSERT INTO "directory" VALUES(2,'@ROOT@/apps/Lanternbox',NULL,NULL,1795849234359936845,1795849236373520932);
INSERT INTO "directory" VALUES(3,'@ROOT@/apps/Lanternbox/Puppets',2,2,NULL,1795849236363936914);
INSERT INTO "directory" VALUES(4,'@ROOT@/apps/Lanternbox/Puppets/Owl',3,2,NULL,1795849236363936914);
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
INSERT INTO "holding" VALUES(1,'one','one','lanternbox','@ROOT@/apps/Lanternbox','@ROOT@/downloads/one.zip',338,X'DB58A5CFEAF36045581BEC2CDBDFE7515E963C60261168658D71D184FDC1CDAC','zip','one','one','','','{"autostart": false, "choose": [], "claim": false, "every_format": false, "flat": false, "into": null, "names": null, "nested": false, "on_clash": "replace", "on_clash_of": [], "only": [], "picked": null, "programs": null, "skip": [], "skip_unsafe": false}',1795849235478984980,2,14,0,1,NULL);
INSERT INTO "holding" VALUES(2,'two','two','lanternbox','@ROOT@/apps/Lanternbox','@ROOT@/downloads/two.zip',237,X'57A99767A7CE2EC4ADB7B4B5B22B305301F4850C165F2741B8F271D89F404AEC','zip','two','two','','','{"autostart": false, "choose": [], "claim": false, "every_format": false, "flat": false, "into": null, "names": null, "nested": false, "on_clash": "replace", "on_clash_of": [], "only": [], "picked": null, "programs": null, "skip": [], "skip_unsafe": false}',1795849236363691054,2,9,0,2,NULL);
INSERT INTO "holding" VALUES(3,'three','three','lanternbox','@ROOT@/apps/Lanternbox','@ROOT@/downloads/three.zip',130,X'AE5BCDF2929F3F4A9584DC9771F1E01E83CDD604E15537ACAB2B8C37AE27C5C7','zip','three','three','','','{"autostart": false, "choose": [], "claim": false, "every_format": false, "flat": false, "into": null, "names": null, "nested": false, "on_clash": "replace", "on_clash_of": [], "only": [], "picked": null, "programs": null, "skip": [], "skip_unsafe": false}',1795849237237892253,1,4,0,3,4);
CREATE TABLE holding_directory (
    holding   INTEGER NOT NULL REFERENCES holding,
    directory INTEGER NOT NULL REFERENCES directory,
    PRIMARY KEY (holding, directory)
) WITHOUT ROWID;
INSERT INTO "holding_directory" VALUES(1,1);
INSERT INTO "holding_directory" VALUES(2,1);
INSERT INTO "holding_directory" VALUES(2,4);
INSERT INTO "holding_directory" VALUES(3,1);
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
INSERT INTO "layer" VALUES(1,'a.gel',1,1,NULL,1,'file',8,1714979290000000000,420,2457738,X'50E283330512AD0B182D2A2B548075A5871D31EBFF0DD5268E71C7717CD25211','','gels/a.gel',0);
INSERT INTO "layer" VALUES(1,'moon.gel',0,1,NULL,NULL,'file',4,1795849234365479793,420,2441338,X'EB3C4771AA8569B685DFDC9ABD26EFA43B2F0F0686E3FE3D8EA40475C14F3F5B','','',1);
INSERT INTO "layer" VALUES(1,'moon.gel',1,1,NULL,1,'file',6,1714979290000000000,420,2457739,X'74C109901DCADEC700A4E4764EEB1DD7858A9D31193C49A6FF74C9F46CF0D56C','','gels/moon.gel',1);
INSERT INTO "layer" VALUES(1,'moon.gel',2,2,NULL,2,'file',6,1714979290000000000,420,2457741,X'2DFE590261A648270BF593ED77A3D04D22203B174E49B200FA49F453BEC27524','','gels/moon.gel',0);
INSERT INTO "layer" VALUES(4,'rig.toml',1,2,NULL,2,'file',3,1714979290000000000,420,2482331,X'387029595B058F623A6A7547DBC3CAB7AAB35D800C6059ED71873300BFE2F21B','','Owl/rig.toml',0);
CREATE TABLE note (
    holding INTEGER NOT NULL REFERENCES holding,
    entry   TEXT NOT NULL,
    file    TEXT NOT NULL,               -- name below the notes directory of the holding
    size    INTEGER NOT NULL,
    PRIMARY KEY (holding, entry)
) WITHOUT ROWID;
INSERT INTO "note" VALUES(1,'readme.txt','0.txt',2);
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
    PRIMARY KEY (change, path, name, level)
) WITHOUT ROWID;
INSERT INTO "past_layer" VALUES(4,'@ROOT@/apps/Lanternbox/Gels','gone.gel',1,3,'file',4,1714979290000000000,420,X'AFAE16E5C35FAFC0BB2C5333310842C4B11E4D3946D9E09DF5C194047375D47E','','gels/gone.gel');
CREATE TABLE place (                     -- the volumes that a holding lies on
    holding   INTEGER NOT NULL REFERENCES holding,
    base      TEXT NOT NULL,             -- the topmost of its directories there
    mount     TEXT NOT NULL,             -- where the volume was mounted; empty: not known
    volume    TEXT NOT NULL,             -- what tells it from all others; empty: nothing does
    is_beside INTEGER NOT NULL,          -- it was the one that this ledger is on
    PRIMARY KEY (holding, base)
) WITHOUT ROWID;
INSERT INTO "place" VALUES(1,'@ROOT@/apps/Lanternbox','/','ext4:ac4ed62465019581',1);
INSERT INTO "place" VALUES(2,'@ROOT@/apps/Lanternbox','/','ext4:ac4ed62465019581',1);
INSERT INTO "place" VALUES(3,'@ROOT@/apps/Lanternbox','/','ext4:ac4ed62465019581',1);
CREATE TABLE staging (
    path          TEXT PRIMARY KEY,
    change        INTEGER NOT NULL REFERENCES change,
    base          TEXT NOT NULL,
    parent_before INTEGER NOT NULL,
    parent_after  INTEGER NOT NULL,
    volume        TEXT NOT NULL,          -- what tells it from all others; empty: nothing does
    is_beside     INTEGER NOT NULL,       -- it is the one that this ledger is on
    settles       INTEGER                 -- the time its parent gets; NULL: its removal was not begun
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
CREATE TABLE unneeded_note (             -- notes to forget once a change is done or reversed
    holding INTEGER PRIMARY KEY
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
INSERT INTO "volume" VALUES(1,0,'@ROOT@/downloads/one.zip',338,X'DB58A5CFEAF36045581BEC2CDBDFE7515E963C60261168658D71D184FDC1CDAC',0);
INSERT INTO "volume" VALUES(2,0,'@ROOT@/downloads/two.zip',237,X'57A99767A7CE2EC4ADB7B4B5B22B305301F4850C165F2741B8F271D89F404AEC',0);
INSERT INTO "volume" VALUES(3,0,'@ROOT@/downloads/three.zip',130,X'AE5BCDF2929F3F4A9584DC9771F1E01E83CDD604E15537ACAB2B8C37AE27C5C7',0);
CREATE INDEX change_phase ON change (phase) WHERE phase IN ('staging', 'switching');
CREATE UNIQUE INDEX holding_name ON holding (name_key) WHERE gone IS NULL;
CREATE INDEX directory_parent ON directory (parent);
CREATE INDEX layer_backed ON layer (blake3) WHERE is_backed;
COMMIT;
