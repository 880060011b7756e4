-- +goose Up
CREATE TABLE IF NOT EXISTS cases (
  id           BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  title        VARCHAR(200)    NOT NULL,
  machine      VARCHAR(200)    NOT NULL DEFAULT '',
  firmware     JSON            NOT NULL COMMENT 'typed facts of the firmware; absent ones are unknown',
  device_order JSON            NOT NULL COMMENT 'drive roles, first tried first; empty is unknown',
  version      INT UNSIGNED    NOT NULL DEFAULT 1,
  verdict      VARCHAR(20)     NOT NULL DEFAULT '' COMMENT 'of the latest check, for lists only',
  reaches      VARCHAR(20)     NOT NULL DEFAULT '',
  stage        VARCHAR(20)     NOT NULL DEFAULT '',
  headline     VARCHAR(500)    NOT NULL DEFAULT '',
  demo         VARCHAR(60)     NULL COMMENT 'name of the demo case this was made from',
  created_at   DATETIME(6)     NOT NULL,
  updated_at   DATETIME(6)     NOT NULL,
  UNIQUE KEY cases_demo (demo),
  KEY cases_recent (updated_at, id),
  KEY cases_verdict (reaches, updated_at, id)
);

CREATE TABLE IF NOT EXISTS case_words (
  word    VARCHAR(60)     NOT NULL,
  case_id BIGINT UNSIGNED NOT NULL,
  PRIMARY KEY (word, case_id),
  KEY case_words_case (case_id),
  CONSTRAINT case_words_case_fk FOREIGN KEY (case_id) REFERENCES cases (id) ON DELETE CASCADE
);

CREATE TABLE IF NOT EXISTS evidence (
  id          BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  case_id     BIGINT UNSIGNED NOT NULL,
  role        VARCHAR(10)     NOT NULL,
  filename    VARCHAR(255)    NOT NULL,
  capacity    BIGINT          NOT NULL COMMENT 'bytes',
  sector_size INT             NOT NULL COMMENT 'logical, bytes',
  extents     JSON            NOT NULL COMMENT 'the byte ranges held',
  received_at DATETIME(6)     NOT NULL,
  KEY evidence_case (case_id, role, id),
  CONSTRAINT evidence_case_fk FOREIGN KEY (case_id) REFERENCES cases (id) ON DELETE CASCADE
);

CREATE TABLE IF NOT EXISTS evidence_chunks (
  evidence_id BIGINT UNSIGNED NOT NULL,
  number      INT UNSIGNED    NOT NULL COMMENT 'position on the disk, in chunks of 256 KiB',
  data        MEDIUMBLOB      NOT NULL COMMENT 'zstd; a chunk of zeros is left out',
  PRIMARY KEY (evidence_id, number),
  CONSTRAINT evidence_chunks_fk FOREIGN KEY (evidence_id) REFERENCES evidence (id) ON DELETE CASCADE
);

CREATE TABLE IF NOT EXISTS drives (
  case_id     BIGINT UNSIGNED NOT NULL,
  role        VARCHAR(10)     NOT NULL,
  model       VARCHAR(200)    NOT NULL DEFAULT '',
  bus         VARCHAR(10)     NULL,
  attached    BOOLEAN         NULL,
  evidence_id BIGINT UNSIGNED NULL COMMENT 'the evidence in force',
  PRIMARY KEY (case_id, role),
  KEY drives_evidence (evidence_id),
  CONSTRAINT drives_case_fk FOREIGN KEY (case_id) REFERENCES cases (id) ON DELETE CASCADE,
  CONSTRAINT drives_evidence_fk FOREIGN KEY (evidence_id) REFERENCES evidence (id) ON DELETE SET NULL
);

CREATE TABLE IF NOT EXISTS checks (
  id       BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  case_id  BIGINT UNSIGNED NOT NULL,
  at       DATETIME(6)     NOT NULL,
  rules    VARCHAR(20)     NOT NULL COMMENT 'version of the rules',
  verdict  VARCHAR(20)     NOT NULL,
  reaches  VARCHAR(20)     NOT NULL,
  stage    VARCHAR(20)     NOT NULL DEFAULT '',
  headline VARCHAR(500)    NOT NULL,
  KEY checks_case (case_id, id),
  CONSTRAINT checks_case_fk FOREIGN KEY (case_id) REFERENCES cases (id) ON DELETE CASCADE
);
