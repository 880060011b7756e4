-- +goose Up
ALTER TABLE cases ADD COLUMN IF NOT EXISTS stands VARCHAR(16) NOT NULL DEFAULT '' COMMENT 'where the person stands';
ALTER TABLE cases ADD COLUMN IF NOT EXISTS reach VARCHAR(16) NOT NULL DEFAULT '' COMMENT 'what the person can get hold of';
