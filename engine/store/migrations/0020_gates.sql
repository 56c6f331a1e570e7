-- +goose Up
-- +goose StatementBegin
-- Gates are called after what they check, in overrides and in stored results alike.
UPDATE passed_over SET name = 'cases in ' || substr(name, 15) WHERE name LIKE 'cases pass in %';
UPDATE judgements SET body = replace(replace(replace(body, '"name":"the stage before"', '"name":"preceding stage"'),
    '"name":"cases pass in ', '"name":"cases in '), '"kind":"strict","name":"strict"', '"kind":"strict","name":"wildcards"');
-- +goose StatementEnd
