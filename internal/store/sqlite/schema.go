// Package sqlite is the database that records are kept in: how it is opened, what its
// errors mean in words, how its tables are made and made again. Every line that another
// database would want otherwise stands here; the questions that its users ask are in
// the SQL that all databases share.
package sqlite

// schema is what the records are made of.
const schema = `
CREATE TABLE meta (key TEXT PRIMARY KEY, value TEXT NOT NULL) STRICT;
CREATE TABLE authority (
  id INTEGER PRIMARY KEY, handle TEXT NOT NULL UNIQUE, parent INTEGER REFERENCES authority(id),
  holder TEXT NOT NULL DEFAULT 'here', retired TEXT NOT NULL DEFAULT '',
  list_number INTEGER NOT NULL DEFAULT 0) STRICT;
CREATE TABLE template (sha256 BLOB PRIMARY KEY, name TEXT NOT NULL, source BLOB NOT NULL) STRICT;
CREATE TABLE request (
  number INTEGER PRIMARY KEY AUTOINCREMENT, sha256 BLOB NOT NULL UNIQUE, der BLOB NOT NULL, title TEXT NOT NULL,
  key_sha256 BLOB NOT NULL, sender TEXT NOT NULL, received TEXT NOT NULL, state TEXT NOT NULL,
  reason TEXT NOT NULL DEFAULT '',
  decided TEXT NOT NULL DEFAULT '') STRICT;
CREATE INDEX request_key ON request(key_sha256);
CREATE INDEX request_state ON request(state);
CREATE TABLE certificate (
  id INTEGER PRIMARY KEY, serial TEXT NOT NULL, authority INTEGER REFERENCES authority(id),
  issuer INTEGER REFERENCES generation(id), der BLOB NOT NULL,
  title TEXT NOT NULL, subject TEXT NOT NULL, not_after INTEGER NOT NULL,
  key_sha256 BLOB NOT NULL, request INTEGER, template BLOB,
  sheet BLOB NOT NULL, staged TEXT NOT NULL DEFAULT '', replaces INTEGER REFERENCES certificate(id),
  replaced_by INTEGER REFERENCES certificate(id), part INTEGER NOT NULL DEFAULT 0,
  not_before INTEGER NOT NULL DEFAULT 0, key_kind TEXT NOT NULL DEFAULT '', names TEXT NOT NULL DEFAULT '',
  traits INTEGER NOT NULL DEFAULT 0) STRICT;
CREATE UNIQUE INDEX certificate_serial ON certificate(serial, authority);
CREATE INDEX certificate_end ON certificate(not_after);
CREATE INDEX certificate_request ON certificate(request);
CREATE INDEX certificate_issuer ON certificate(issuer, part);
CREATE INDEX certificate_key ON certificate(key_sha256);
CREATE INDEX certificate_authorities ON certificate(template) WHERE (traits & 1) <> 0;
CREATE INDEX certificate_alone ON certificate(template) WHERE coalesce(request, 0) = 0;
CREATE INDEX certificate_title ON certificate(title COLLATE NOCASE);
CREATE TABLE generation (
  id INTEGER PRIMARY KEY, authority INTEGER NOT NULL REFERENCES authority(id), number INTEGER NOT NULL,
  certificate INTEGER NOT NULL REFERENCES certificate(id), issuer INTEGER REFERENCES generation(id),
  staged TEXT NOT NULL DEFAULT '', stopped TEXT NOT NULL DEFAULT '', UNIQUE (authority, number)) STRICT;
CREATE TABLE link (
  certificate INTEGER PRIMARY KEY REFERENCES certificate(id), by_generation INTEGER NOT NULL REFERENCES generation(id),
  to_generation INTEGER NOT NULL REFERENCES generation(id)) STRICT;
CREATE TABLE sent (
  id INTEGER PRIMARY KEY, handle TEXT NOT NULL, parent TEXT NOT NULL, der BLOB NOT NULL, key_sha256 BLOB NOT NULL,
  made TEXT NOT NULL,
  answered TEXT NOT NULL DEFAULT '', staged TEXT NOT NULL DEFAULT '') STRICT;
CREATE TABLE holder (certificate INTEGER NOT NULL REFERENCES certificate(id), who TEXT NOT NULL, at TEXT NOT NULL,
  PRIMARY KEY (certificate, who)) STRICT;
CREATE TABLE revocation (
  id INTEGER PRIMARY KEY AUTOINCREMENT, authority INTEGER NOT NULL REFERENCES authority(id), serial TEXT NOT NULL,
  at TEXT NOT NULL, reason INTEGER NOT NULL, invalid TEXT NOT NULL DEFAULT '', ends INTEGER NOT NULL DEFAULT 0,
  part INTEGER NOT NULL DEFAULT 0, released TEXT NOT NULL DEFAULT '', again INTEGER NOT NULL DEFAULT 0,
	UNIQUE (authority, serial)) STRICT;
CREATE INDEX revocation_part ON revocation(authority, part, id);
CREATE INDEX revocation_released ON revocation(authority, part, released) WHERE released <> '';
CREATE INDEX revocation_ends ON revocation(authority, ends, part) WHERE released = '';
CREATE INDEX revocation_reason ON revocation(reason) WHERE reason IN (1, 2);
CREATE INDEX revocation_authority ON revocation(authority);
CREATE TABLE place (generation INTEGER NOT NULL REFERENCES generation(id), part INTEGER NOT NULL, kind TEXT NOT NULL,
  address TEXT NOT NULL, PRIMARY KEY (generation, part, kind, address)) STRICT;
CREATE TABLE carried (id TEXT PRIMARY KEY, at TEXT NOT NULL, what TEXT NOT NULL) STRICT;
CREATE TABLE name (kind TEXT NOT NULL, value TEXT NOT NULL, certificate INTEGER NOT NULL) STRICT;
CREATE INDEX name_value ON name(value);
CREATE TABLE outside (certificate INTEGER NOT NULL REFERENCES certificate(id), position INTEGER NOT NULL,
  der BLOB NOT NULL, PRIMARY KEY (certificate, position)) STRICT;
CREATE TABLE draft (key_sha256 BLOB PRIMARY KEY, file TEXT NOT NULL, sealed INTEGER NOT NULL,
  made TEXT NOT NULL) STRICT;
CREATE TABLE waiver (
  id INTEGER PRIMARY KEY, certificate INTEGER NOT NULL REFERENCES certificate(id), request INTEGER, code TEXT NOT NULL,
  who TEXT NOT NULL, reason TEXT NOT NULL) STRICT;
CREATE TABLE journal (
  seq INTEGER PRIMARY KEY, at TEXT NOT NULL, actor TEXT NOT NULL, act TEXT NOT NULL, object TEXT NOT NULL,
  detail TEXT NOT NULL,
  prev BLOB NOT NULL, hash BLOB NOT NULL) STRICT;
CREATE INDEX journal_at ON journal(at);
CREATE INDEX journal_act ON journal(act);
CREATE TABLE derived (kind TEXT NOT NULL, name TEXT NOT NULL, seq INTEGER NOT NULL REFERENCES journal(seq),
  at TEXT NOT NULL DEFAULT '', PRIMARY KEY (kind, name)) STRICT;
CREATE TABLE sealed (name TEXT PRIMARY KEY, data BLOB NOT NULL) STRICT;
CREATE TABLE moduli (id INTEGER PRIMARY KEY, keys BLOB NOT NULL, product BLOB NOT NULL) STRICT;
CREATE TABLE flaw (key_sha256 BLOB NOT NULL, code TEXT NOT NULL, message TEXT NOT NULL, PRIMARY KEY (key_sha256,
  code)) STRICT;
`
