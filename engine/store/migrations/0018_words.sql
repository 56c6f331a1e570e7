-- +goose Up
-- +goose StatementBegin
-- States, rights and types of notifications have the names of the API.
DROP INDEX deliveries_restless;
UPDATE deliveries SET state = CASE state WHEN 'proving' THEN 'testing' WHEN 'stopped' THEN 'failed' WHEN 'refused' THEN 'rejected'
    WHEN 'went back' THEN 'rolled-back' WHEN 'overtaken' THEN 'superseded' ELSE state END;
CREATE INDEX deliveries_restless ON deliveries (service, stage)
    WHERE state IN ('waiting', 'planning', 'deploying', 'shifting', 'testing', 'failed');
UPDATE passages SET state = CASE state WHEN 'proving' THEN 'testing' WHEN 'stopped' THEN 'failed' WHEN 'refused' THEN 'rejected'
    WHEN 'went back' THEN 'rolled-back' WHEN 'overtaken' THEN 'superseded' ELSE state END;
UPDATE builds SET state = 'succeeded' WHERE state = 'done';
UPDATE deployments SET state = CASE state WHEN 'done' THEN 'succeeded' WHEN 'partly done' THEN 'partially-succeeded'
    WHEN 'stopped' THEN 'failed' ELSE state END;
UPDATE deployment_steps SET state = 'succeeded' WHERE state = 'done';
UPDATE events SET topic = CASE topic WHEN 'look' THEN 'observation' WHEN 'notice' THEN 'notification' ELSE topic END;
UPDATE tokens SET acts = trim(replace(replace(replace(replace(replace(replace(replace(',' || replace(acts, ',', ',,') || ',',
    ',look,', ',view,'), ',try,', ',invoke,'), ',ask,', ',request,'), ',pass over,', ',override,'), ',secrets,', ',set-secrets,'),
    ',run,', ',deploy,'), ',look after,', ',administer,'), ',');
UPDATE tokens SET acts = replace(acts, ',,', ',');
-- +goose StatementEnd
