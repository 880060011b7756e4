-- +goose Up
ALTER TABLE evidence ADD COLUMN IF NOT EXISTS bus VARCHAR(16) NOT NULL DEFAULT '' COMMENT 'on which the drive hung when it was read';
ALTER TABLE evidence ADD COLUMN IF NOT EXISTS taken_at DATETIME(3) NULL COMMENT 'when the bytes were read, as a capture tells, or else came in';
ALTER TABLE evidence ADD COLUMN IF NOT EXISTS unreadable JSON NULL COMMENT 'the byte ranges that the drive would not give';
UPDATE evidence SET taken_at = received_at WHERE taken_at IS NULL;
