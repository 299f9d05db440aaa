package service

import (
	"errors"
	"os"
	"testing"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/dbtest"
	"ambercellar/internal/engine/tables"
	"ambercellar/internal/silence"
	"ambercellar/internal/source"
)

// A run whose database does not answer any more can be paused, and whoever asks that database for something hears of
// it, all within the time that silence is borne.
func TestASilentDatabaseIsNotWaitedForWithoutEnd(t *testing.T) {
	t.Parallel()
	for _, kind := range []string{"postgres", "mariadb"} {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			s, relay, r := farSource(t, kind, 8000, "careful")
			defer s.Close()
			defer relay.Frozen.Store(false)
			for begun := time.Now(); ; time.Sleep(5 * time.Millisecond) {
				now, err := s.Queue.Run(t.Context(), r.ID)
				if err != nil || time.Since(begun) > 2*time.Minute {
					t.Fatalf("%+v, %v", now, err)
				}
				if now.Deleted > 50 {
					break
				}
			}
			relay.Frozen.Store(true)
			begun := time.Now()
			if now, err := s.Queue.Pause(t.Context(), "me", r.ID); err != nil || now.State != catalog.Paused {
				t.Errorf("%+v, %v", now, err)
			}
			src, err := s.Source(t.Context(), "harbour")
			if err != nil {
				t.Fatal(err)
			}
			if _, err := src.Tables(t.Context()); !errors.Is(err, source.ErrUnreachable) {
				t.Errorf("its tables: %v", err)
			}
			if took := time.Since(begun); took > 30*time.Second {
				t.Errorf("it took %s", took)
			} else {
				t.Log(took)
			}
		})
	}
}

// All tests wait for less long than usual for what does not answer.
func TestMain(m *testing.M) {
	silence.Bear(500*time.Millisecond, time.Second)
	tables.Outage = 8 * time.Second
	os.Setenv("AWS_ACCESS_KEY_ID", "ferry")
	os.Setenv("AWS_SECRET_ACCESS_KEY", "not-needed")
	os.Exit(dbtest.Main(m))
}
