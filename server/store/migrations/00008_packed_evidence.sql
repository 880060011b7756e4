-- +goose Up
ALTER TABLE evidence
  ADD COLUMN IF NOT EXISTS held BIGINT NOT NULL DEFAULT 0 COMMENT 'bytes held in all',
  ADD COLUMN IF NOT EXISTS described BOOLEAN NOT NULL DEFAULT FALSE COMMENT 'it has boot variables',
  ADD COLUMN IF NOT EXISTS packed BOOLEAN NOT NULL DEFAULT FALSE COMMENT 'chunks hold the extents one after the other, and not the disk from its start';
UPDATE evidence SET described = TRUE WHERE variables IS NOT NULL AND variables NOT IN ('null', '{}');
ALTER TABLE evidence_chunks MODIFY COLUMN number INT UNSIGNED NOT NULL COMMENT 'in the order of the bytes held, in chunks of 256 KiB';
