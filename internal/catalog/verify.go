package catalog

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"ambercellar/internal/archive"
)

// Verification is a reading of segments to see that they are what was written.
type Verification struct {
	VerificationOrder
	VerificationStanding
}

// VerificationOrder is what a verification is to read.
type VerificationOrder struct {
	ID        string `db:"id"`
	Store     string `db:"store"`      // empty: all stores
	Source    string `db:"source"`     // with Table; empty: all
	Table     string `db:"table_name"` //
	Older     *Time  `db:"older"`      // only segments that were not verified since then; null: all
	Repair    bool   `db:"repair"`     // what is damaged is replaced from the other copy, where that is whole
	CreatedAt Time   `db:"created_at"`
	CreatedBy string `db:"created_by"`
}

// VerificationStanding is how far a verification is, and what it found.
type VerificationStanding struct {
	State    VerificationState    `db:"state"`
	Reason   string               `db:"reason"` // why it failed
	EndedAt  *Time                `db:"ended_at"`
	Segments int                  `db:"segments"`
	Of       int                  `db:"of_segments"`
	Rows     int64                `db:"row_count"`
	Bytes    int64                `db:"bytes"`
	OfBytes  int64                `db:"of_bytes"`
	Wrong    int                  `db:"wrong"`
	Repaired int                  `db:"repaired"`
	Findings JSON[[]FoundInStore] `db:"findings"`
}

// FoundInStore is a remark of a verification.
type FoundInStore struct {
	archive.Remark
	Repaired string `json:"repaired,omitempty"` // what it was replaced from
}

// AddVerification keeps a new verification.
func (c *Catalog) AddVerification(ctx context.Context, v *Verification) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.NamedExecContext(ctx,
			`INSERT INTO verification (id, store, source, table_name, older, repair, state, created_at, created_by)
			VALUES (:id, :store, :source, :table_name, :older, :repair, :state, :created_at, :created_by)`,
			v); err != nil {
			return err
		}
		return c.note(ctx, tx, v.CreatedBy, "segments verify", v.ID, fmt.Sprintf("store %q, table %q", v.Store,
			v.Source+"."+v.Table))
	})
}

// SaveVerification keeps where a verification stands.
func (c *Catalog) SaveVerification(ctx context.Context, v *Verification) error {
	return c.transaction(ctx, func(tx *sqlx.Tx) error {
		if err := afterVerification.check(tx, "verification", v.ID, v.State); err != nil {
			return err
		}
		_, err := tx.NamedExecContext(ctx,
			`UPDATE verification SET state = :state, reason = :reason, ended_at = :ended_at, segments = :segments,
				of_segments = :of_segments, row_count = :row_count,
		bytes = :bytes, of_bytes = :of_bytes, wrong = :wrong, repaired = :repaired, findings = :findings
			WHERE id = :id`, v)
		return err
	})
}

// Verification returns one verification.
func (c *Catalog) Verification(ctx context.Context, id string) (*Verification, error) {
	return get[Verification](ctx, c.db, "verification", id, "SELECT * FROM verification WHERE id = ?", id)
}

// Verifications lists verifications, the newest first.
func (c *Catalog) Verifications(ctx context.Context, p Page) ([]Verification, error) {
	return paged[Verification](ctx, c.db, p, newestFirst, "SELECT * FROM verification WHERE true")
}

// Judged keeps that a segment was found to be what was written, or what is wrong with it.
func (c *Catalog) Judged(ctx context.Context, segment, damage string, at time.Time) error {
	_, err := c.writes.ExecContext(ctx,
		"UPDATE segment SET damage = ?, verified_at = CASE WHEN ? = '' THEN ? ELSE verified_at END WHERE id = ? "+
			"AND state IN ('open', 'closed')", damage, damage, At(at), segment)
	return err // one that was destroyed meanwhile is judged no more
}

// VerifyFilter says which segments are verified; empty fields do not narrow it. Of a store are those of which files
// lie there, and by time those whose rows do.
type VerifyFilter struct {
	Store, Source, Table string
	Older                *Time
}

func (f VerifyFilter) where() (string, map[string]any) {
	text := "state NOT IN ('writing', 'abandoned')"
	if f.Source != "" {
		text += " AND source = :source AND table_name = :table"
	}
	if f.Store != "" {
		text += " AND (store = :store OR rows_store = :store OR second = :store)"
	}
	if f.Older != nil {
		text += " AND (verified_at IS NULL OR verified_at < :older)"
		if f.Store != "" {
			text += " AND coalesce(nullif(rows_store, ''), store) = :store"
		}
	}
	return text, map[string]any{"source": f.Source, "table": f.Table, "store": f.Store, "older": f.Older}
}

// ToVerify lists the ids of segments that are to be verified, those first that were not for the longest time.
func (c *Catalog) ToVerify(ctx context.Context, f VerifyFilter) ([]string, error) {
	where, args := f.where()
	query, values, err := sqlx.Named("SELECT id FROM segment WHERE "+where+
		" ORDER BY coalesce(verified_at, ''), created_at, number, id", args)
	if err != nil {
		return nil, err
	}
	return list[string](ctx, c.db, query, values...)
}

// ToVerifyInAll says how many copies of segments that is, and how many bytes of rows.
func (c *Catalog) ToVerifyInAll(ctx context.Context, f VerifyFilter) (copies int, bytes int64, err error) {
	where, args := f.where()
	query, values, err := sqlx.Named(
		`SELECT coalesce(sum((:store = '' OR store = :store OR coalesce(nullif(rows_store, ''),
			store) = :store) + (second <> '' AND :store IN ('', second))), 0) AS copies,
		coalesce(sum(CASE WHEN state <> 'disposed' THEN file_bytes ELSE 0 END), 0) AS bytes FROM segment WHERE `+where,
		args)
	if err != nil {
		return 0, 0, err
	}
	var out struct {
		Copies int
		Bytes  int64
	}
	err = c.db.GetContext(ctx, &out, query, values...)
	return out.Copies, out.Bytes, err
}

// Knows says whether a segment is known, by its id or its stem; either may be empty. One that never came to be is not.
func (c *Catalog) Knows(ctx context.Context, id, stem string) (yes bool, err error) {
	err = c.db.GetContext(ctx, &yes,
		"SELECT EXISTS (SELECT 1 FROM segment WHERE id = ? AND state <> 'abandoned') OR EXISTS (SELECT 1 FROM "+
			"segment WHERE stem = ? AND state <> 'abandoned')", id, stem)
	return yes, err
}

// WithRowsOf lists the stores in which segments have their rows whose records lie in a store, and those with the
// records of rows that lie in it.
func (c *Catalog) WithRowsOf(ctx context.Context, store string) ([]string, error) {
	return list[string](ctx, c.db,
		"SELECT rows_store FROM segment_sum WHERE store = ?1 AND rows_store <> '' AND segments > 0 UNION SELECT "+
			"store FROM segment_sum WHERE rows_store = ?1 AND segments > 0", store)
}

// Damaged lists the segments that were last found to be damaged.
func (c *Catalog) Damaged(ctx context.Context) ([]Segment, error) {
	return list[Segment](ctx, c.db, damagedQuery)
}

const damagedQuery = "SELECT * FROM segment WHERE damage <> '' AND state IN ('open', 'closed') ORDER BY created_at"

// WithoutSecond lists the closed segments, the oldest first, whose store has a second one in which they do not lie
// yet.
func (c *Catalog) WithoutSecond(ctx context.Context, limit int) (out []Segment, err error) {
	kinds, err := list[struct{ Store, Second, Want string }](ctx, c.db, lackingQuery)
	for _, k := range kinds {
		one, failed := list[Segment](ctx, c.db, copiesQuery, k.Store, k.Want, k.Second, limit)
		if failed != nil {
			return nil, failed
		}
		out = append(out, one...)
	}
	slices.SortFunc(out, func(a, b Segment) int { return a.CreatedAt.Compare(b.CreatedAt.Time) })
	return out[:min(len(out), limit)], err
}

// Kinds of segments that lie in a store and not in the second one that they should lie in, and the segments of one
// kind.
const (
	lackingQuery = `SELECT x.store, x.second, x.want_second AS want FROM segment_sum x JOIN store
		ON store.name = x.store
		WHERE x.segments > 0 AND coalesce(nullif(x.want_second, ''), store.second) NOT IN ('', x.second)`
	copiesQuery = "SELECT * FROM segment WHERE store = ? AND want_second = ? AND second = ? AND state = 'closed' " +
		"AND leaving = '' AND cold = 0 ORDER BY created_at LIMIT ?"
)

// SetSecond keeps that a segment lies in a second store too; ErrState where it is being destroyed.
func (c *Catalog) SetSecond(ctx context.Context, segment, second string, at time.Time) error {
	return changed(c.writes.ExecContext(ctx,
		"UPDATE segment SET second = ?, second_at = ? WHERE id = ? AND state = 'closed' AND disposal = ''", second,
		At(at), segment))
}

// Unverified says whether there are closed segments whose rows lie in a store and can be read, and that were not
// verified since a moment.
func (c *Catalog) Unverified(ctx context.Context, store string, since, now time.Time) (yes bool, err error) {
	if err = c.db.GetContext(ctx, &yes, unverifiedQuery, store, At(since)); err == nil && !yes {
		err = c.db.GetContext(ctx, &yes, warmQuery, store, At(since), At(now))
	}
	return yes, err
}

const (
	unverifiedQuery = "SELECT EXISTS (SELECT 1 FROM segment WHERE coalesce(nullif(rows_store, ''), store) = ? AND " +
		"state = 'closed' AND coalesce(verified_at, '') < ? AND cold = 0)"
	warmQuery = "SELECT EXISTS (SELECT 1 FROM segment WHERE rows_store = ? AND state = 'closed' AND cold = 1 AND " +
		"coalesce(verified_at, '') < ? AND warm_until > ?)"
)

// NewestIn returns the newest segment of which files lie in a store, by the catalog; nil where there is none.
func (c *Catalog) NewestIn(ctx context.Context, store string) (newest *Segment, err error) {
	for _, query := range newestQueries {
		s, err := get[Segment](ctx, c.db, "segment in store", store, query, store)
		if err != nil && !errors.Is(err, ErrNotFound) {
			return nil, err
		}
		if err == nil && (newest == nil || s.CreatedAt.After(newest.CreatedAt.Time)) {
			newest = s
		}
	}
	return newest, nil
}

var newestQueries = []string{
	"SELECT * FROM segment WHERE store = ? AND state IN ('open', 'closed', 'disposed') ORDER BY created_at DESC " +
		"LIMIT 1",
	"SELECT * FROM segment WHERE second = ? AND second <> '' AND state IN ('open', 'closed', 'disposed') ORDER BY " +
		"created_at DESC LIMIT 1",
	"SELECT * FROM segment WHERE rows_store = ? AND rows_store <> '' AND state = 'closed' ORDER BY created_at DESC " +
		"LIMIT 1",
}

// StoreTotals is what lies in a store.
type StoreTotals struct {
	Segments   int64 `db:"segments"` // whose records lie here
	FileBytes  int64 `db:"file_bytes"`
	Unseconded int64 `db:"unseconded"` // segments that do not lie in the second store yet
	Seconds    int64 `db:"seconds"`    // second copies of another store's segments
	Away       int64 `db:"away"`       // of its segments, those whose rows lie in another store
	Guests     int64 `db:"guests"`     // segments of other stores whose rows lie here
	GuestBytes int64 `db:"guest_bytes"`
	Damaged    int64 `db:"damaged"`
	// the segment that was not verified for the longest time was so then; null: none has been
	Verified *Time `db:"verified"`
}

// StoreTotals tells what lies in a store.
func (c *Catalog) StoreTotals(ctx context.Context, s *Store) (*StoreTotals, error) {
	return get[StoreTotals](ctx, c.db, "store", s.Name, storeQuery, s.Name, s.Second)
}

const storeQuery = `SELECT coalesce(sum(segments) FILTER (WHERE store = ?1), 0) AS segments,
	coalesce(sum(file_bytes) FILTER (WHERE store = ?1), 0) AS file_bytes,
	coalesce(sum(segments) FILTER (WHERE store = ?1 AND coalesce(nullif(want_second, ''), ?2) NOT IN ('', second)),
		0) AS unseconded,
	coalesce(sum(segments) FILTER (WHERE store = ?1 AND rows_store <> ''), 0) AS away,
		coalesce(sum(segments) FILTER (WHERE rows_store = ?1), 0) AS guests,
	coalesce(sum(file_bytes) FILTER (WHERE rows_store = ?1), 0) AS guest_bytes,
		coalesce(sum(segments) FILTER (WHERE second = ?1), 0) AS seconds,
	coalesce(sum(segments) FILTER (WHERE store = ?1 AND damaged), 0) AS damaged,
	(SELECT verified_at FROM segment WHERE store = ?1 AND state IN ('open', 'closed') AND verified_at IS NOT NULL
		ORDER BY verified_at LIMIT 1) AS verified FROM segment_sum`

// Backup writes the catalog as it is at this moment into a new file, while the service goes on, and checks that file.
func (c *Catalog) Backup(ctx context.Context, path string) error {
	err := private(path)
	if err == nil {
		var own *sqlx.DB // neither readers, which may not write, nor the writer, for whom others wait
		if own, err = sqlx.Open("sqlite", c.address); err == nil {
			_, err = own.ExecContext(ctx, "VACUUM INTO ?", path)
			err = errors.Join(err, own.Close())
		}
	}
	if err != nil {
		return fmt.Errorf("the catalog cannot be written to %s: %w", path, err)
	}
	if err := CheckFile(ctx, path); err != nil {
		os.Remove(path)
		return err
	}
	return nil
}

// CheckFile says whether a file is a whole catalog that this version can open.
func CheckFile(ctx context.Context, path string) error {
	if _, err := os.Stat(path); err != nil {
		return err
	}
	db, err := sqlx.Open("sqlite", fileAddress(path)+"?mode=ro")
	if err != nil {
		return err
	}
	defer db.Close()
	var verdict string
	if err := db.GetContext(ctx, &verdict, "PRAGMA quick_check(1)"); err != nil {
		return fmt.Errorf("%s is no whole SQLite database: %w", path, err)
	} else if verdict != "ok" {
		return fmt.Errorf("%s is damaged: %s", path, verdict)
	}
	is, err := version(ctx, db)
	if err == nil && is == 0 {
		err = errors.New("it has no version")
	}
	if err != nil {
		return fmt.Errorf("%s is no catalog: %w", path, err)
	}
	if known, err := supported(); err != nil {
		return err
	} else if is > known {
		return &NewerError{path, is, known}
	}
	return nil
}
