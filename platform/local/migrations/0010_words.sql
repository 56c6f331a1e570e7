-- +goose Up
-- +goose StatementBegin
-- Attributes have the names of the manifests. A revision's configuration excludes the
-- renamed ones, so every revision keeps its ID.
UPDATE resources SET attributes = json_remove(json_set(attributes, '$.max_concurrency', json_extract(attributes, '$.at_once')), '$.at_once')
    WHERE kind = 'function' AND json_type(attributes, '$.at_once') IS NOT NULL;
UPDATE revisions SET config = json_remove(json_set(config, '$.max_concurrency', json_extract(config, '$.at_once')), '$.at_once')
    WHERE json_type(config, '$.at_once') IS NOT NULL;
UPDATE resources SET attributes = json_remove(json_set(attributes, '$.retention', json_extract(attributes, '$.keep')), '$.keep')
    WHERE kind = 'logs' AND json_type(attributes, '$.keep') IS NOT NULL;
UPDATE resources SET attributes = json_set(attributes, '$.to', json('["authenticated"]'))
    WHERE kind = 'opening' AND json_extract(attributes, '$.to') = '["members"]';
UPDATE resources SET attributes = json_remove(json_set(attributes, '$.events', json(json_extract(attributes, '$.on'))), '$.on')
    WHERE kind = 'subscription' AND json_type(attributes, '$.on') IS NOT NULL;
UPDATE resources SET attributes = json_remove(json_set(attributes, '$.batch_size', json_extract(attributes, '$.batch')), '$.batch')
    WHERE kind = 'subscription' AND json_type(attributes, '$.batch') IS NOT NULL;
UPDATE resources SET attributes = json_remove(json_set(attributes, '$.max_wait', json_extract(attributes, '$.wait')), '$.wait')
    WHERE kind = 'subscription' AND json_type(attributes, '$.wait') IS NOT NULL;
-- Metrics name the purpose of an invocation: case or manual.
UPDATE minutes SET cause = 'manual:' || substr(cause, 6) WHERE cause LIKE 'hand:%';
-- Responses to repeated requests are computed again.
DELETE FROM answered;
-- +goose StatementEnd
