-- +goose Up
CREATE TABLE IF NOT EXISTS accounts (
  id          BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name        VARCHAR(80)     NOT NULL,
  role        VARCHAR(10)     NOT NULL COMMENT 'reader, technician or lead',
  password    VARCHAR(200)    NOT NULL DEFAULT '' COMMENT 'argon2id, in the form of the reference implementation; empty until the person has set one',
  epoch       INT UNSIGNED    NOT NULL DEFAULT 0 COMMENT 'sessions of an earlier one are over',
  disabled_at DATETIME(6)     NULL,
  demo        BOOLEAN         NOT NULL DEFAULT FALSE,
  created_at  DATETIME(6)     NOT NULL,
  UNIQUE KEY accounts_name (name)
);

CREATE TABLE IF NOT EXISTS keys_once (
  hash       BINARY(32)      NOT NULL PRIMARY KEY COMMENT 'SHA-256 of a key that signs in once',
  account_id BIGINT UNSIGNED NOT NULL,
  expires_at DATETIME(6)     NOT NULL,
  KEY keys_once_account (account_id),
  CONSTRAINT keys_once_account_fk FOREIGN KEY (account_id) REFERENCES accounts (id) ON DELETE CASCADE
);

CREATE TABLE IF NOT EXISTS sessions (
  token      VARCHAR(64) NOT NULL PRIMARY KEY COMMENT 'hash of what the browser holds',
  data       BLOB        NOT NULL,
  expires_at DATETIME(6) NOT NULL,
  KEY sessions_expiry (expires_at)
);

CREATE TABLE IF NOT EXISTS history (
  id      BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  case_id BIGINT UNSIGNED NOT NULL,
  at      DATETIME(6)     NOT NULL,
  who     VARCHAR(80)     NOT NULL,
  what    VARCHAR(40)     NOT NULL,
  detail  VARCHAR(500)    NOT NULL,
  KEY history_case (case_id, id),
  CONSTRAINT history_case_fk FOREIGN KEY (case_id) REFERENCES cases (id) ON DELETE CASCADE
);

CREATE TABLE IF NOT EXISTS security_log (
  id      BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  at      DATETIME(6)     NOT NULL,
  who     VARCHAR(80)     NOT NULL COMMENT 'the account, or the name that was tried',
  what    VARCHAR(40)     NOT NULL,
  detail  VARCHAR(500)    NOT NULL,
  address VARCHAR(60)     NOT NULL
);

CREATE TABLE IF NOT EXISTS settings (
  name  VARCHAR(40)  NOT NULL PRIMARY KEY,
  value VARCHAR(200) NOT NULL
);

ALTER TABLE cases
  ADD COLUMN IF NOT EXISTS closed_at DATETIME(6) NULL COMMENT 'when a person closed it',
  ADD COLUMN IF NOT EXISTS cleared_at DATETIME(6) NULL COMMENT 'when its evidence was removed, some time after it was closed';
