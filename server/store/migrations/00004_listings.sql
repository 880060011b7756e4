-- +goose Up
CREATE TABLE IF NOT EXISTS listings (
  id           BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  case_id      BIGINT UNSIGNED NOT NULL,
  filename     VARCHAR(255)    NOT NULL DEFAULT '' COMMENT 'empty for a pasted text',
  format       VARCHAR(40)     NOT NULL COMMENT 'the command, as recognised or as a person said',
  disks        JSON            NOT NULL COMMENT 'drive role by the name of a disk in the listing',
  body         MEDIUMBLOB      NOT NULL COMMENT 'the listing as it came, zstd',
  length       INT UNSIGNED    NOT NULL COMMENT 'bytes of the listing',
  received_at  DATETIME(6)     NOT NULL,
  withdrawn_at DATETIME(6)     NULL,
  KEY listings_case (case_id, id),
  CONSTRAINT listings_case_fk FOREIGN KEY (case_id) REFERENCES cases (id) ON DELETE CASCADE
);
ALTER TABLE evidence ADD COLUMN IF NOT EXISTS withdrawn_at DATETIME(6) NULL;
ALTER TABLE drives ADD COLUMN IF NOT EXISTS told JSON NULL COMMENT 'the disk as a person tells of it; absent facts are unknown';
