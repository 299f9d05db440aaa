package service

import (
	"database/sql"
	"errors"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/dbtest/fresh"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

func open(t *testing.T, dir string, set ...func(*Service)) (*Service, string) {
	t.Helper()
	if err := os.MkdirAll(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	fresh.Catalog(t, filepath.Join(dir, "catalog.db"))
	s, token, err := Open(t.Context(), dir, slog.New(slog.NewTextHandler(io.Discard, nil)), set...)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() }) // whatever the test closes by itself
	return s, token
}

func TestTheTokenIsShownOnceAndKeptHashed(t *testing.T) {
	dir := t.TempDir()
	s, token := open(t, dir)
	instance := s.Instance
	if who, err := s.Access.CheckToken(t.Context(), token, "here"); who == nil || err != nil || len(token) < 30 {
		t.Errorf("token %q: %v, %v", token, who, err)
	}
	kept, err := s.Catalog.Setting(t.Context(), tokenSetting)
	if err != nil || strings.Contains(kept, token) || len(kept) != 64 {
		t.Errorf("what is kept of the token: %q, %v", kept, err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	s, again := open(t, dir)
	defer s.Close()
	if again != "" || s.Instance != instance {
		t.Errorf("at its second start the service shows the token %q and is %s instead of %s", again, s.Instance,
			instance)
	}
	if who, _ := s.Access.CheckToken(t.Context(), token, "here"); who == nil {
		t.Error("the token is forgotten")
	}
}

func TestASecondServiceOnTheSameDirectoryIsRefused(t *testing.T) {
	dir := t.TempDir()
	s, _ := open(t, dir)
	defer s.Close()
	if _, _, err := Open(t.Context(), dir, slog.Default()); err == nil ||
		!strings.Contains(err.Error(), "another service") {
		t.Errorf("got %v", err)
	}
}

func TestSessionsEndWhenTheyAreEnded(t *testing.T) {
	s, _ := open(t, t.TempDir())
	defer s.Close()
	secret, session, err := s.Access.BeginSession(t.Context(), Beginning{Who: &administrator})
	if err != nil || time.Until(session.ExpiresAt.Time) < 11*time.Hour {
		t.Fatalf("%+v, %v", session, err)
	}
	who, _ := s.Access.CheckSession(t.Context(), secret)
	if who == nil || who.Session.ID != session.ID {
		t.Fatal("a new session does not stand")
	}
	if err := s.Access.EndSession(t.Context(), who, session.ID, false); err != nil {
		t.Fatal(err)
	}
	if who, _ := s.Access.CheckSession(t.Context(), secret); who != nil {
		t.Error("an ended session stands")
	}
	again, _, err := s.Access.BeginSession(t.Context(), Beginning{Who: &administrator, Agent: strings.Repeat("é", 300)})
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := s.Access.BeginSession(t.Context(), Beginning{Who: &administrator, Instead: again}); err != nil {
		t.Fatal(err)
	}
	if who, _ := s.Access.CheckSession(t.Context(), again); who != nil {
		t.Error("a session stands in whose place another one was begun")
	}
	for range 30 {
		if _, _, err := s.Access.BeginSession(t.Context(), Beginning{Who: &administrator}); err != nil {
			t.Fatal(err)
		}
	}
	if list, err := s.Access.Sessions(t.Context(), &administrator, true); err != nil || len(list) != 20 {
		t.Errorf("%d sessions stand (%v)", len(list), err)
	}
}

func TestASourceThatCannotBeReachedIsNotKept(t *testing.T) {
	s, _ := open(t, t.TempDir())
	defer s.Close()
	path := filepath.Join(t.TempDir(), "harbour.db")
	var refused *refuse.Error
	if _, err := s.Places.AddSource(t.Context(), "me", source.Config{Name: "harbour", Engine: "sqlite",
		Address: path}); !errors.As(err, &refused) || refused.Field != "address" {
		t.Errorf("a file that is not there: %v", err)
	}
	db, err := sql.Open("sqlite", "file:"+path)
	if err == nil {
		_, err = db.Exec("CREATE TABLE scan (id INTEGER PRIMARY KEY)")
	}
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if r, err := s.Places.AddSource(t.Context(), "me", source.Config{Name: "harbour", Engine: "sqlite",
		Address: path}); err != nil || !r.OK() {
		t.Errorf("now it is there: %+v, %v", r, err)
	}
	if _, err := s.Places.AddSource(t.Context(), "me", source.Config{Name: "harbour", Engine: "sqlite",
		Address: path}); !errors.As(err, &refused) || refused.Field != "name" {
		t.Errorf("the same name again: %v", err)
	}
	kept, err := s.Catalog.Source(t.Context(), "harbour")
	if err != nil || kept.Connections != 4 || !filepath.IsAbs(kept.Address) {
		t.Errorf("kept: %+v, %v", kept, err)
	}
}

func TestListeningToARunThatIsOverEndsAtOnce(t *testing.T) {
	s, _ := open(t, t.TempDir())
	defer s.Close()
	events, stop := s.Queue.Listen("nothing")
	defer stop()
	if _, ok := <-events; ok {
		t.Error("an event of a run that is not there")
	}
	for _, verb := range []func() error{
		func() error { _, err := s.Queue.Pause(t.Context(), "me", "nothing"); return err },
		func() error { _, err := s.Queue.Resume(t.Context(), "me", "nothing"); return err },
		func() error { _, err := s.Queue.Cancel(t.Context(), "me", "nothing"); return err },
	} {
		if err := verb(); !errors.Is(err, catalog.ErrNotFound) {
			t.Errorf("got %v, want ErrNotFound", err)
		}
	}
}
