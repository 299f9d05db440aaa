package value

import (
	"os"
	"regexp"
	"strings"
	"testing"
)

// docs/archive.md names every form that an exact value takes, and each that it shows reads back to itself.
func TestThePageNamesEveryExactForm(t *testing.T) {
	page, err := os.ReadFile("../../../docs/archive.md")
	if err != nil {
		t.Fatal(err)
	}
	_, table, _ := strings.Cut(string(page), "| form | what it is |")
	table, _, _ = strings.Cut(table, "```")
	shown := map[string]bool{}
	for _, line := range strings.Split(table, "\n") {
		cells := strings.Split(line, "|")
		if len(cells) < 2 {
			continue
		}
		for _, form := range regexp.MustCompile("`([a-z0-9]+):([^`]*)`").FindAllStringSubmatch(cells[1], -1) {
			if shown[form[1]] = true; form[2] == "…" {
				continue
			}
			v, err := ParseExact(form[1] + ":" + form[2])
			if err != nil || v.Exact() != form[1]+":"+form[2] {
				t.Errorf("%s:%s reads back as %s, %v", form[1], form[2], v.Exact(), err)
			}
		}
	}
	for _, v := range []Value{Of(1), OfFloat(1), OfFloat32(1), OfBool(true), {Kind: Decimal, B: []byte("1")},
		OfText("x"), OfText("\xff"), {Kind: Bytes, B: []byte{1}}, {Kind: UUID, B: make([]byte, 16)},
		{Kind: Date}, {Kind: Time}, {Kind: Timestamp}, {Kind: Instant}} {
		if kind, _, _ := strings.Cut(v.Exact(), ":"); !shown[kind] {
			t.Errorf("the page does not show the form %s", v.Exact())
		} else {
			delete(shown, kind)
		}
	}
	if len(shown) > 0 {
		t.Errorf("the page shows forms that are none: %v", shown)
	}
}
