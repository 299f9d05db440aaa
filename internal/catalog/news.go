package catalog

import (
	"context"

	"ambercellar/internal/core/notify"
)

// News is something that happened that somebody may want to know of.
type News struct {
	Seq      int64            `db:"seq"` // growing
	At       Time             `db:"at"`
	Kind     notify.EventKind `db:"kind"`
	Title    string           `db:"title"`
	Severity string           `db:"severity"` // of a finding; empty: it is none
	Source   string           `db:"source"`
	Rule     string           `db:"rule"`
	Address  string           `db:"address"` // of its page in the console, from # on
}

// Place is the news's place in a list.
func (n *News) Place() string { return place(n.Seq) }

// NewsAfter lists what happened after something, the newest first; after 0: all that is kept.
func (c *Catalog) NewsAfter(ctx context.Context, after int64, p Page) ([]News, error) {
	return paged[News](ctx, c.db, p, order{columns: []string{"seq"}}, "SELECT * FROM news WHERE seq > ?", after)
}

const insertNews = "INSERT INTO news (at, kind, title, severity, source, rule, address) VALUES (:at, :kind, :title, " +
	":severity, :source, :rule, :address)"
