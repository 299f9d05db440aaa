package view

import (
	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/reconcile"
	"ambercellar/internal/source"
)

// FormerName is a name that a column of a table has had, as the administrator tells it.
type FormerName struct {
	Source string       `json:"source"`
	Table  string       `json:"table"`
	Name   string       `json:"name"`    // that the column has now, or had next
	Was    string       `json:"was"`     // that it had before; empty: none, the column was added
	ToldAt catalog.Time `json:"told_at"` // when that was told
	ToldBy string       `json:"told_by"`
}

// FormerNameOf shows a record of the catalog.
func FormerNameOf(f *catalog.FormerName) FormerName { return FormerName(*f) }

// Lineage is which database a table's rows were last moved from, and how far its journal had come.
type Lineage struct {
	Source   string `json:"source"`
	Table    string `json:"table"`
	Identity string `json:"identity"` // of the journal, which goes wherever the database's data goes
	Server   string `json:"server"`   // that answered; empty where it does not tell
	Epoch    int64  `json:"epoch"`    // of the lease that was last taken
	Settled  int64  `json:"settled"`  // the epoch that began when source and catalog were last settled; 0: never
}

// LineageOf shows a record of the catalog.
func LineageOf(l *catalog.Lineage) Lineage { return Lineage(*l) }

// Reconciliation is what source, stores and catalog tell of a table, side by side.
type Reconciliation struct {
	reconcile.Reconciliation
	Known *Lineage `json:"known"` // to the catalog; null: no run has worked on the table
}

// ReconciliationOf shows what source, stores and catalog tell of a table.
func ReconciliationOf(r *reconcile.Reconciliation) Reconciliation {
	out := Reconciliation{Reconciliation: *r}
	if r.Known != nil {
		known := LineageOf(r.Known)
		out.Known = &known
	}
	return out
}

// Config is how a source is reached. It never holds a password: PasswordEnv or PasswordFile says where one is.
type Config struct {
	Name   string `json:"name"`
	Engine string `json:"engine"` // "sqlite", "postgres" or "mariadb"
	// a file for SQLite; a URL without password for a server
	Address string `json:"address"`
	// environment variable of the service that holds the password
	PasswordEnv string `json:"password_env"`
	// file readable by the service that holds the password
	PasswordFile string `json:"password_file"`
	TLS          string `json:"tls"` // "verify" (default off the machine), "require" or "off"
	// file of certificates that may sign the server's; empty: the system's
	TLSCA string `json:"tls_ca"`
	// directory of the service's machine on whose disk the database's files are; empty: not known
	Disk string `json:"disk"`
	// that our deletes are marked with for replicas and change feeds: a replication origin's name, or a number for
	// gtid_domain_id; empty: none
	Origin      string `json:"origin"`
	Connections int    `json:"connections"` // the most that the service opens at a time; at least 3
}

// ConfigOf shows a record of the catalog.
func ConfigOf(c *source.Config) Config { return Config(*c) }
