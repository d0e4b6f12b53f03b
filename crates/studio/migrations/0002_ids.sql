-- Numbers that have been given, so that none is given twice, whatever is deleted.
CREATE TABLE next_ids (
    kind TEXT PRIMARY KEY,
    id INTEGER NOT NULL
);
INSERT INTO next_ids SELECT 'shot', COALESCE(MAX(id), 0) + 1 FROM shots;
INSERT INTO next_ids SELECT 'run', COALESCE(MAX(id), 0) + 1 FROM runs;
INSERT INTO next_ids SELECT 'film', COALESCE(MAX(id), 0) + 1 FROM films;
-- The next element of the shot, and the next kept run.
ALTER TABLE shots ADD COLUMN next_element INTEGER NOT NULL DEFAULT 1;
ALTER TABLE shots ADD COLUMN next_run INTEGER NOT NULL DEFAULT 1;
UPDATE shots SET next_run = (SELECT COALESCE(MAX(number), 0) + 1 FROM runs WHERE runs.shot = shots.id);
