package api

import (
	"bytes"
	"context"
	"errors"
	"fmt"

	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/entryfile"
)

// errTooLong ends the reading of entries that a PDF has no room for.
var errTooLong = errors.New("too many entries")

// auditPDF makes a PDF of the entries that are meant.
func (a *API) auditPDF(ctx context.Context, f catalog.AuditFilter, rows bool) ([]byte, error) {
	var list []entryfile.Entry
	err := a.service.Audit.Each(ctx, f, func(some []catalog.Entry) error {
		if len(list)+len(some) > entryfile.MostOnPaper {
			return errTooLong
		}
		list = append(list, shown(some, entriesFor(rows))...)
		return nil
	})
	if errors.Is(err, errTooLong) {
		return nil, &refuse.Error{Field: "format",
			Message: fmt.Sprintf("these are more than %d entries, which is too much for "+
				"a PDF", entryfile.MostOnPaper), Remedy: "ask for a shorter time, or take csv, ndjson or xml"}
	}
	head, one := a.service.Catalog.AuditHead(ctx)
	if err = errors.Join(err, one); err != nil {
		return nil, err
	}
	var b bytes.Buffer
	err = entryfile.PDF(&b, list, fmt.Sprintf("log %s, %d entries of %d, as of %s; its last hash is %s", head.Log,
		len(list), head.Entry, a.service.Now().UTC().Format(reportTime), head.Hash))
	return b.Bytes(), err
}
