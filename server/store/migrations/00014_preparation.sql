-- +goose Up
ALTER TABLE cases ADD COLUMN IF NOT EXISTS preparation MEDIUMTEXT NULL COMMENT 'what was planned and seen before the copy, JSON';
