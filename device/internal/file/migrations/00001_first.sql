-- +goose Up
CREATE TABLE facts (
    name  TEXT PRIMARY KEY,
    value TEXT NOT NULL
) WITHOUT ROWID;

CREATE TABLE collections (
    name      TEXT PRIMARY KEY,
    version   INTEGER NOT NULL,
    doc       TEXT NOT NULL,
    cursor    INTEGER NOT NULL DEFAULT 0,
    head      INTEGER NOT NULL DEFAULT 0, -- central's head at the last pull
    pulled_at TEXT,
    loading   INTEGER NOT NULL DEFAULT 0,    -- it is being loaded from the start, for the first time or anew
    covers    TEXT NOT NULL DEFAULT '["*"]', -- JSON list of the territories that are loaded up to the cursor
    gaining   TEXT,                          -- those that are being loaded, while they are
    gained    INTEGER NOT NULL DEFAULT 0,    -- how far that load is
    seal      TEXT NOT NULL DEFAULT '',      -- central's word that it delivered up to the cursor
    sight     TEXT NOT NULL DEFAULT ''       -- who the device's workers were when it was loaded, where a rule says what they may read
) WITHOUT ROWID;

-- The view that people see. A record with unsent changes keeps what central last said beside it.
CREATE TABLE records (
    collection    TEXT NOT NULL,
    id            TEXT NOT NULL,
    revision      INTEGER NOT NULL, -- central's; 0 when central has none yet
    removed       INTEGER NOT NULL, -- in the view
    fields        TEXT NOT NULL,    -- of the view
    computed      TEXT NOT NULL DEFAULT '{}', -- values that are worked out from the view
    local         TEXT NOT NULL DEFAULT '{}', -- values that stay on this device
    marks         TEXT NOT NULL,    -- central's
    under_removed INTEGER NOT NULL DEFAULT 0,
    under_fields  TEXT,             -- central's; null when the view is the same
    under_by      TEXT NOT NULL DEFAULT '', -- who edited it last as central has it, and when; empty when that is who stands below
    pending       INTEGER NOT NULL DEFAULT 0, -- changes in the outbox
    withdrawn     INTEGER NOT NULL DEFAULT 0, -- the revision as of which it is no longer covered, and goes when its changes are answered; 0: it is
    lost          TEXT NOT NULL DEFAULT '', -- set when central was restored and has not said since that it has the record: the generation of its last word
    author        TEXT NOT NULL,
    device        TEXT NOT NULL,
    edited_at     TEXT NOT NULL,
    received_at   TEXT NOT NULL,    -- by central; empty for what is only here
    confirmed_at  TEXT,             -- when central last said that this is how it is; only for what was looked up
    used_at       TEXT,             -- when it was last looked at; only for what was looked up
    PRIMARY KEY (collection, id)
);
-- Which records of collections that are searched have changed, for programs that keep their texts in memory.
CREATE TABLE touched (
    n          INTEGER PRIMARY KEY AUTOINCREMENT,
    collection TEXT NOT NULL,
    id         TEXT NOT NULL
);

CREATE INDEX records_pending ON records (collection) WHERE pending > 0;
-- Of these there are few or none, and every exchange asks for them.
CREATE INDEX records_lost ON records (collection, id) WHERE lost <> '';
CREATE INDEX records_used ON records (used_at) WHERE used_at IS NOT NULL;
CREATE INDEX records_removed ON records (collection) WHERE removed;

-- Records whose computed values must be worked out before the transaction ends. Triggers fill it.
CREATE TABLE uncomputed (
    collection TEXT NOT NULL,
    id         TEXT NOT NULL,
    PRIMARY KEY (collection, id)
) WITHOUT ROWID;

-- The workers who may use this device, whoever enrolled it first.
CREATE TABLE people (
    name        TEXT PRIMARY KEY,
    place       INTEGER NOT NULL,
    role        TEXT NOT NULL,
    territories TEXT NOT NULL,            -- JSON list
    secret      TEXT NOT NULL DEFAULT '', -- argon2id of the PIN or password; empty when none was set
    keys        TEXT NOT NULL DEFAULT '[]', -- what is put aside for them is sealed for the first; earlier ones open what was before
    tries       INTEGER NOT NULL DEFAULT 0, -- wrong ones since the last right one
    tried_at    TEXT                      -- the last wrong one
) WITHOUT ROWID;

-- AUTOINCREMENT: a number is never given twice, whatever is deleted.
CREATE TABLE outbox (
    number     INTEGER PRIMARY KEY AUTOINCREMENT,
    collection TEXT NOT NULL,
    record     TEXT NOT NULL,
    kind       TEXT NOT NULL,
    base       INTEGER NOT NULL,
    fields     TEXT NOT NULL,
    stamp      TEXT NOT NULL,
    edited_at  TEXT NOT NULL,
    author     TEXT NOT NULL,
    origin     TEXT NOT NULL DEFAULT '', -- the incarnation that numbered it, where that is an earlier one
    generation TEXT NOT NULL DEFAULT '', -- of central, that base is meant in, where that is an earlier one
    grp        TEXT NOT NULL DEFAULT '', -- id of the group that it stands or falls with
    grp_of     INTEGER NOT NULL DEFAULT 0,
    mended     INTEGER NOT NULL DEFAULT 0, -- its group was refused, and goes again: whoever edits one of it edits the group
    seen       TEXT NOT NULL DEFAULT '[]', -- JSON list of unsent changes under earlier incarnations that its author saw
    folds      TEXT NOT NULL DEFAULT '[]', -- JSON list of the numbers of changes that this one says as well
    digests    TEXT NOT NULL DEFAULT '[]', -- JSON list of their digests, in that order
    parts      TEXT NOT NULL DEFAULT '[]', -- JSON list of these changes as they were saved
    place      INTEGER, -- where in the outbox it stands, when that is not its number
    boot       TEXT NOT NULL DEFAULT '', -- the run of the machine in which it was stamped
    line       INTEGER NOT NULL DEFAULT 0, -- milliseconds: the stamp less the time since that run began
    unsure     INTEGER NOT NULL DEFAULT 0, -- milliseconds: by how much central's date of it may be off, when it is offered again
    state      TEXT NOT NULL DEFAULT 'new', -- new, sent, refused or waiting
    batch      TEXT,    -- the batch that carries it, while it is sent as part of one
    reasons    TEXT,    -- why it was refused, or waits
    -- Of a change that was put aside since its author is not signed in: all that it says stands in these, and nowhere else.
    kept       BLOB, -- sealed for its author
    sealed     BLOB, -- sealed for central
    told       BLOB  -- why it was refused since then, sealed for its author
);
CREATE INDEX outbox_record ON outbox (collection, record);

-- Values that stay on this device, of records that were gone with what their author had put aside; sealed for the author.
CREATE TABLE kept_local (
    author TEXT NOT NULL,
    kept   BLOB NOT NULL
);

-- What has travelled, for people to read and for a central that was restored: the changes that it has accepted can be offered again.
CREATE TABLE travelled (
    at         TEXT NOT NULL, -- by this device's clock
    exchange   TEXT NOT NULL,
    up         INTEGER NOT NULL, -- 1 for a change that was sent, 0 for a record that came
    collection TEXT NOT NULL,
    record     TEXT NOT NULL,
    kind       TEXT NOT NULL, -- of a change; of a record that came: record, removed or withdrawn
    answer     TEXT NOT NULL DEFAULT '',
    revision   INTEGER NOT NULL,
    fields     TEXT NOT NULL,
    number     INTEGER NOT NULL DEFAULT 0, -- from here on, of changes only, as in the outbox
    base       INTEGER NOT NULL DEFAULT 0,
    stamp      TEXT NOT NULL DEFAULT '',
    dated      TEXT NOT NULL DEFAULT '', -- the stamp in central's time
    unsure     INTEGER NOT NULL DEFAULT 0, -- milliseconds: by how much that may be off
    edited_at  TEXT NOT NULL DEFAULT '',
    author     TEXT NOT NULL DEFAULT '',
    origin     TEXT NOT NULL DEFAULT '',
    generation TEXT NOT NULL DEFAULT '',
    grp        TEXT NOT NULL DEFAULT '',
    grp_of     INTEGER NOT NULL DEFAULT 0,
    seen       TEXT NOT NULL DEFAULT '[]',
    folds      TEXT NOT NULL DEFAULT '[]',
    digests    TEXT NOT NULL DEFAULT '[]',
    parts      TEXT NOT NULL DEFAULT '[]',
    kept       BLOB, -- of changes that went sealed, as in the outbox
    sealed     BLOB
);
CREATE INDEX travelled_exchange ON travelled (exchange);
CREATE INDEX travelled_at ON travelled (at);

-- What central had of records before it was restored from an older state, where it now has less.
CREATE TABLE lost_values (
    collection TEXT NOT NULL,
    id         TEXT NOT NULL,
    revision   INTEGER NOT NULL,
    fields     TEXT NOT NULL,
    marks      TEXT NOT NULL,
    removed    INTEGER NOT NULL DEFAULT 0, -- at central, by what it went back to
    PRIMARY KEY (collection, id)
) WITHOUT ROWID;

CREATE TABLE exchanges (
    id         TEXT PRIMARY KEY,
    started_at TEXT NOT NULL,
    ended_at   TEXT NOT NULL,
    summary    TEXT NOT NULL,
    error      TEXT NOT NULL
);
