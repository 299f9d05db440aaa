package view

import (
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/notify"
)

// News is something that happened that somebody may want to know of.
type News struct {
	Seq      int64            `json:"seq"` // growing
	At       time.Time        `json:"at"`
	Kind     notify.EventKind `json:"kind"`
	Title    string           `json:"title"`
	Severity string           `json:"severity"` // of a finding; empty: it is none
	Source   string           `json:"source"`
	Rule     string           `json:"rule"`
	Address  string           `json:"address"` // of its page in the console, from # on
}

// NewsOf shows a record of the catalog.
func NewsOf(n *catalog.News) News {
	return News{n.Seq, n.At.Time, n.Kind, n.Title, n.Severity, n.Source, n.Rule, n.Address}
}
