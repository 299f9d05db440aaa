package api

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"

	"ambercellar/internal/api/view"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/notify"
	"ambercellar/internal/engine/refuse"
)

// Notifying is how people and systems are told, and how far that is.
type Notifying struct {
	Mail    *MailServer        `json:"mail"`    // null: no mail is sent
	Hosts   []string           `json:"hosts"`   // that webhooks may be sent to
	Console string             `json:"console"` // address that links lead to; empty: notices have no links
	Kinds   []notify.EventKind `json:"kinds"`   // of events that somebody can be told of at once
	Waiting int64              `json:"waiting"` // deliveries
	Failed  int64              `json:"failed"`
	Since   *catalog.Time      `json:"since"` // the oldest of those is tried; null: none was
}

// MailServer is what mail goes out through.
type MailServer struct {
	Server   string `json:"server"`
	From     string `json:"from"`
	Security string `json:"security"`
	SignsIn  bool   `json:"signs_in"`
}

// NewRecipient says who is told what.
type NewRecipient struct {
	Address    string             `json:"address"`          // a mail address, or the URL of a webhook
	Events     []notify.EventKind `json:"events,omitempty"` // told at once; "all" for all of them
	Rules      []string           `json:"rules,omitempty"`  // names, with * for any text; left out: all
	Sources    []string           `json:"sources,omitempty"`
	Severity   string             `json:"severity,omitempty"`    // the least of findings; left out: notice
	Digest     string             `json:"digest,omitempty"`      // HH:MM at which a day is summed up; left out: never
	Quiet      []string           `json:"quiet,omitempty"`       // windows in which only what is urgent is sent
	Zone       string             `json:"zone,omitempty"`        // left out: UTC
	SecretEnv  string             `json:"secret_env,omitempty"`  // variable with the key that signs
	SecretFile string             `json:"secret_file,omitempty"` // or a file
}

// allKinds stands for all kinds of events.
const allKinds notify.EventKind = "all"

// notificationRoutes are the routes of recipients and deliveries.
func (a *API) notificationRoutes() []route {
	s := a.service
	return []route{
		get("/notifications", "Notifications", "How people and systems are told what happens, and how far that is",
			func(ctx context.Context, _ request) (*Notifying, error) { return a.notifying(ctx) }),
		whole("/recipients", "Recipients", "Who is told what happens",
			func(ctx context.Context, _ request) ([]view.Recipient, error) {
				return each(view.RecipientOf)(s.Catalog.Recipients(ctx))
			}),
		get("/recipients/{recipient}", "Recipient", "One recipient",
			func(ctx context.Context, r request) (*view.Recipient, error) {
				return one(view.RecipientOf)(s.Catalog.Recipient(ctx, r.Param("recipient")))
			}),
		take(
			"PUT",
			"/recipients/{recipient}",
			"SetRecipient",
			"Say who is told what, anew or in place of what was said",
			func(ctx context.Context, r request, in NewRecipient) (*view.Recipient, error) {
				if slices.Contains(in.Events, allKinds) {
					in.Events = notify.Kinds
				}
				return one(view.RecipientOf)(s.Notifier.SetRecipient(ctx, r.actor(), notify.Recipient{
					Name: r.Param("recipient"), Address: in.Address, Events: in.Events, Rules: in.Rules,
					Sources: in.Sources, Severity: in.Severity, Digest: in.Digest, Quiet: in.Quiet, Zone: in.Zone,
					SecretEnv: in.SecretEnv, SecretFile: in.SecretFile}))
			},
		),
		act("DELETE", "/recipients/{recipient}", "DeleteRecipient", "Tell a recipient nothing more",
			func(ctx context.Context, r request) (Items[view.Recipient], error) {
				if err := s.Catalog.DeleteRecipient(ctx, r.actor(), r.Param("recipient")); err != nil {
					return Items[view.Recipient]{}, err
				}
				return all(each(view.RecipientOf)(s.Catalog.Recipients(ctx)))
			}),
		act("POST", "/recipients/{recipient}/test", "TestRecipient", "Send a recipient a test",
			func(ctx context.Context, r request) (*view.Delivery, error) {
				return one(view.DeliveryOf)(s.Notifier.Test(ctx, r.actor(), r.Param("recipient")))
			}).accepted(),
		paged(
			"/news",
			"News",
			"What happened that somebody may want to know of, the newest first; of since, a number of an item, only "+
				"came later",
			func(ctx context.Context, r request, p catalog.Page) ([]catalog.News, error) {
				since, err := strconv.ParseInt(cmp.Or(r.Query("since"), "0"), 10, 64)
				if err != nil {
					return nil, &refuse.Error{Field: "since", Message: fmt.Sprintf("%q is no number of an item",
						r.Query("since")), Remedy: "give the seq of the newest item that you know"}
				}
				return s.Catalog.NewsAfter(ctx, since, p)
			},
			view.NewsOf,
		).asks("since"),
		paged("/deliveries", "Deliveries", "What was sent to whom and what waits, the newest first",
			func(ctx context.Context, r request, p catalog.Page) ([]catalog.Delivery, error) {
				return s.Catalog.Deliveries(ctx, catalog.DeliveryFilter{Recipient: r.Query("recipient"),
					State: r.Query("state")}, p)
			}, view.DeliveryOf).asks("recipient", "state"),
		get("/deliveries/{delivery}", "Delivery", "One delivery",
			func(ctx context.Context, r request) (*view.Delivery, error) {
				return one(view.DeliveryOf)(s.Catalog.Delivery(ctx, r.Param("delivery")))
			}),
		act("POST", "/deliveries/{delivery}/resend", "Resend", "Try a delivery now, or send one that ended once more",
			func(ctx context.Context, r request) (*view.Delivery, error) {
				return one(view.DeliveryOf)(s.Catalog.Resend(ctx, r.actor(), r.Param("delivery")))
			}).accepted(),
		act("POST", "/deliveries/{delivery}/cancel", "CancelDelivery", "End a delivery that waits",
			func(ctx context.Context, r request) (*view.Delivery, error) {
				return one(view.DeliveryOf)(s.Catalog.CancelDelivery(ctx, r.actor(), r.Param("delivery")))
			}),
	}
}

func (a *API) notifying(ctx context.Context) (*Notifying, error) {
	n := a.service.Notifier.Ways()
	out := &Notifying{Hosts: n.Hosts, Console: n.Console, Kinds: notify.Kinds}
	if out.Hosts == nil {
		out.Hosts = []string{}
	}
	if m := n.Mail; m.Server != "" {
		out.Mail = &MailServer{Server: m.Server, From: m.From, Security: m.Way(), SignsIn: m.SignsIn()}
	}
	counts, err := a.service.Catalog.DeliveryCounts(ctx)
	for _, c := range counts {
		switch c.State {
		case catalog.DeliveryWaiting:
			out.Waiting, out.Since = c.N, c.Since
		case catalog.DeliveryFailed:
			out.Failed = c.N
		}
	}
	return out, err
}
