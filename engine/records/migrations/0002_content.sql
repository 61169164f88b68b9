-- +goose Up
-- What has the same content is found by its hash, however many copies are of
-- one size, or of one content.
DROP INDEX copies_size;
CREATE INDEX copies_content ON copies (destination, sha256, state) WHERE sha256 <> '';
