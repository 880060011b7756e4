-- +goose Up
CREATE TABLE IF NOT EXISTS marks (
  id       BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  case_id  BIGINT UNSIGNED NOT NULL,
  step     VARCHAR(80)     NOT NULL COMMENT 'key of the step of a repair plan',
  title    VARCHAR(300)    NOT NULL,
  state    VARCHAR(10)     NOT NULL COMMENT 'done, failed, skipped or undone',
  note     TEXT            NOT NULL COMMENT 'what the command answered, or what was seen',
  who      VARCHAR(80)     NOT NULL,
  at       DATETIME(6)     NOT NULL,
  KEY marks_case (case_id, id),
  CONSTRAINT marks_case_fk FOREIGN KEY (case_id) REFERENCES cases (id) ON DELETE CASCADE
);
