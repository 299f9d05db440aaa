package view

import (
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/notify"
)

// Recipient is a person or a system that is told what happens.
type Recipient struct {
	Name       string             `json:"name"`
	Address    string             `json:"address"`            // a mail address, or the URL of a webhook
	Events     []notify.EventKind `json:"events"`             // told at once
	Rules      []string           `json:"rules,omitempty"`    // names, with * for any text; left out: all
	Sources    []string           `json:"sources,omitempty"`  // likewise
	Severity   string             `json:"severity,omitempty"` // the least of findings; left out: notice
	Digest     string             `json:"digest,omitempty"`   // HH:MM at which a day is summed up; left out: never
	Quiet      []string           `json:"quiet,omitempty"`    // windows in which only what is urgent is sent
	Zone       string             `json:"zone,omitempty"`     // whose clock these follow; left out: UTC
	SecretEnv  string             `json:"secret_env,omitempty"`
	SecretFile string             `json:"secret_file,omitempty"`
	SetAt      catalog.Time       `json:"set_at"`
	SetBy      string             `json:"set_by"`
}

// RecipientOf shows a recipient.
func RecipientOf(r *catalog.Recipient) Recipient {
	x := r.Body.V
	out := Recipient{Name: x.Name, Address: x.Address, Events: x.Events, Rules: x.Rules, Sources: x.Sources,
		Severity: x.Severity, Digest: x.Digest, Quiet: x.Quiet, Zone: x.Zone, SecretEnv: x.SecretEnv,
		SecretFile: x.SecretFile, SetAt: r.SetAt, SetBy: r.SetBy}
	if out.Events == nil {
		out.Events = []notify.EventKind{}
	}
	return out
}

// Delivery is one notice to one recipient.
type Delivery struct {
	ID        string                `json:"id"`
	Recipient string                `json:"recipient"` // empty: whoever a restore names
	Address   string                `json:"address"`
	Kind      notify.EventKind      `json:"kind"`
	Record    string                `json:"record"` // the run, restore, finding … that it is of
	Title     string                `json:"title"`
	Text      string                `json:"text"`
	Urgent    bool                  `json:"urgent"` // it is sent in quiet hours too
	State     catalog.DeliveryState `json:"state"`
	Attempts  int                   `json:"attempts"`
	MadeAt    catalog.Time          `json:"made_at"`
	NextAt    *catalog.Time         `json:"next_at"` // not tried before; null: it has ended
	EndedAt   *catalog.Time         `json:"ended_at"`
	Error     string                `json:"error"` // of the last attempt
}

// DeliveryOf shows a delivery.
func DeliveryOf(d *catalog.Delivery) Delivery {
	out := Delivery{
		ID:        d.ID,
		Recipient: d.Recipient,
		Address:   d.Address,
		Kind:      d.Kind,
		Record:    d.Record,
		Title:     d.Title,
		Text:      d.Notice.V.Text(),
		Urgent:    d.Urgent,
		State:     d.State,
		Attempts:  d.Attempts,
		MadeAt:    d.MadeAt,
		EndedAt:   d.EndedAt,
		Error:     d.Error,
	}
	if d.State == catalog.DeliveryWaiting {
		out.NextAt = &d.NextAt
	}
	return out
}
