-- +goose Up
ALTER TABLE evidence ADD COLUMN IF NOT EXISTS counts JSON NULL COMMENT 'figures that a capture counted over bytes which it leaves out';
