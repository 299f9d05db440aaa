-- +goose Up
-- The oldest entries of the audit log move to segments in a store. A segment stays known here when its entries were destroyed: behind
-- the last of them the log begins. 'before' is the hash of the entry before the first, 'hash' that of the last. 'due_at' is from when on its
-- entries may be destroyed, which is said some time before.
CREATE TABLE audit_segment (
	first INTEGER PRIMARY KEY, last INTEGER NOT NULL, before TEXT NOT NULL, hash TEXT NOT NULL, least TEXT NOT NULL, greatest TEXT NOT NULL,
	erased INTEGER NOT NULL, store TEXT NOT NULL, stem TEXT NOT NULL, written TEXT NOT NULL, digest TEXT NOT NULL,
	moved_at TEXT NOT NULL, due_at TEXT, destroyed_at TEXT);
-- Files of segments that nothing refers to any more, and that have not been removed yet.
CREATE TABLE audit_leftover (store TEXT NOT NULL, stem TEXT NOT NULL, since TEXT NOT NULL, PRIMARY KEY (store, stem));
-- Details that have to be taken out of segments: those of entries that an entry of the log names, or of those that are still to be sought.
CREATE TABLE audit_erasure (id INTEGER PRIMARY KEY, actor TEXT NOT NULL, why TEXT NOT NULL, through INTEGER NOT NULL, condition TEXT NOT NULL,
	entry INTEGER NOT NULL DEFAULT 0, entries TEXT NOT NULL DEFAULT '[]');
