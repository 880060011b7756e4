-- +goose Up
ALTER TABLE cases ADD COLUMN said VARCHAR(500) NOT NULL DEFAULT '' COMMENT 'what the screen said when the machine did not start';
