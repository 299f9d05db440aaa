package catalog

import (
	"context"
	"errors"
)

// Lineage is which database a table's rows were last moved from, and how far its journal had come.
type Lineage struct {
	Source   string `db:"source"`
	Table    string `db:"table_name"`
	Identity string `db:"identity"` // of the journal, which goes wherever the database's data goes
	Server   string `db:"server"`   // that answered; empty where it does not tell
	Epoch    int64  `db:"epoch"`    // of the lease that was last taken
	// the epoch that began when source and catalog were last settled; 0: never
	Settled int64 `db:"settled"`
}

// TableLineage returns what is known of a table; nil where no run has worked on it.
func (c *Catalog) TableLineage(ctx context.Context, source, table string) (*Lineage, error) {
	l, err := get[Lineage](ctx, c.db, "table", source+"."+table,
		"SELECT * FROM lineage WHERE source = ? AND table_name = ?", source, table)
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	return l, err
}

// Lineages lists what is known of all tables.
func (c *Catalog) Lineages(ctx context.Context) (out []Lineage, err error) {
	return out, c.db.SelectContext(ctx, &out, "SELECT * FROM lineage ORDER BY source, table_name")
}

// SaveLineage keeps what is known of a table. That it was settled once stays.
func (c *Catalog) SaveLineage(ctx context.Context, l Lineage) error {
	_, err := c.writes.NamedExecContext(ctx,
		`INSERT INTO lineage VALUES (:source, :table_name, :identity, :server, :epoch, :settled)
		ON CONFLICT (source, table_name) DO UPDATE SET identity = excluded.identity, server = excluded.server,
			epoch = excluded.epoch, settled = max(settled, excluded.settled)`, l)
	return err
}

// LinksAfter lists the closed segments of a table whose closing record is a later link than one, in order of their
// number.
func (c *Catalog) LinksAfter(ctx context.Context, source, table string, link int64) (out []Segment, err error) {
	return out, c.db.SelectContext(ctx, &out,
		"SELECT * FROM segment WHERE source = ? AND table_name = ? AND state = 'closed' AND closing_sequence > ? "+
			"ORDER BY closing_sequence", source, table, link)
}

// StemSegment returns the segment of a stem; nil where none is known.
func (c *Catalog) StemSegment(ctx context.Context, stem string) (*Segment, error) {
	s, err := get[Segment](ctx, c.db, "segment at", stem, "SELECT * FROM segment WHERE stem = ?", stem)
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	return s, err
}

// LastLink returns the newest link of a table's chain that the catalog knows of: its sequence, 0 for none, and hash.
func (c *Catalog) LastLink(ctx context.Context, source, table string) (sequence int64, hash string, err error) {
	var last []struct {
		Sequence int64  `db:"n"`
		Hash     string `db:"hash"`
	}
	err = c.db.SelectContext(ctx, &last, lastLinkQuery, source, table)
	if err != nil || len(last) == 0 {
		return 0, "", err
	}
	return last[0].Sequence, last[0].Hash, nil
}

// lastLinkQuery takes the newest of each kind of record by its index.
const lastLinkQuery = `SELECT * FROM (SELECT sequence AS n, manifest_hash AS hash FROM segment WHERE source = ?1
	AND table_name = ?2 ORDER BY sequence DESC LIMIT 1)
	UNION ALL SELECT * FROM (SELECT closing_sequence, closing_hash FROM segment WHERE source = ?1 AND table_name = ?2
		ORDER BY closing_sequence DESC LIMIT 1)
	UNION ALL SELECT * FROM (SELECT disposal_sequence, disposal_hash FROM segment WHERE source = ?1 AND table_name = ?2
		ORDER BY disposal_sequence DESC LIMIT 1) ORDER BY n DESC LIMIT 1`

// LinkSegment returns the segment of which a record is the link of a sequence.
func (c *Catalog) LinkSegment(ctx context.Context, source, table string, sequence int64) (*Segment, error) {
	return get[Segment](ctx, c.db, "link of the chain of", source+"."+table, linkQuery, source, table, sequence)
}

const linkQuery = `SELECT * FROM segment WHERE source = ?1 AND table_name = ?2 AND sequence = ?3 UNION ALL SELECT *
	FROM segment WHERE source = ?1 AND table_name = ?2 AND closing_sequence = ?3
	UNION ALL SELECT * FROM segment WHERE source = ?1 AND table_name = ?2 AND disposal_sequence = ?3 LIMIT 1`
