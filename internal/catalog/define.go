package catalog

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/source"
)

// Kinds of stores.
const (
	StoreDirectory = "directory"
	StoreBucket    = "bucket" // of an S3-compatible object store
)

// Store is where segments lie.
type Store struct {
	Name string `db:"name"`
	Kind string `db:"kind"`
	Path string `db:"path"` // the directory, or the address of bucket and prefix
	// the store in which every segment has a second copy; empty: none
	Second string             `db:"second"`
	Scrub  JSON[Scrub]        `db:"scrub"`
	Bucket JSON[store.Bucket] `db:"bucket"`
	Seal   JSON[store.Seal]   `db:"seal"`   // where the keys are with which its files are encrypted
	Tariff JSON[Tariff]       `db:"tariff"` // of a bucket whose files go cold: what retrievals take

	// of its place, which is known by that; empty: it was not looked at since an older version added it
	Identity string `db:"identity"`
}

// Cold says whether files of the store go cold.
func (s *Store) Cold() bool { return s.Bucket.V.Class != "" }

// Tariff is what it takes to retrieve files of a cold store. Object stores do not tell it, so the administrator does.
type Tariff struct {
	Of       map[store.Priority]Rate `json:"of,omitempty"`
	Currency string                  `json:"currency,omitempty"`
	// how long a retrieved copy stays where nothing else is said; 0: UsualDays
	Days int `json:"days,omitempty"`
	// bytes in 30 days that the service retrieves on its own, to verify them; 0: none
	Budget int64 `json:"budget,omitempty"`
}

// Rate is what a retrieval takes at one priority.
type Rate struct {
	Wait  string  `json:"wait"`  // ISO 8601, from asking until the copy is there
	Price float64 `json:"price"` // of a GiB
}

// UsualDays is how long a retrieved copy stays where nothing else is said.
const UsualDays = 3

// Scrub is how the segments of a store are verified again and again.
type Scrub struct {
	// ISO 8601: a segment is verified again when that has passed; empty: never on its own
	Every  string `json:"every,omitempty"`
	Rate   int64  `json:"rate,omitempty"`   // bytes a second at the most; 0: as fast as it goes
	Window string `json:"window,omitempty"` // the time of day, in UTC, in which that is done; empty: any
}

// Rule is the newest revision of a rule.
type Rule struct {
	Name      string            `db:"name"`
	Revision  int               `db:"revision"`
	Source    string            `db:"source"`
	Table     string            `db:"table_name"`
	Text      string            `db:"text"`
	Body      JSON[rule.Rule]   `db:"body"`
	AppliedAt Time              `db:"applied_at"`
	Shape     JSON[shape.Table] `db:"shape"` // of its table when it was applied
}

// Revision is one revision of a rule; all are kept.
type Revision struct {
	Rule      string         `db:"rule"`
	Revision  int            `db:"revision"`
	Text      string         `db:"text"`
	Changes   JSON[[]string] `db:"changes"`
	Reason    string         `db:"reason"` // why a locked clause was loosened
	AppliedAt Time           `db:"applied_at"`
	AppliedBy string         `db:"applied_by"`
}

// AddSource keeps a new source.
func (c *Catalog) AddSource(ctx context.Context, actor string, s source.Config) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.NamedExecContext(ctx,
			"INSERT INTO source (name, engine, address, password_env, password_file, tls, tls_ca, connections, "+
				"disk, origin) VALUES (:name, :engine, :address, :password_env, :password_file, :tls, :tls_ca, "+
				":connections, :disk, :origin)", s); err != nil {
			return err
		}
		return c.note(ctx, tx, actor, "source add", s.Name, s.Engine+" "+s.Address+"; "+change(nothing, s))
	})
}

// SetSource keeps what was changed of a source: all but its name and engine.
func (c *Catalog) SetSource(ctx context.Context, actor string, was, s source.Config) error {
	var changes []string
	for _, f := range []struct{ name, was, is string }{{"address", was.Address, s.Address},
		{"password_env", was.PasswordEnv, s.PasswordEnv}, {"password_file", was.PasswordFile, s.PasswordFile},
		{"tls", was.TLS, s.TLS}, {"tls_ca", was.TLSCA, s.TLSCA}, {"disk", was.Disk, s.Disk},
		{"origin", was.Origin, s.Origin},
		{"connections", strconv.Itoa(was.Connections), strconv.Itoa(s.Connections)}} {
		if f.was != f.is {
			changes = append(changes, fmt.Sprintf("%s %q, was %q", f.name, f.is, f.was))
		}
	}
	if len(changes) == 0 {
		return nil
	}
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.NamedExecContext(ctx,
			"UPDATE source SET address = :address, password_env = :password_env, password_file = :password_file, "+
				"tls = :tls, tls_ca = :tls_ca, connections = :connections, disk = :disk, origin = :origin "+
				"WHERE name = :name", s); err != nil {
			return err
		}
		return c.note(ctx, tx, actor, "source set", s.Name, strings.Join(changes, "; ")+"; "+change(was, s))
	})
}

// DeleteSource forgets a source that nothing knows: no rule, run, segment, restore or hold. In all other cases it
// says what does, and changes nothing.
func (c *Catalog) DeleteSource(ctx context.Context, actor, name string) (known string, err error) {
	err = c.transaction(ctx, func(tx *sqlx.Tx) error {
		known = ""
		before, err := get[source.Config](ctx, tx, "source", name, "SELECT * FROM source WHERE name = ?", name)
		if err != nil {
			return err
		}
		err = tx.GetContext(ctx, &known, `SELECT coalesce(
			(SELECT 'rule ' || name FROM rule WHERE source = ?1 LIMIT 1),
			(SELECT 'run ' || id FROM run WHERE source = ?1 LIMIT 1),
			(SELECT 'segment ' || id FROM segment WHERE source = ?1 LIMIT 1),
			(SELECT 'restore ' || id FROM restore WHERE source = ?1 LIMIT 1),
			(SELECT 'hold ' || id FROM hold WHERE source = ?1 AND lifted_at IS NULL LIMIT 1), '')`, name)
		if err != nil || known != "" {
			return err
		}
		for _, table := range []string{"guard", "table_size", "lineage", "usual"} {
			if _, err := tx.ExecContext(ctx, "DELETE FROM "+table+" WHERE source = ?", name); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM source WHERE name = ?", name); err != nil {
			return err
		}
		return c.note(ctx, tx, actor, "source delete", name, change(before, nothing))
	})
	return known, err
}

// Sources lists all sources.
func (c *Catalog) Sources(ctx context.Context) ([]source.Config, error) {
	return list[source.Config](ctx, c.db, "SELECT * FROM source ORDER BY name")
}

// Source returns one source.
func (c *Catalog) Source(ctx context.Context, name string) (*source.Config, error) {
	return get[source.Config](ctx, c.db, "source", name, "SELECT * FROM source WHERE name = ?", name)
}

// AddStore keeps a new store.
func (c *Catalog) AddStore(ctx context.Context, actor string, s Store) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.NamedExecContext(ctx,
			"INSERT INTO store (name, kind, path, second, scrub, bucket, seal, tariff, identity) VALUES (:name, "+
				":kind, :path, :second, :scrub, :bucket, :seal, :tariff, :identity)", s); err != nil {
			return err
		}
		return c.note(ctx, tx, actor, "store add", s.Name, s.Path+"; "+change(nothing, s))
	})
}

// SetStore keeps what was changed of a store: its second store, how it is scrubbed, its keys, and what retrievals
// take.
func (c *Catalog) SetStore(ctx context.Context, actor string, s Store) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		before, err := get[Store](ctx, tx, "store", s.Name, "SELECT * FROM store WHERE name = ?", s.Name)
		if err != nil {
			return err
		}
		if _, err := tx.NamedExecContext(ctx,
			"UPDATE store SET second = :second, scrub = :scrub, seal = :seal, tariff = :tariff WHERE name = :name",
			s); err != nil {
			return err
		}
		return c.note(ctx, tx, actor, "store set", s.Name, change(before, s))
	})
}

// SetIdentity keeps the identity that the place of a store has, where none was known.
func (c *Catalog) SetIdentity(ctx context.Context, actor, name, identity string) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		if err := changed(tx.ExecContext(ctx, "UPDATE store SET identity = ? WHERE name = ? AND identity = ''",
			identity, name)); err != nil {
			return fmt.Errorf("store %s: %w", name, err)
		}
		return c.note(ctx, tx, actor, "store identity", name, identity)
	})
}

// Stores lists all stores.
func (c *Catalog) Stores(ctx context.Context) ([]Store, error) {
	return list[Store](ctx, c.db, "SELECT * FROM store ORDER BY name")
}

// Store returns one store.
func (c *Catalog) Store(ctx context.Context, name string) (*Store, error) {
	return get[Store](ctx, c.db, "store", name, "SELECT * FROM store WHERE name = ?", name)
}

const ruleQuery = "SELECT u.name, u.revision, u.source, u.table_name, v.text, v.body, v.applied_at, v.shape FROM " +
	"rule u JOIN rule_revision v ON v.rule = u.name AND v.revision = u.revision "

// Rules lists all rules.
func (c *Catalog) Rules(ctx context.Context) ([]Rule, error) {
	return list[Rule](ctx, c.db, ruleQuery+"ORDER BY u.name")
}

// RuleFilter narrows a listing of rules; empty fields do not.
type RuleFilter struct {
	Source, Table string
	Text          string // that stands in the name of the rule, its source or its table
}

// RulesOf lists rules in the order of their names.
func (c *Catalog) RulesOf(ctx context.Context, f RuleFilter, p Page) ([]Rule, error) {
	query, args := f.query()
	return paged[Rule](ctx, c.db, p, ruleOrder, query, args...)
}

// RuleNames lists the names of the first rules.
func (c *Catalog) RuleNames(ctx context.Context, limit int) ([]string, error) {
	return list[string](ctx, c.db, "SELECT name FROM rule ORDER BY name LIMIT ?", limit)
}

var ruleOrder = order{columns: []string{"u.name"}, up: true}

func (f RuleFilter) query() (string, []any) {
	query, args := ruleQuery+"WHERE true", []any{}
	for _, x := range [][2]string{{"source", f.Source}, {"table_name", f.Table}} {
		if x[1] != "" {
			query, args = query+" AND u."+x[0]+" = ?", append(args, x[1])
		}
	}
	if f.Text != "" {
		query, args = query+" AND instr(lower(u.name || ' ' || u.source || '.' || u.table_name), lower(?)) > 0",
			append(args, f.Text)
	}
	return query, args
}

// Rule returns one rule.
func (c *Catalog) Rule(ctx context.Context, name string) (*Rule, error) {
	return get[Rule](ctx, c.db, "rule", name, ruleQuery+"WHERE u.name = ?", name)
}

// Revisions returns all revisions of a rule, the newest first.
func (c *Catalog) Revisions(ctx context.Context, name string) ([]Revision, error) {
	return list[Revision](ctx, c.db,
		"SELECT rule, revision, text, changes, applied_at, applied_by, reason FROM rule_revision WHERE rule = ? "+
			"ORDER BY revision DESC", name)
}

// Applied is a document to keep as the next revision of its rule, with what changed.
type Applied struct {
	Document rule.Document
	Shape    *shape.Table // of the rule's table
	Changes  []string
	Reason   string
	Over     *int // the revision that it takes the place of, 0 for none; nil: whichever there is
}

// ApplyRules keeps the next revision of each of the rules, all or none.
func (c *Catalog) ApplyRules(ctx context.Context, actor string, now time.Time, applied []Applied) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		if err := c.useApproval(ctx, tx); err != nil {
			return err
		}
		for _, a := range applied {
			if k := a.Document.Keep; k != nil {
				before, err := was(ctx, tx, "SELECT text FROM keep WHERE name = ?", k.Name)
				if err != nil {
					return err
				}
				if _, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO keep VALUES (?, ?, ?, ?, ?)", k.Name,
					JSON[rule.Named]{*k}, a.Document.Text, At(now), actor); err != nil {
					return err
				}
				if err := c.note(ctx, tx, actor, "keep apply", k.Name, fmt.Sprint(a.Changes)+"; "+
					change(before, a.Document.Text)); err != nil {
					return err
				}
				continue
			}
			if a.Document.Schedule != nil {
				if err := c.applySchedule(ctx, tx, actor, now, a); err != nil {
					return err
				}
				continue
			}
			r := a.Document.Rule
			before, err := was(ctx, tx, "SELECT text FROM rule_revision WHERE rule = ? ORDER BY revision DESC LIMIT 1",
				r.Name)
			if err != nil {
				return err
			}
			var revision int
			// it fires by this revision from now on
			err = tx.GetContext(ctx, &revision,
				`INSERT INTO rule (name, revision, source, table_name, fired_to) VALUES (?, 1, ?, ?, ?) ON CONFLICT
				(name)
				DO UPDATE SET revision = revision + 1, source = excluded.source, table_name = excluded.table_name,
				fired_to = excluded.fired_to RETURNING revision`, r.Name, r.Source, r.Table, At(now))
			if err != nil {
				return fmt.Errorf("rule %s: %w", r.Name, err)
			}
			if a.Over != nil && revision != *a.Over+1 {
				return fmt.Errorf("rule %s was changed meanwhile: %w", r.Name, ErrState)
			}
			if _, err := tx.ExecContext(ctx,
				"INSERT INTO rule_revision (rule, revision, text, body, changes, applied_at, applied_by, shape, "+
					"reason) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
				r.Name, revision, a.Document.Text, JSON[rule.Rule]{r}, JSON[[]string]{a.Changes}, At(now), actor,
				JSON[*shape.Table]{a.Shape}, a.Reason); err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx,
				"UPDATE firing SET state = 'skipped', ended_at = ?, reason = 'the rule was "+
					"changed, and its plan with it' WHERE rule = ? AND state = 'asking'", At(now),
				r.Name); err != nil {
				return err
			}
			if err := c.note(ctx, tx, actor, "rule apply", r.Name, fmt.Sprintf("revision %d: %v %s; %s", revision,
				a.Changes, a.Reason, change(before, a.Document.Text))); err != nil {
				return err
			}
		}
		return nil
	})
}
