-- Settings of cloths and soft bodies that were kept as materials of one's own.
CREATE TABLE materials (
    kind TEXT NOT NULL,
    name TEXT NOT NULL,
    settings TEXT NOT NULL,
    PRIMARY KEY (kind, name)
);
