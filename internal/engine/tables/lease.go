package tables

import (
	"context"
	"fmt"

	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// CompareLineage compares what the source says of a table with what the catalog knows. One lease may have been taken
// of which the catalog never heard, since a stop can come in between.
func CompareLineage(known *catalog.Lineage, now source.Lineage) (differences []string) {
	if known == nil {
		return nil
	}
	switch {
	case now.Identity == "":
		return []string{"the source has no journal any more: it was dropped, or the database was made anew, or " +
			"turned back to a time before the first run"}
	case now.Identity != known.Identity:
		return []string{"the address leads to another database than before, or its journal was made anew"}
	case now.Epoch < known.Epoch:
		return []string{fmt.Sprintf("the source's journal is at lease %d of the table and the catalog has seen "+
			"lease %d: the database was turned back, or a replica took over that had not got everything", now.Epoch,
			known.Epoch)}
	case now.Epoch > known.Epoch+1:
		return []string{fmt.Sprintf("the source's journal is at lease %d of the table and the catalog has seen no "+
			"more than %d: the catalog was turned back, or another service has worked on the table", now.Epoch,
			known.Epoch)}
	}
	return nil
}

// Agree says whether source, store and catalog tell the same of a table; a refuse.Disagree where they do not.
func (ts *Tables) Agree(ctx context.Context, sourceName, table string) error {
	src, err := ts.Source(ctx, sourceName)
	if err != nil {
		return err
	}
	now, err := src.Lineage(ctx, table)
	if err != nil {
		return err
	}
	known, err := ts.Catalog.TableLineage(ctx, sourceName, table)
	if err != nil {
		return err
	}
	if list := CompareLineage(known, now); len(list) > 0 {
		return &refuse.Disagree{Source: sourceName, Table: table, Difference: list[0]}
	}
	_, err = ts.NewestLink(ctx, sourceName, table, now.Head)
	return err
}

// TakeTable takes the lease of a table, if everybody tells the same of it, and keeps what that tells of the database.
// It returns the identity of the source's journal, too.
func (ts *Tables) TakeTable(ctx context.Context, src source.Source, sourceName, table, run string) (source.Lease,
	string, error) {
	now, err := src.Lineage(ctx, table)
	if err != nil {
		return source.Lease{}, "", err
	}
	known, err := ts.Catalog.TableLineage(ctx, sourceName, table)
	if err != nil {
		return source.Lease{}, "", err
	}
	if list := CompareLineage(known, now); len(list) > 0 {
		return source.Lease{}, "", &refuse.Disagree{Source: sourceName, Table: table, Difference: list[0]}
	}
	lease, err := src.TakeLease(ctx, table, ts.Instance, run)
	if err != nil {
		return lease, "", err
	}
	if now.Identity == "" { // its journal was made a moment ago
		if now, err = src.Lineage(ctx, table); err != nil {
			return lease, "", err
		}
	}
	if known != nil && known.Server != now.Server {
		if err := ts.Catalog.Note(ctx, "service", "another server", sourceName+"."+table,
			fmt.Sprintf("%s answers, and %s did before; its journal goes on where that one's stood", now.Server,
				known.Server)); err != nil {
			return lease, "", err
		}
	}
	return lease, now.Identity, ts.Catalog.SaveLineage(ctx, catalog.Lineage{Source: sourceName, Table: table,
		Identity: now.Identity, Server: now.Server, Epoch: lease.Epoch})
}
