-- +goose Up
-- A condition can be unknown now; what was sensed last is sensed anew at the start.
DELETE FROM facts WHERE name = 'conditions';
