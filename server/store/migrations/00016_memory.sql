-- +goose Up
ALTER TABLE cases
  ADD COLUMN IF NOT EXISTS model VARCHAR(200) NOT NULL DEFAULT '' COMMENT 'the machine''s model, by which cases are alike',
  ADD COLUMN IF NOT EXISTS rules VARCHAR(20) NOT NULL DEFAULT '' COMMENT 'version of the rules of the latest check';
ALTER TABLE cases
  ADD INDEX IF NOT EXISTS cases_model (model, updated_at, id),
  ADD INDEX IF NOT EXISTS cases_rules (rules, id);
ALTER TABLE checks ADD INDEX IF NOT EXISTS checks_stage (stage, reaches, case_id);
UPDATE cases SET model = TRIM(SUBSTRING_INDEX(machine, ',', 1));
UPDATE cases c SET rules = COALESCE((SELECT k.rules FROM checks k WHERE k.case_id = c.id ORDER BY k.id DESC LIMIT 1), '');
ALTER TABLE drives ADD INDEX IF NOT EXISTS drives_model (model);
ALTER TABLE marks ADD INDEX IF NOT EXISTS marks_step (step, state, case_id);

CREATE TABLE IF NOT EXISTS observations (
  id       BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  case_id  BIGINT UNSIGNED NOT NULL,
  start_id BIGINT UNSIGNED NOT NULL,
  choice   VARCHAR(60)     NOT NULL COMMENT 'key of the firmware''s choice',
  value    BOOLEAN         NOT NULL COMMENT 'what the start says of it, of necessity',
  KEY observations_case (case_id),
  CONSTRAINT observations_case_fk FOREIGN KEY (case_id) REFERENCES cases (id) ON DELETE CASCADE,
  CONSTRAINT observations_start_fk FOREIGN KEY (start_id) REFERENCES starts (id) ON DELETE CASCADE
);

CREATE TABLE IF NOT EXISTS verdict_changes (
  id           BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  case_id      BIGINT UNSIGNED NOT NULL,
  at           DATETIME(6)     NOT NULL,
  rules_before VARCHAR(20)     NOT NULL,
  rules        VARCHAR(20)     NOT NULL,
  before_text  VARCHAR(500)    NOT NULL,
  after_text   VARCHAR(500)    NOT NULL,
  why          VARCHAR(500)    NOT NULL,
  UNIQUE KEY changes_once (case_id, rules),
  KEY changes_rules (rules, id),
  CONSTRAINT changes_case_fk FOREIGN KEY (case_id) REFERENCES cases (id) ON DELETE CASCADE
);
