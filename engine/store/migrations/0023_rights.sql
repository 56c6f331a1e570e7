-- +goose Up
-- +goose StatementBegin
-- A right is a row: of a user, a group or a token (its id); a role or a permission; a scope, '' for everywhere.
CREATE TABLE rights (
    kind TEXT NOT NULL CHECK (kind IN ('user', 'group', 'token')), subject TEXT NOT NULL, granted TEXT NOT NULL,
    scope TEXT NOT NULL, person TEXT NOT NULL, made_at INTEGER NOT NULL, PRIMARY KEY (kind, subject, granted, scope)
) WITHOUT ROWID;
WITH RECURSIVE split (handle, role, scope, rest) AS (
    SELECT handle, role, '', places || ' ' FROM people
    UNION ALL
    SELECT handle, role, substr(rest, 1, instr(rest, ' ') - 1), substr(rest, instr(rest, ' ') + 1) FROM split WHERE rest <> ''
)
INSERT OR IGNORE INTO rights SELECT 'user', s.handle, s.role, s.scope, '', p.made_at FROM split s JOIN people p ON p.handle = s.handle
    WHERE (s.scope <> '') <> (trim(p.places) = '') AND s.role <> '';
-- Everybody could view everything until now.
INSERT OR IGNORE INTO rights SELECT 'user', handle, 'view', '', '', made_at FROM people;
INSERT INTO journal (at, person, service, stage, what, text)
    SELECT CAST(unixepoch('subsec') * 1000 AS INTEGER), '', '', '', 'right granted',
        handle || ': view everywhere, as before; from now on rights to view have a scope, and events, responses and dead letters require view-bodies'
    FROM people;
WITH RECURSIVE acts (id, act, rest) AS (
    SELECT id, '', acts || ',' FROM tokens
    UNION ALL
    SELECT id, substr(rest, 1, instr(rest, ',') - 1), substr(rest, instr(rest, ',') + 1) FROM acts WHERE rest <> ''
), places (id, scope, rest) AS (
    SELECT id, '', places || ' ' FROM tokens
    UNION ALL
    SELECT id, substr(rest, 1, instr(rest, ' ') - 1), substr(rest, instr(rest, ' ') + 1) FROM places WHERE rest <> ''
)
INSERT OR IGNORE INTO rights SELECT 'token', t.id, a.act, p.scope, t.handle, t.made_at
    FROM tokens t JOIN acts a USING (id) JOIN places p USING (id)
    WHERE a.act <> '' AND (p.scope <> '') <> (trim(t.places) = '');
ALTER TABLE people DROP COLUMN role;
ALTER TABLE people DROP COLUMN places;
ALTER TABLE tokens DROP COLUMN acts;
ALTER TABLE tokens DROP COLUMN places;
-- +goose StatementEnd
