package mask

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"time"
	"unicode/utf8"

	"ambercellar/internal/core/filter"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

// Cleaner leaves out and masks columns on the way to the archive.
type Cleaner struct {
	Columns  []shape.Column // as they are archived
	from     []int          // where each stands in the rows that are read
	masks    []rule.Mask    // of each; empty: as it is
	Omitted  []string
	masked   map[string]rule.Mask
	Included []string
	read     int // columns of the table that are read
	key      []byte
	out      value.Chunk
}

func New(t *shape.Table, read []int, omit []string, mask map[string]rule.Mask, key []byte) *Cleaner {
	c := &Cleaner{Omitted: omit, masked: mask, key: key, read: len(read)}
	for at, i := range read {
		col := t.Columns[i]
		if slices.Contains(omit, col.Name) {
			continue
		}
		if mask[col.Name] == rule.MaskHash {
			col.Kind, col.AsText, col.Age = value.Text, true, shape.AgeNone
		}
		c.Columns, c.from, c.masks = append(c.Columns, col), append(c.from, at), append(c.masks, mask[col.Name])
	}
	c.out.Width = len(c.Columns)
	return c
}

// Include appends joined columns, which are read behind the others.
func (c *Cleaner) Include(refs []filter.Ref) {
	for _, r := range refs {
		col := *r.Column
		col.Name, col.Nullable, col.Generated, col.Number = r.Join+"."+r.Name, true, false, 0
		c.Included = append(c.Included, col.Name)
		c.Columns, c.masks = append(c.Columns, col), append(c.masks, "")
		c.from = append(c.from, c.read+len(c.Included)-1)
	}
	c.out.Width = len(c.Columns)
}

// chunk returns the rows as they are archived; they are valid until its next call.
func (c *Cleaner) Clean(in *value.Chunk) *value.Chunk {
	c.out.Reset()
	for i := range in.Rows() {
		row := in.Row(i)
		for j, at := range c.from {
			v := c.mask(row[at], j)
			if v.B != nil {
				v.B = c.out.Keep(v.B)
			}
			c.out.Values = append(c.out.Values, v)
		}
	}
	return &c.out
}

func (c *Cleaner) mask(v value.Value, j int) value.Value {
	if v.Kind == value.Null {
		return v
	}
	switch c.masks[j] {
	case rule.MaskBlank:
		if v.Kind == value.Text && !c.Columns[j].Nullable {
			return value.OfText("")
		}
		return value.Value{}
	case rule.MaskHash:
		h := hmac.New(sha256.New, c.key)
		h.Write([]byte(c.Columns[j].Name + "\x00"))
		h.Write(v.AppendCanonical(nil))
		return value.OfText(hex.EncodeToString(h.Sum(nil)))
	case rule.MaskYear:
		return firstOfYear(v)
	case rule.MaskLast4:
		return value.OfText(lastFour(v))
	}
	return v
}

func firstOfYear(v value.Value) value.Value {
	if v.Kind == value.Text {
		if t, ok := rule.ParseISO(string(v.B)); ok {
			return value.OfText(fmt.Sprintf("%04d-01-01", t.Year()))
		}
		return value.Value{}
	}
	t, ok := v.Instant()
	if !ok {
		return v
	}
	first := time.Date(t.Year(), 1, 1, 0, 0, 0, 0, time.UTC)
	if v.Kind == value.Date {
		return value.Value{Kind: v.Kind, N: (first.Unix() - ((first.Unix()%86_400)+86_400)%86_400) / 86_400}
	}
	return value.Value{Kind: v.Kind, N: first.UnixMicro()}
}

// lastFour keeps the last four characters, and hides how many there were before them. Of so short a text that four are
// most of it, nothing is kept.
func lastFour(v value.Value) string {
	if !utf8.Valid(v.B) || utf8.RuneCount(v.B) < 8 {
		return "****"
	}
	runes := []rune(string(v.B))
	return "****" + string(runes[len(runes)-4:])
}

// notes of what was done to the columns, for the manifest.
func (c *Cleaner) Masked() map[string]string {
	out := map[string]string{}
	for name, m := range c.masked {
		out[name] = string(m)
	}
	return out
}
