package engine

import (
	"context"
	"encoding/hex"
	"fmt"
	"strings"
	"testing"
	"time"

	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/mask"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
	"ambercellar/internal/source"
)

func TestMasksKeepOnlyWhatTheySay(t *testing.T) {
	t.Parallel()
	day := func(s string) value.Value {
		at, err := time.Parse(time.DateOnly, s)
		if err != nil {
			t.Fatal(err)
		}
		return value.Value{Kind: value.Date, N: at.Unix() / 86_400}
	}
	instant := value.Value{Kind: value.Instant, N: time.Date(2024, 7, 31, 23, 59, 59, 0, time.UTC).UnixMicro()}
	null := value.Value{}
	for _, c := range []struct {
		mask     rule.Mask
		nullable bool
		in, want value.Value
	}{
		{"", true, value.OfText("as it is"), value.OfText("as it is")},
		{rule.MaskBlank, true, value.OfText("name"), null},
		{rule.MaskBlank, false, value.OfText("name"), value.OfText("")},
		{rule.MaskBlank, true, value.Of(17), null},
		{rule.MaskLast4, true, value.OfText("4711 0815 1234"), value.OfText("****1234")},
		{rule.MaskLast4, true, value.OfText("Żółć na łódce"), value.OfText("****ódce")},
		{rule.MaskLast4, true, value.OfText("1234567"), value.OfText("****")}, // four would be most of it
		{rule.MaskLast4, true, value.OfText("12345678"), value.OfText("****5678")},
		{rule.MaskLast4, true, value.OfText("\xff\xfe345678"), value.OfText("****")},
		{rule.MaskLast4, true, value.OfText(""), value.OfText("****")},
		{rule.MaskYear, true, day("2024-02-29"), day("2024-01-01")},
		{rule.MaskYear, true, day("1969-12-31"), day("1969-01-01")},
		{rule.MaskYear, true, instant,
			value.Value{Kind: value.Instant, N: time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC).UnixMicro()}},
		{rule.MaskYear, true, value.OfText("2024-05-06 07:08:09"), value.OfText("2024-01-01")},
		{rule.MaskYear, true, value.OfText("in May"), null},
		{rule.MaskHash, true, null, null},
		{rule.MaskBlank, false, null, null},
	} {
		col := shape.Column{Name: "it", Kind: c.in.Kind, Nullable: c.nullable}
		k := mask.New(&shape.Table{TableForm: shape.TableForm{Columns: []shape.Column{col}}}, []int{0}, nil,
			map[string]rule.Mask{"it": c.mask},
			[]byte("key"))
		got := k.Clean(&value.Chunk{Width: 1, Values: []value.Value{c.in}}).Values[0]
		if got.Exact() != c.want.Exact() || got.Kind != c.want.Kind {
			t.Errorf("%q of %s is %s instead of %s", c.mask, c.in.Exact(), got.Exact(), c.want.Exact())
		}
	}
}

func TestHashesTellEqualValuesAndNothingElse(t *testing.T) {
	t.Parallel()
	hash := func(column, key string, v value.Value) string {
		k := mask.New(&shape.Table{TableForm: shape.TableForm{Columns: []shape.Column{{Name: column, Kind: v.Kind}}}},
			[]int{0}, nil,
			map[string]rule.Mask{column: rule.MaskHash}, []byte(key))
		if c := k.Columns[0]; c.Kind != value.Text || !c.AsText {
			t.Errorf("a hash of %s is archived as %s", column, c.Kind)
		}
		return string(k.Clean(&value.Chunk{Width: 1, Values: []value.Value{v}}).Values[0].B)
	}
	one := hash("login", "key", value.OfText("heron"))
	if b, err := hex.DecodeString(one); err != nil || len(b) != 32 || strings.Contains(one, "heron") {
		t.Errorf("the hash is %q", one)
	}
	if hash("login", "key", value.OfText("heron")) != one {
		t.Error("equal values have different hashes")
	}
	for name, other := range map[string]string{"value": hash("login", "key", value.OfText("Heron")),
		"key": hash("login", "other", value.OfText("heron")), "column": hash("name", "key", value.OfText("heron")),
		"kind": hash("login", "key", value.OfBytes([]byte("heron")))} {
		if other == one {
			t.Errorf("the hash does not tell another %s", name)
		}
	}
}

func TestOmittedColumnsAreGoneAndJoinedOnesStandBehind(t *testing.T) {
	t.Parallel()
	table := &shape.Table{TableForm: shape.TableForm{Columns: []shape.Column{{Name: "id", Kind: value.Int},
		{Name: "photo", Kind: value.Bytes},
		{Name: "name", Kind: value.Text}, {Name: "code", Kind: value.Int}}}}
	k := mask.New(table, []int{0, 1, 2, 3}, []string{"photo"}, map[string]rule.Mask{"name": rule.MaskLast4}, nil)
	k.Include([]filter.Ref{{Join: "vessel", Name: "flag", Column: &shape.Column{Name: "flag", Kind: value.Text,
		Generated: true}}})
	var names []string
	for _, c := range k.Columns {
		names = append(names, c.Name)
	}
	if got := strings.Join(names, " "); got != "id name code vessel.flag" || !k.Columns[3].Nullable ||
		k.Columns[3].Generated {
		t.Errorf("archived are %s, %+v", got, k.Columns[3])
	}
	in := &value.Chunk{Width: 5, Values: []value.Value{value.Of(1), value.OfBytes([]byte{9}),
		value.OfText("passenger"), value.Of(5), value.OfText("red"), value.Of(2), value.OfBytes(nil),
		value.OfText("x"), value.Of(6), {}}}
	out := k.Clean(in)
	var got []string
	for i := range out.Rows() {
		for _, v := range out.Row(i) {
			got = append(got, v.String())
		}
	}
	if text := strings.Join(got, " "); text != "1 ****nger 5 red 2 **** 6 "+(value.Value{}).String() {
		t.Errorf("rows are archived as %q", text)
	}
	if notes := k.Masked(); len(notes) != 1 || notes["name"] != "last4" {
		t.Errorf("the manifest notes %v", notes)
	}
}

// stopping ends the process's work, as a pause does, before the batch or the reading of that number.
type stopping struct {
	source.Source
	batches, reads int
	stop           func()
}

func (x *stopping) Unwrap() source.Source { return x.Source }

func (s *stopping) DeleteBatch(ctx context.Context, b source.Batch) (*source.JournalRow, error) {
	if s.batches--; s.batches == 0 {
		s.stop()
		return nil, context.Canceled
	}
	return s.Source.DeleteBatch(ctx, b)
}

func (s *stopping) ReadSlice(ctx context.Context, q source.SliceRequest, sink func(*value.Chunk) error) (*source.Slice,
	error) {
	if s.reads--; s.reads == 0 {
		s.stop()
		return nil, context.Canceled
	}
	return s.Source.ReadSlice(ctx, q, sink)
}

func TestCleanedRowsThatWereLeftAreReadAgainHoweverOftenTheRunStops(t *testing.T) {
	t.Parallel()
	for _, engine := range []string{"sqlite", "postgres", "mariadb"} {
		t.Run(engine, func(t *testing.T) {
			h := newHarbour(t, engine)
			scans(t, h)
			s := &scene{rule: fmt.Sprintf(matrixRule, "scan", "before: 2020-01-11", "archive") + cellar +
				"mask: {note: blank}\n"}
			run := ""
			// It stops before the second segment's rows are deleted, and again when that has been closed without them.
			for i, at := range []stopping{{batches: 2}, {reads: 1}, {}} {
				ctx, cancel := context.WithCancel(t.Context())
				at.stop = cancel
				b := h.serve(t, func(src source.Source) source.Source { at.Source = src; return &at })
				if run == "" {
					run = s.start(t, h, b)
				}
				r, err := b.Catalog.Run(t.Context(), run)
				if err == nil {
					err = b.Runs.Run(ctx, r)
				}
				cancel()
				if stopped := err != nil; stopped != (i < 2) {
					t.Fatalf("time %d: %v", i+1, err)
				}
				b.close()
			}
			if n := h.count(t, "SELECT count(*) FROM scan"); n != matrixRows-239 {
				t.Errorf("%d rows are live, want %d", n, matrixRows-239)
			}
		})
	}
}
