-- +goose Up
ALTER TABLE cases ADD COLUMN IF NOT EXISTS proved_at DATETIME(6) NULL COMMENT 'when a first start from the clone was proved';
ALTER TABLE cases ADD COLUMN IF NOT EXISTS proof VARCHAR(300) NOT NULL DEFAULT '' COMMENT 'what proved it, and who saw it';
