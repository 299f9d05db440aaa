package api

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"ambercellar/internal/api/view"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/audit"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/service"
)

// EntriesMeant says which entries of the audit log are meant; what is left out: all.
type EntriesMeant struct {
	Actor   string `json:"actor,omitempty"`
	Kind    string `json:"kind,omitempty"`   // the first word of an action
	Action  string `json:"action,omitempty"` // like "run start"
	Subject string `json:"subject,omitempty"`
	Outcome string `json:"outcome,omitempty"` // done, refused or failed
	From    string `json:"from,omitempty"`    // a day or an instant
	To      string `json:"to,omitempty"`      // before this one
}

// NewAuditExport is what an export of the audit log is asked for with.
type NewAuditExport struct {
	EntriesMeant
	Format string `json:"format"`         // csv, ndjson, xml or pdf
	Tell   string `json:"tell,omitempty"` // a mail address that is told when it has ended
}

// NewAuditSchedule is what a schedule of exports is asked for with.
type NewAuditSchedule struct {
	NewAuditExport
	Name string `json:"name"`
	When string `json:"when"`           // in words, as cron does, or as a recurrence rule of RFC 5545
	Zone string `json:"zone,omitempty"` // whose clock it follows; empty: UTC
}

func (m *EntriesMeant) filter() (f catalog.AuditFilter, err error) {
	f = catalog.AuditFilter{Actor: m.Actor, Kind: m.Kind, Action: m.Action, Subject: m.Subject,
		Outcome: audit.EntryOutcome(m.Outcome)}
	if err := checkOutcome(f.Outcome); err != nil {
		return f, err
	}
	for _, x := range []struct {
		field, text string
		at          **catalog.Time
	}{{"from", m.From, &f.From}, {"to", m.To, &f.To}} {
		if x.text == "" {
			continue
		}
		t, ok := rule.ParseISO(x.text)
		if !ok {
			return f, &refuse.Error{Field: x.field, Message: fmt.Sprintf("%.80q is no day or time", x.text),
				Remedy: "write one like 2027-01-31 or 2027-01-31T12:00:00Z"}
		}
		at := catalog.At(t)
		*x.at = &at
	}
	return f, nil
}

func (n *NewAuditExport) request() (service.ExportRequest, error) {
	f, err := n.filter()
	return service.ExportRequest{Format: n.Format, Filter: f, Tell: n.Tell}, err
}

// auditExportRoutes are the routes of exports that are made in the background.
func (a *API) auditExportRoutes() []route {
	s := a.service.Exports
	return []route{
		take(
			"POST",
			"/audit/exports",
			"MakeAuditExport",
			"Have an export of the audit log made in the background: a zip of the entries that there are now, and of "+
				"their details",
			func(ctx context.Context, r request, in NewAuditExport) (*view.AuditExport, error) {
				q, err := in.request()
				if err != nil {
					return nil, err
				}
				return one(view.AuditExportOf)(s.Ask(ctx, r.who(), q))
			},
		).accepted(),
		paged(
			"/audit/exports",
			"AuditExports",
			"Your exports of the audit log, the newest first; an administrator sees all",
			func(ctx context.Context, r request, p catalog.Page) ([]catalog.AuditExport, error) {
				return a.service.Catalog.AuditExports(ctx, s.ListedFor(r.who()), p)
			},
			view.AuditExportOf,
		),
		get("/audit/exports/{export}", "OneAuditExport", "One export of the audit log",
			func(ctx context.Context, r request) (*view.AuditExport, error) {
				return one(view.AuditExportOf)(s.Of(ctx, r.who(), r.Param("export")))
			}),
		act("DELETE", "/audit/exports/{export}", "DiscardAuditExport", "Remove the file of an export, or end it",
			func(ctx context.Context, r request) (none, error) {
				return none{}, s.Discard(ctx, r.who(), r.Param("export"))
			}),
		file("/audit/exports/{export}/file", "AuditExportFile", "The file of an export, as zip", a.auditExportFile),
		take("POST", "/audit/schedules", "MakeAuditSchedule",
			"Have exports made again and again, each of the entries since the one before",
			func(ctx context.Context, r request, in NewAuditSchedule) (*view.AuditSchedule, error) {
				q, err := in.request()
				if err != nil {
					return nil, err
				}
				return one(view.AuditScheduleOf)(s.Schedule(ctx, r.who(), service.ScheduleRequest{ExportRequest: q,
					Name: in.Name, When: in.When, Zone: cmp.Or(in.Zone, "UTC")}))
			}).created(),
		whole("/audit/schedules", "AuditSchedules", "Your schedules of exports; an administrator sees all",
			func(ctx context.Context, r request) ([]view.AuditSchedule, error) {
				return each(view.AuditScheduleOf)(a.service.Catalog.AuditSchedules(ctx, s.ListedFor(r.who())))
			}),
		act("DELETE", "/audit/schedules/{schedule}", "EndAuditSchedule", "End a schedule of exports",
			func(ctx context.Context, r request) (none, error) {
				return none{}, s.Unschedule(ctx, r.who(), r.Param("schedule"))
			}),
	}
}

// auditExportFile sends the file of an export.
func (a *API) auditExportFile(c *gin.Context) {
	r := request{c}
	x, f, err := a.service.Exports.Open(c.Request.Context(), r.who(), c.Param("export"))
	if err != nil {
		fail(c, err)
		return
	}
	defer f.Close()
	c.Header("Content-Type", "application/zip")
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=\"audit-%s-%s.zip\"",
		x.MadeAt.UTC().Format(time.DateOnly), x.ID))
	c.Header("ETag", `"`+x.SHA256+`"`)
	http.ServeContent(c.Writer, c.Request, "", x.EndedAt.Time, f)
}
