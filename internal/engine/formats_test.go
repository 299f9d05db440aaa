package engine

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"strings"
	"testing"

	"ambercellar/internal/archive/export"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/core/value"
)

// Rows in files say what they hold: NULL is not the empty text, where there is one column too, bytes that are no text
// are not lost, and what a spreadsheet would take for a formula can be had as text.
func TestFilesOfRowsSayWhatTheyHold(t *testing.T) {
	t.Parallel()
	write := func(format string, columns int, rows ...[]value.Value) string {
		var b bytes.Buffer
		x := &export.File{Format: format, Columns: []shape.Column{{Name: "note"}, {Name: "fare"}}[:columns],
			Out: bufio.NewWriter(&b)}
		if export.IsCSV(format) {
			x.CsvHead()
		}
		for _, r := range rows {
			if export.IsCSV(format) {
				x.CsvRow(r)
			} else {
				x.JsonRow(r)
			}
		}
		x.Out.Flush()
		return b.String()
	}
	one := [][]value.Value{{{}}, {value.OfText("")}, {value.OfText("NULL")}, {value.OfText("null")}, {{}}}
	text := write("csv", 1, one...)
	if text != "note\r\nNULL\r\n\"\"\r\n\"NULL\"\r\nnull\r\nNULL\r\n" {
		t.Errorf("one column:\n%q", text)
	}
	if read, err := csv.NewReader(strings.NewReader(text)).ReadAll(); err != nil || len(read) != 6 {
		t.Errorf("%d lines are read, %v", len(read), err)
	}
	if text := write("csv", 2, []value.Value{{}, {}},
		[]value.Value{value.OfText("NULL"), value.Of(-5)}); text != "note,fare\r\n,\r\nNULL,-5\r\n" {
		t.Errorf("two columns:\n%q", text)
	}
	risky := [][]value.Value{{value.OfText("=1+1"), value.Of(-5)}, {value.OfText("+1"), {}}, {value.OfText("-1"), {}},
		{value.OfText("@x"), {}}, {value.OfText("\tx"), {}}, {value.OfText("a=1"), value.OfText("'")}}
	if text := write("csv-safe", 2,
		risky...); text != "note,fare\r\n'=1+1,-5\r\n'+1,\r\n'-1,\r\n'@x,\r\n'\tx,\r\na=1,'\r\n" {
		t.Errorf("safe:\n%q", text)
	}
	if text := write("csv", 2, risky[:1]...); !strings.Contains(text, "\r\n=1+1,-5") {
		t.Errorf("as it is:\n%q", text)
	}
	var back map[string]any
	if err := json.Unmarshal([]byte(write("ndjson", 1, []value.Value{value.OfText("\xff\xfe")})), &back); err != nil ||
		back["note"].(map[string]any)["texthex"] != "fffe" {
		t.Errorf("text that is none: %v, %v", back, err)
	}
}
