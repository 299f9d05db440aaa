package sqlbase

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"ambercellar/internal/core/shape"
)

// A question mark in a name is no placeholder.
func TestNamesKeepTheirQuestionMarks(t *testing.T) {
	table := &shape.Table{TableForm: shape.TableForm{Name: "what?", Columns: []shape.Column{{Name: "id?"}},
		Key: []string{"id?"}}}
	quote := func(name string) string { return `"` + name + `"` }
	for number, want := range map[string]string{"$1": "r.restore = $1 AND", "?": "r.restore = ? AND"} {
		asked := ""
		b := &Base{Names: Names{Quote: quote, Restore: "restore",
			From:     func(t *shape.Table) string { return quote(t.Name) },
			Restored: func(t *shape.Table) string { return quote("restored " + t.Name) }},
			Sender: Sender{There: func(context.Context, *shape.Table) (bool, error) { return true, nil },
				Each: func(_ context.Context, query string, _, _ []any, _ func() error) error {
					asked = query
					return nil
				}}}
		if number == "$1" {
			b.Number = func(n int) string { return fmt.Sprintf("$%d", n) }
		}
		if _, err := b.RestoredLive(t.Context(), table, "r1"); err != nil {
			t.Fatal(err)
		}
		for _, part := range []string{want, `FROM "restored what?" r`, `FROM "what?" t`, `r.k1 = t."id?"`} {
			if !strings.Contains(asked, part) {
				t.Errorf("%q is missing in %s", part, asked)
			}
		}
	}
}
