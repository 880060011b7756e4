-- +goose Up
CREATE TABLE IF NOT EXISTS starts (
  id           BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  case_id      BIGINT UNSIGNED NOT NULL,
  at           DATETIME(6)     NOT NULL COMMENT 'when the machine was started',
  recorded_at  DATETIME(6)     NOT NULL,
  kind         VARCHAR(10)     NOT NULL COMMENT 'cold, warm or unknown',
  origin       VARCHAR(10)     NOT NULL COMMENT 'clone, original, neither, open or failed',
  why          VARCHAR(500)    NOT NULL COMMENT 'what proves it',
  note         VARCHAR(2000)   NOT NULL COMMENT 'what else was seen, or what the screen said',
  who          VARCHAR(80)     NOT NULL,
  evidence_id  BIGINT UNSIGNED NULL COMMENT 'the capture that proves it',
  withdrawn_at DATETIME(6)     NULL,
  KEY starts_case (case_id, at, id),
  CONSTRAINT starts_case_fk FOREIGN KEY (case_id) REFERENCES cases (id) ON DELETE CASCADE,
  CONSTRAINT starts_evidence_fk FOREIGN KEY (evidence_id) REFERENCES evidence (id) ON DELETE SET NULL
);
INSERT INTO starts (case_id, at, recorded_at, kind, origin, why, note, who)
  SELECT m.case_id, m.at, m.at, 'unknown',
    CASE WHEN m.state = 'done' THEN 'clone' WHEN m.note LIKE 'It did not come up%' THEN 'failed' ELSE 'open' END,
    LEFT(m.note, 500), '', m.who FROM marks m WHERE m.step = 'first-start';
DELETE FROM marks WHERE step = 'first-start';

CREATE TABLE IF NOT EXISTS answers (
  id           BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  case_id      BIGINT UNSIGNED NOT NULL,
  at           DATETIME(6)     NOT NULL,
  who          VARCHAR(80)     NOT NULL,
  body         MEDIUMBLOB      NOT NULL COMMENT 'what the running system answered, zstd',
  KEY answers_case (case_id, id),
  CONSTRAINT answers_case_fk FOREIGN KEY (case_id) REFERENCES cases (id) ON DELETE CASCADE
);

ALTER TABLE cases
  ADD COLUMN IF NOT EXISTS handover MEDIUMTEXT NULL COMMENT 'what was decided and seen after the first start, JSON';
ALTER TABLE evidence
  ADD COLUMN IF NOT EXISTS serial VARCHAR(120) NOT NULL DEFAULT '' COMMENT 'the drive''s, as a capture tells it';
