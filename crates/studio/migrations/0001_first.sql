CREATE TABLE projects (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE
);
CREATE TABLE shots (
    id INTEGER PRIMARY KEY,
    project INTEGER NOT NULL REFERENCES projects(id),
    name TEXT NOT NULL,
    -- The revision shown, and the one that redo leads to.
    head INTEGER NOT NULL,
    tip INTEGER NOT NULL,
    changed INTEGER NOT NULL
);
CREATE TABLE revisions (
    shot INTEGER NOT NULL REFERENCES shots(id) ON DELETE CASCADE,
    number INTEGER NOT NULL,
    parent INTEGER,
    label TEXT NOT NULL,
    -- Name given by the person, if this is a named version.
    version TEXT,
    made INTEGER NOT NULL,
    -- The shot as JSON, packed by zstd.
    document BLOB NOT NULL,
    PRIMARY KEY (shot, number)
);
CREATE TABLE runs (
    id INTEGER PRIMARY KEY,
    shot INTEGER NOT NULL REFERENCES shots(id) ON DELETE CASCADE,
    -- Number of a kept run; none for the current one.
    number INTEGER,
    name TEXT NOT NULL,
    made INTEGER NOT NULL
);
CREATE UNIQUE INDEX one_current_run ON runs(shot) WHERE number IS NULL;
CREATE TABLE films (
    id INTEGER PRIMARY KEY,
    shot INTEGER NOT NULL REFERENCES shots(id) ON DELETE CASCADE,
    name TEXT NOT NULL,
    revision INTEGER NOT NULL,
    -- What was asked for, as JSON.
    settings TEXT NOT NULL,
    made INTEGER NOT NULL
);
CREATE TABLE jobs (
    id INTEGER PRIMARY KEY,
    shot INTEGER NOT NULL REFERENCES shots(id) ON DELETE CASCADE,
    -- The film it renders; none for a bake.
    film INTEGER REFERENCES films(id) ON DELETE CASCADE,
    -- running, done, stopped, failed
    state TEXT NOT NULL,
    message TEXT NOT NULL DEFAULT '',
    made INTEGER NOT NULL
);
