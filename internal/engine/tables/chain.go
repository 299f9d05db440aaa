package tables

import (
	"context"
	"errors"
	"fmt"
	"sync"

	"ambercellar/internal/archive"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// Chains are the chains of manifests and closing records of a source's tables, as one run writes them. The head of
// each is also kept in the source's journal.
type Chains struct {
	Source source.Source
	Name   string // of the source
	tables *Tables
	lock   sync.Mutex
	of     map[string]*chain
}

type chain struct {
	sync.Mutex
	head source.Head
	err  error // of a record of which it is not known how far it came: no other can follow before that is settled
}

// Chains returns the chains of a source's tables. Each is to begin with its newest link.
func (ts *Tables) Chains(src source.Source, name string) *Chains {
	return &Chains{Source: src, Name: name, tables: ts, of: map[string]*chain{}}
}

func (c *Chains) table(name string) *chain {
	c.lock.Lock()
	defer c.lock.Unlock()
	if c.of[name] == nil {
		c.of[name] = &chain{}
	}
	return c.of[name]
}

// Begin sets the newest link of a table's chain.
func (c *Chains) Begin(table string, newest source.Head) { c.table(table).head = newest }

// Add writes the next record of a table's chain and moves its head. again repeats the latter while that is worth it.
func (c *Chains) Add(ctx context.Context, table string, again func(context.Context, func() error) error,
	write func(archive.Link) (hash string, err error)) (hash string, err error) {
	x := c.table(table)
	x.Lock()
	defer x.Unlock()
	if x.err != nil {
		return "", x.err
	}
	defer func() { x.err = err }()
	hash, err = write(archive.Link{Sequence: x.head.Sequence + 1, Previous: x.head.Hash})
	if err != nil {
		return "", err
	}
	head := source.Head{Sequence: x.head.Sequence + 1, Hash: hash}
	if err := again(ctx, func() error { return c.Source.SetHead(ctx, table, head) }); err != nil {
		return "", err
	}
	x.head = head
	return hash, c.tables.Catalog.Note(ctx, "service", "chain", c.Name+"."+table,
		fmt.Sprintf("link %d: %s", head.Sequence, hash))
}

// NewestLink is the newest link that the catalog knows of a table, if the head that the source knows is that, or the
// one before it.
func (ts *Tables) NewestLink(ctx context.Context, sourceName, table string, head source.Head) (newest source.Head,
	err error) {
	newest.Sequence, newest.Hash, err = ts.Catalog.LastLink(ctx, sourceName, table)
	if err != nil || newest == head {
		return newest, err
	}
	if newest.Sequence == head.Sequence+1 {
		previous, err := ts.previousOf(ctx, sourceName, table, newest.Sequence)
		if err != nil || previous == head.Hash {
			return newest, err
		}
	}
	return newest, &refuse.Disagree{Source: sourceName, Table: table,
		Difference: fmt.Sprintf("the source's journal is at link %d of the chain (%.12s), the catalog at link %d "+
			"(%.12s)", head.Sequence, head.Hash, newest.Sequence, newest.Hash)}
}

// previousOf reads from the store what the link of a sequence says of the one before it.
func (ts *Tables) previousOf(ctx context.Context, sourceName, table string, sequence int64) (string, error) {
	s, err := ts.Catalog.LinkSegment(ctx, sourceName, table, sequence)
	if err != nil {
		return "", err
	}
	st, err := ts.Store(ctx, s.Store)
	if err != nil {
		return "", err
	}
	m, _, err := archive.LoadManifest(ctx, st, s.Stem)
	if err != nil || s.Sequence == sequence {
		return linkOf(m).Previous, err
	}
	if s.DisposalSeq == sequence {
		d, _, err := archive.LoadDisposal(ctx, st, m)
		if err != nil || d == nil {
			return "", errors.Join(err, fmt.Errorf("%w: link %d is not in store %s", refuse.ErrDisagree, sequence,
				s.Store))
		}
		return d.Previous, nil
	}
	books, _, err := archive.LoadClosing(ctx, st, m)
	if err != nil || books == nil {
		return "", errors.Join(err, fmt.Errorf("%w: link %d is not in store %s", refuse.ErrDisagree, sequence,
			s.Store))
	}
	return books.Previous, nil
}

func linkOf(m *archive.Manifest) archive.Link {
	if m == nil {
		return archive.Link{}
	}
	return m.Link
}
