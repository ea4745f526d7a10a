-- +goose Up
CREATE SEQUENCE brisk_versions;

CREATE TABLE brisk_items (
  kind    smallint NOT NULL,
  owner   bytea    NOT NULL,
  id      bytea    NOT NULL,
  version bigint   NOT NULL,
  expires timestamptz,
  value   bytea    NOT NULL,
  PRIMARY KEY (kind, owner, id)
) WITH (fillfactor = 80);
CREATE INDEX brisk_items_expire ON brisk_items (expires) WHERE expires IS NOT NULL;

CREATE TABLE brisk_clients (
  id       bytea PRIMARY KEY,
  document bytea NOT NULL
);
CREATE TABLE brisk_consents (
  id       bigint PRIMARY KEY,
  client   bytea NOT NULL,
  app      bytea NOT NULL,
  holder   bytea NOT NULL,
  state    text  NOT NULL,
  document bytea NOT NULL
);
CREATE INDEX brisk_consents_held ON brisk_consents (client, app, holder);
CREATE INDEX brisk_consents_waiting ON brisk_consents (state) WHERE state = 'waiting';
CREATE TABLE brisk_journal (
  number   bigint PRIMARY KEY,
  document bytea NOT NULL
);
