package service

import (
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"testing"
)

// TestTheRecorderKeepsTheNewestLinesWithoutValues: whoever writes them, however many.
func TestTheRecorderKeepsTheNewestLinesWithoutValues(t *testing.T) {
	r := NewRecorder(slog.DiscardHandler)
	if slog.New(r).Enabled(t.Context(), slog.LevelError) {
		t.Error("it takes lines that nobody wants")
	}
	var said strings.Builder
	r = NewRecorder(slog.NewTextHandler(&said, nil))
	log := slog.New(r)
	log.With("rule", "scans", "reason", "secret").Error("it stopped", "error",
		fmt.Errorf("key secret: %w", errors.New("secret")), "run", "R1", "note", "secret")
	if !strings.Contains(said.String(), "secret") {
		t.Error("the log itself lost something")
	}
	var kept strings.Builder
	if _, err := r.WriteTo(&kept); err != nil || strings.Contains(kept.String(), "secret") ||
		!strings.Contains(
			kept.String(),
			"ERROR it stopped rule=scans reason=… error=*errors.errorString run=R1 note=…",
		) {
		t.Errorf("kept: %q, %v", kept.String(), err)
	}
	r = NewRecorder(slog.NewTextHandler(&strings.Builder{}, nil))
	log = slog.New(r)
	var group sync.WaitGroup
	for range 4 {
		group.Go(func() {
			for i := range recorded {
				log.Info("line", "run", i)
			}
		})
	}
	group.Wait()
	log.Info("the last")
	kept.Reset()
	if _, err := r.WriteTo(&kept); err != nil || strings.Count(kept.String(), "\n") != recorded ||
		!strings.HasSuffix(kept.String(), "the last\n") {
		t.Errorf("%d lines are kept, %v", strings.Count(kept.String(), "\n"), err)
	}
}
