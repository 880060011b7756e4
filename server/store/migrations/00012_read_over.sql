-- +goose Up
ALTER TABLE evidence ADD COLUMN IF NOT EXISTS bus VARCHAR(16) NOT NULL DEFAULT '' COMMENT 'on which the drive hung when it was read';
