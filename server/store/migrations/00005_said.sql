-- +goose Up
ALTER TABLE cases ADD COLUMN IF NOT EXISTS said VARCHAR(500) NOT NULL DEFAULT '' COMMENT 'what the screen said when the machine did not start';
