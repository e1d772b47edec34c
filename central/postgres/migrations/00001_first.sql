-- +goose Up
CREATE TABLE identity (
    sole       boolean PRIMARY KEY DEFAULT true CHECK (sole),
    generation uuid NOT NULL,
    direct     uuid NOT NULL, -- the incarnation of changes made at central itself
    secret     bytea NOT NULL, -- what central signs its seals with
    created_at timestamptz NOT NULL DEFAULT now()
);

-- What the database was called before each restore, the latest last. Changes that devices bring may be based on what an earlier one had.
CREATE TABLE generations (
    place       bigint PRIMARY KEY GENERATED ALWAYS AS IDENTITY,
    generation  uuid NOT NULL UNIQUE,
    restored_at timestamptz NOT NULL -- when it ended
);

-- Numbers of the changes made at central itself.
CREATE SEQUENCE direct_numbers;

CREATE TABLE collections (
    name    text PRIMARY KEY,
    version int NOT NULL,
    head    bigint NOT NULL DEFAULT 0, -- position of the last accepted change; its row lock orders the commits
    doc     json NOT NULL
);

-- When a head was moved on from where it was: what is beyond was not there before. At most one row a second.
CREATE TABLE heads (
    collection text NOT NULL,
    left_at    timestamptz NOT NULL,
    head       bigint NOT NULL,
    PRIMARY KEY (collection, left_at)
);

CREATE TABLE definitions (
    collection text NOT NULL REFERENCES collections (name),
    version    int NOT NULL,
    doc        json NOT NULL,
    author     text NOT NULL,
    defined_at timestamptz NOT NULL,
    PRIMARY KEY (collection, version)
);

CREATE TABLE workers (
    name       text PRIMARY KEY,
    role       text NOT NULL,
    password    text NOT NULL, -- argon2id
    territories text[] NOT NULL,
    created_at timestamptz NOT NULL,
    while_open  boolean NOT NULL DEFAULT false, -- added while central was open to everybody: opens nothing until it is admitted
    disabled_at timestamptz,
    removed_at  timestamptz,
    may_deliver boolean NOT NULL DEFAULT false -- though disabled or removed: what their devices have queued is taken
);

CREATE TABLE sessions (
    token      bytea PRIMARY KEY, -- SHA-256 of the token
    id         uuid NOT NULL UNIQUE,
    worker     text NOT NULL REFERENCES workers (name),
    address    text NOT NULL, -- where it came from
    agent      text NOT NULL,
    created_at timestamptz NOT NULL,
    expires_at timestamptz NOT NULL
);

CREATE TABLE codes (
    code       bytea PRIMARY KEY, -- SHA-256 of the enrolment code
    id         uuid NOT NULL UNIQUE,
    worker     text NOT NULL REFERENCES workers (name),
    issued_by  text NOT NULL,
    created_at timestamptz NOT NULL,
    expires_at timestamptz NOT NULL,
    used_at    timestamptz,
    voided_at  timestamptz,
    while_open boolean NOT NULL DEFAULT false
);

-- Who did what to the people, devices and codes. Nothing in it is ever altered.
CREATE TABLE audit (
    place   bigint PRIMARY KEY GENERATED ALWAYS AS IDENTITY,
    at      timestamptz NOT NULL,
    worker  text NOT NULL, -- who did it; empty for whoever runs central
    address text NOT NULL, -- where from
    act     text NOT NULL,
    about   text NOT NULL, -- the worker, device or code that it was done to
    detail  text NOT NULL
);
CREATE INDEX audit_about ON audit (about, place);

-- +goose StatementBegin
CREATE FUNCTION audit_stays() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    RAISE EXCEPTION 'the audit list is not altered';
END $$;
-- +goose StatementEnd
CREATE TRIGGER audit_stays BEFORE UPDATE OR DELETE OR TRUNCATE ON audit EXECUTE FUNCTION audit_stays();

CREATE TABLE devices (
    id          uuid PRIMARY KEY,
    name        text NOT NULL,
    worker      text NOT NULL REFERENCES workers (name),
    token       bytea NOT NULL UNIQUE, -- SHA-256 of the token
    incarnation uuid NOT NULL UNIQUE,
    agent       text NOT NULL,
    enrolled_at timestamptz NOT NULL,
    revoked_at  timestamptz,
    may_deliver boolean NOT NULL DEFAULT false, -- though revoked, it may send what it has queued
    while_open  boolean NOT NULL DEFAULT false, -- enrolled while central was open to everybody
    seen_at     timestamptz,
    offset_ms   bigint, -- of the device's clock, as last measured
    error_ms    bigint,
    unsent      bigint, -- changes in its outbox, as it last reported
    refused     bigint,
    waiting     bigint
);

-- The local stores that a device has had: a new one after each restore from a backup.
CREATE TABLE incarnations (
    incarnation uuid PRIMARY KEY,
    device      uuid NOT NULL REFERENCES devices (id),
    since       timestamptz NOT NULL,
    torn        boolean NOT NULL DEFAULT false -- two stores have used its numbers: it is not one mind any more
);

-- The workers who may use a device, whoever enrolled it among them.
CREATE TABLE device_workers (
    device   uuid NOT NULL REFERENCES devices (id),
    worker   text NOT NULL REFERENCES workers (name),
    added_at timestamptz NOT NULL,
    PRIMARY KEY (device, worker)
);

-- Whom a device had before, with the rights that they had: its store may hold, and may have changed without signal, what they saw.
CREATE TABLE former_people (
    device uuid NOT NULL REFERENCES devices (id),
    place  bigint GENERATED ALWAYS AS IDENTITY,
    people json NOT NULL,
    until  timestamptz NOT NULL,
    PRIMARY KEY (device, place)
);

CREATE TABLE cursors (
    device     uuid NOT NULL REFERENCES devices (id),
    collection text NOT NULL REFERENCES collections (name),
    cursor     bigint NOT NULL,
    pulled_at  timestamptz NOT NULL,
    PRIMARY KEY (device, collection)
);

-- Fields stay JSON text as the core wrote it: jsonb would reorder keys, and a pull would have to rewrite each record.
CREATE TABLE records (
    collection  text NOT NULL, -- no foreign key: collections are never dropped, and the check would be made row by row
    id          uuid NOT NULL,
    revision    bigint NOT NULL,
    position    bigint NOT NULL,
    restored    bigint NOT NULL DEFAULT 0, -- revision at the last restore of the database
    removed     boolean NOT NULL,
    fields      json NOT NULL,
    computed    json NOT NULL DEFAULT '{}', -- values that are worked out: no part of what people set, nor of the history
    marks       json NOT NULL,
    territories text[] NOT NULL,      -- keys that the record falls into
    left_territories text[] NOT NULL, -- keys that it fell into earlier and not now: who holds them must drop it
    incarnation uuid NOT NULL, -- source of the last change
    number      bigint NOT NULL,
    again       boolean NOT NULL DEFAULT false, -- whether a new definition gave it its position, rather than its last change
    author      text NOT NULL,
    device      text NOT NULL,
    edited_at   timestamptz NOT NULL,
    received_at timestamptz NOT NULL,
    PRIMARY KEY (collection, id)
);
CREATE INDEX records_disputed ON records (collection, id) WHERE (marks->'disputes') IS NOT NULL AND NOT removed;
CREATE UNIQUE INDEX records_position ON records (collection, position);

CREATE TABLE versions (
    collection     text NOT NULL,
    record         uuid NOT NULL,
    revision       bigint NOT NULL,
    position       bigint NOT NULL,
    kind           text NOT NULL,
    base           bigint NOT NULL,
    removed        boolean NOT NULL, -- whether the record is, after the change
    delta          json NOT NULL,
    sent           json, -- what the change asked for, when that is not the delta
    decisions      json,
    incarnation    uuid NOT NULL,
    number         bigint NOT NULL,
    batch          uuid,
    author         text NOT NULL,
    device         text NOT NULL,
    stamp          text NOT NULL,
    edited_device  timestamptz NOT NULL,
    edited_at      timestamptz NOT NULL,
    uncertainty_ms bigint NOT NULL,
    received_at    timestamptz NOT NULL,
    PRIMARY KEY (collection, record, revision)
);

-- One row for each change that central has answered for good, so that a repeated change gets the same answer.
CREATE TABLE answers (
    incarnation uuid NOT NULL,
    number      bigint NOT NULL,
    digest      bytea NOT NULL,
    answer      json NOT NULL,
    waits       boolean NOT NULL DEFAULT false, -- not answered for good: only what the change says is known
    PRIMARY KEY (incarnation, number)
);

CREATE TABLE exchanges (
    id          uuid NOT NULL,
    device      uuid NOT NULL REFERENCES devices (id),
    started_at  timestamptz NOT NULL,
    last_at     timestamptz NOT NULL,
    batches     bigint NOT NULL DEFAULT 0,
    applied     bigint NOT NULL DEFAULT 0,
    merged      bigint NOT NULL DEFAULT 0,
    held        bigint NOT NULL DEFAULT 0,
    refused     bigint NOT NULL DEFAULT 0,
    waiting     bigint NOT NULL DEFAULT 0,
    repeated    bigint NOT NULL DEFAULT 0, -- changes that had been answered before
    delivered   bigint NOT NULL DEFAULT 0,
    bytes_in    bigint NOT NULL DEFAULT 0,
    bytes_out   bigint NOT NULL DEFAULT 0,
    PRIMARY KEY (device, id)
);
CREATE INDEX exchanges_last ON exchanges (last_at DESC);

-- What travelled in an exchange. The fields stand in the history, or here where a change did not get into it.
CREATE TABLE travelled (
    device      uuid NOT NULL,
    exchange    uuid NOT NULL,
    at          timestamptz NOT NULL,
    batch       uuid,             -- of a push
    collections text[] NOT NULL,  -- of each change of a batch; of a page, the one that it is of
    records     uuid[] NOT NULL,
    revisions   bigint[] NOT NULL, -- 0 for a change that was not accepted, negative for a record that was removed or withdrawn
    numbers     bigint[],         -- of changes
    answers     text[],           -- to changes
    others      json              -- changes that were not accepted, with the reasons, by number
);
CREATE INDEX travelled_exchange ON travelled (exchange);
CREATE INDEX travelled_at ON travelled (at);
