// Package entryfile writes entries of the audit log into files: streams of one format, PDF, and archives of entries and
// details.
package entryfile

import (
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"io"
	"slices"
	"strconv"

	"ambercellar/internal/core/audit"
)

// Formats are those in which entries can be had.
var Formats = []string{"csv", "ndjson", "xml", "pdf"}

// content is what of entries a file holds.
type content int

const (
	whole content = iota
	bare          // without details
	details
)

// columns are the fields of an entry in a file, in their order.
var columns = []string{"id", "at", "actor", "session", "address", "action", "subject", "outcome", "detail", "erased",
	"withheld", "digest", "hash"}

// of lists the columns that a file holds.
func (c content) of() []string {
	switch c {
	case bare:
		return slices.DeleteFunc(slices.Clone(columns), func(name string) bool { return name == "detail" })
	case details:
		return []string{"id", "detail", "erased", "withheld"}
	}
	return columns
}

func field(e *Entry, column string) string {
	switch column {
	case "id":
		return strconv.FormatInt(e.ID, 10)
	case "at":
		return e.At.UTC().Format(audit.Form)
	case "actor":
		return e.Actor
	case "session":
		return e.Session
	case "address":
		return e.Address
	case "action":
		return e.Action
	case "subject":
		return e.Subject
	case "outcome":
		return string(e.Outcome)
	case "detail":
		return e.Detail
	case "erased":
		return strconv.FormatBool(e.Erased)
	case "withheld":
		return strconv.FormatBool(e.Withheld)
	case "digest":
		return e.Digest
	}
	return e.Hash
}

// Writer writes entries into a file of a format.
type Writer struct {
	Type  string                         // the media type
	Begin func(io.Writer) error          // writes what comes first
	Each  func(io.Writer, []Entry) error // writes entries
	End   string                         // what comes last
}

// Stream is what writes whole entries in a format; false where that is none that can be written bit by bit.
func Stream(format string) (*Writer, bool) {
	w := writer(format, whole)
	return w, w != nil
}

func writer(format string, c content) *Writer {
	switch format {
	case "csv":
		return csvWriter(c)
	case "ndjson":
		return &Writer{Type: "application/x-ndjson", Begin: func(io.Writer) error { return nil },
			Each: func(w io.Writer, list []Entry) error { return ndjson(w, list, c) }}
	case "xml":
		return &Writer{Type: "application/xml", End: "</audit>\n", Begin: func(w io.Writer) error {
			_, err := io.WriteString(w, xml.Header+"<audit>\n")
			return err
		}, Each: func(w io.Writer, list []Entry) error { return xmlEntries(w, list, c) }}
	}
	return nil
}

func csvWriter(c content) *Writer {
	names := c.of()
	return &Writer{Type: "text/csv; charset=utf-8", Begin: func(w io.Writer) error {
		out := csv.NewWriter(w)
		out.Write(names)
		out.Flush()
		return out.Error()
	}, Each: func(w io.Writer, list []Entry) error {
		out := csv.NewWriter(w)
		fields := make([]string, len(names))
		for i := range list {
			for j, name := range names {
				fields[j] = harmless(field(&list[i], name))
			}
			out.Write(fields)
		}
		out.Flush()
		return out.Error()
	}}
}

// harmless writes a value so that a spreadsheet does not take it for a formula.
func harmless(text string) string {
	if text != "" {
		switch text[0] {
		case '=', '+', '-', '@', '\t', '\r':
			return "'" + text
		}
	}
	return text
}

// bareEntry is an entry without its detail.
type bareEntry struct {
	*Entry
	Detail *string `json:"detail,omitempty"` // in the place of the entry's
}

type detailOf struct {
	ID       int64  `json:"id"`
	Detail   string `json:"detail"`
	Erased   bool   `json:"erased"`
	Withheld bool   `json:"withheld"`
}

func ndjson(w io.Writer, list []Entry, c content) error {
	j := json.NewEncoder(w)
	for i := range list {
		var v any = &list[i]
		switch e := &list[i]; c {
		case bare:
			v = bareEntry{Entry: e}
		case details:
			v = detailOf{e.ID, e.Detail, e.Erased, e.Withheld}
		}
		if err := j.Encode(v); err != nil {
			return err
		}
	}
	return nil
}

func xmlEntries(w io.Writer, list []Entry, c content) error {
	name := "entry"
	if c == details {
		name = "detail"
	}
	x := xml.NewEncoder(w)
	for i := range list {
		entry := xml.StartElement{Name: xml.Name{Local: name}}
		for _, column := range c.of() {
			if column != "detail" {
				entry.Attr = append(entry.Attr, xml.Attr{Name: xml.Name{Local: column}, Value: field(&list[i], column)})
			}
		}
		text := list[i].Detail
		if c == bare {
			text = ""
		}
		if err := x.EncodeElement(text, entry); err != nil {
			return err
		}
		if err := x.Flush(); err != nil {
			return err
		}
		if _, err := io.WriteString(w, "\n"); err != nil {
			return err
		}
	}
	return nil
}
