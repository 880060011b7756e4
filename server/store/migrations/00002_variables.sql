-- +goose Up
ALTER TABLE evidence ADD COLUMN IF NOT EXISTS variables JSON NULL COMMENT 'boot variables of the machine that a capture was taken on, by file name, in base64';
