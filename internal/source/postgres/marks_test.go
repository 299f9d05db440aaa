package postgres

import (
	"errors"
	"strings"
	"testing"

	"ambercellar/internal/dbtest"
	"ambercellar/internal/source"
)

func TestDeletesAreMarkedForThoseWhoReadTheLog(t *testing.T) {
	server, err := dbtest.Start("fsync=off", "wal_level=logical", "max_replication_slots=4")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(server.Stop)
	if err := server.Exec("postgres", "CREATE DATABASE harbour"); err != nil {
		t.Fatal(err)
	}
	url := server.URL("harbour")
	exec := func(text string) {
		if err := dbtest.Exec(url, text); err != nil {
			t.Fatal(err)
		}
	}
	s, err := Open(t.Context(), source.Config{Name: "harbour", Address: url, Connections: 4, TLS: "off",
		Origin: "cellar"})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	said := func() (out string) {
		r, err := s.Check(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range r.Items {
			out += string(f.Level) + ": " + f.Text + " " + f.Remedy + "\n"
		}
		return out
	}
	if got := said(); !strings.Contains(got, "missing: the replication origin cellar cannot be used") ||
		!strings.Contains(got, "SELECT pg_replication_origin_create('cellar');") {
		t.Errorf("without the origin:\n%s", got)
	}
	exec("SELECT pg_replication_origin_create('cellar')")
	exec("SELECT pg_create_logical_replication_slot('feed', 'test_decoding')")
	if got := said(); !strings.Contains(got, "ok: deletes are marked with the replication origin cellar") {
		t.Errorf("with the origin:\n%s", got)
	}
	m := moveAt(t, s, exec, scanTable[:strings.Index(scanTable, " %s")]+";"+scanRows)
	other := workload(t, url)
	if _, err := other.Exec(t.Context(), "SELECT pg_replication_origin_session_setup('cellar')"); err != nil {
		t.Fatal(err)
	}
	if _, err := m.delete(t.Context()); !errors.Is(err, source.ErrBusy) {
		t.Errorf("while another session has the origin: %v", err)
	}
	if _, err := other.Exec(t.Context(), "SELECT pg_replication_origin_session_reset()"); err != nil {
		t.Fatal(err)
	}
	m.batch = 0
	if row := m.mustDelete(); row.Deleted != 40 {
		t.Fatal(outcome(row))
	}
	changes := func(options string) (text string) {
		if err := s.pool.QueryRow(t.Context(),
			"SELECT coalesce(string_agg(data, E'\\n'), '') FROM pg_logical_slot_peek_changes('feed', NULL, NULL"+
				options+")").Scan(&text); err != nil {
			t.Fatal(err)
		}
		return text
	}
	if got := changes(""); !strings.Contains(got,
		"message: transactional: 1 prefix: ambercellar, sz: 27 content:run run, segment 1, batch 1") ||
		strings.Count(got, "public.scan: DELETE") != 40 {
		t.Errorf("the feed: %.600s", got)
	}
	if got := changes(", 'only-local', 'on'"); strings.Contains(got, "public.scan: DELETE") ||
		!strings.Contains(got, "public.scan: INSERT") {
		t.Errorf("a feed without what has an origin: %.600s", got)
	}
}
