package service

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"

	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/core/calendar"
	"ambercellar/internal/core/declare"
	"ambercellar/internal/core/period"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// inForce is one thing as it is in force.
type inForce struct {
	text   string // as a declaration of all of it
	source *source.Config
	guard  catalog.Guard
	store  *catalog.Store
}

// like is the text of what is in force, of as much as a declaration speaks of; empty where nothing is in force.
func (f inForce) like(t *declare.Thing) string {
	switch {
	case f.source != nil && t.Source != nil:
		x := sourceDeclared(f.source, f.guard)
		if t.Source.Guard == nil {
			x.Guard = nil
		}
		return x.Form()
	case f.store != nil && t.Store != nil:
		x := storeDeclared(f.store)
		if t.Store.Scrub == nil {
			x.Scrub = nil
		}
		return x.Form()
	}
	return f.text
}

// inForce lists all that can be declared, by kind and name.
func (s *Declarations) inForce(ctx context.Context) (map[[2]string]inForce, error) {
	out := map[[2]string]inForce{}
	sources, err := s.Catalog.Sources(ctx)
	if err != nil {
		return nil, err
	}
	for i := range sources {
		c := &sources[i]
		g, err := s.Catalog.Guard(ctx, c.Name)
		if err != nil {
			return nil, err
		}
		out[[2]string{declare.KindSource, c.Name}] = inForce{text: sourceDeclared(c, g).Form(), source: c, guard: g}
	}
	stores, err := s.Catalog.Stores(ctx)
	if err != nil {
		return nil, err
	}
	for i := range stores {
		st := &stores[i]
		out[[2]string{declare.KindStore, st.Name}] = inForce{text: storeDeclared(st).Form(), store: st}
	}
	keeps, err := s.Catalog.Keeps(ctx)
	if err != nil {
		return nil, err
	}
	for _, k := range keeps {
		out[[2]string{declare.KindKeep, k.Name}] = inForce{text: k.Text}
	}
	schedules, err := s.Catalog.Schedules(ctx)
	if err != nil {
		return nil, err
	}
	for _, k := range schedules {
		out[[2]string{declare.KindSchedule, k.Name}] = inForce{text: k.Text}
	}
	rules, err := s.Catalog.Rules(ctx)
	for _, r := range rules {
		out[[2]string{declare.KindRule, r.Name}] = inForce{text: r.Text}
	}
	return out, err
}

// declaredForm is a declaration in the form in which it is compared: what is left out is filled in.
func declaredForm(t *declare.Thing) string {
	switch {
	case t.Source != nil:
		x := *t.Source
		if x.Connections == 0 {
			x.Connections = usualConnections
		}
		if abs, err := filepath.Abs(x.Address); err == nil && x.Engine == "sqlite" {
			x.Address = abs
		}
		if x.Guard != nil {
			if g, err := guardOf(x.Guard); err == nil {
				x.Guard = guardDeclared(g)
			}
		}
		return x.Form()
	case t.Store != nil:
		x := *t.Store
		x.Existing = false // that is said for the first time alone
		if abs, err := filepath.Abs(x.Path); err == nil && x.Path != "" {
			x.Path = abs
		}
		return x.Form()
	}
	return t.Text
}

func sourceDeclared(c *source.Config, g catalog.Guard) declare.Source {
	return declare.Source{Name: c.Name, Engine: c.Engine, Address: c.Address, PasswordEnv: c.PasswordEnv,
		PasswordFile: c.PasswordFile, TLS: c.TLS, TLSCA: c.TLSCA, Disk: c.Disk, Origin: c.Origin,
		Connections: c.Connections, Guard: guardDeclared(g)}
}

// guardDeclared is nil where nothing is bound.
func guardDeclared(g catalog.Guard) *declare.Guard {
	x := declare.Guard{Only: g.Only, Never: g.Never, Approve: g.Approve}
	if g.Live != nil {
		x.Live = g.Live.String()
	}
	if g.Archive != nil {
		x.Archive = g.Archive.String()
	}
	for _, w := range g.Window {
		x.Window = append(x.Window, w.String())
	}
	if g.Zone != "UTC" {
		x.Zone = g.Zone
	}
	if len(x.Only)+len(x.Never)+len(x.Approve)+len(x.Window) == 0 && x.Live+x.Archive+x.Zone == "" {
		return nil
	}
	return &x
}

func guardOf(x *declare.Guard) (g catalog.Guard, err error) {
	g = catalog.Guard{Only: x.Only, Never: x.Never, Approve: x.Approve, Zone: x.Zone}
	for _, f := range []struct {
		name, text string
		to         **period.Period
	}{{"live", x.Live, &g.Live}, {"archive", x.Archive, &g.Archive}} {
		if f.text == "" {
			continue
		}
		p, err := period.Parse(f.text)
		if err != nil {
			return g, &refuse.Error{Field: "guard." + f.name, Message: err.Error()}
		}
		*f.to = &p
	}
	for _, text := range x.Window {
		w, err := calendar.ParseWindow(text)
		if err != nil {
			return g, &refuse.Error{Field: "guard.window", Message: err.Error()}
		}
		g.Window = append(g.Window, rule.Window{Window: w})
	}
	return g, nil
}

func storeDeclared(st *catalog.Store) declare.Store {
	x := declare.Store{Name: st.Name, KeyFile: st.Seal.V.File, KeyEnv: st.Seal.V.Env, Second: st.Second,
		Scrub: &declare.Scrub{Every: st.Scrub.V.Every, Rate: st.Scrub.V.Rate, Window: st.Scrub.V.Window}}
	if st.Kind == catalog.StoreDirectory {
		x.Path = st.Path
		return x
	}
	text, err := json.Marshal(st.Bucket.V)
	if err == nil {
		err = json.Unmarshal(text, &x.Bucket)
	}
	if err != nil {
		x.Bucket = map[string]string{"unreadable": err.Error()} // a bucket is described by texts alone
	}
	return x
}

func bucketOf(fields map[string]string) (b store.Bucket, err error) {
	text, err := json.Marshal(fields)
	if err != nil {
		return b, err
	}
	d := json.NewDecoder(bytes.NewReader(text))
	d.DisallowUnknownFields()
	if err := d.Decode(&b); err != nil {
		return b, &refuse.Error{Field: "bucket", Message: strings.TrimPrefix(err.Error(), "json: "),
			Remedy: "the fields are endpoint, name, prefix, region, style, credentials_file, profile, ca_file, " +
				"encryption, key_id and class"}
	}
	return b, nil
}

// place adds a declared source or store, or changes it to what is declared.
func (s *Declarations) place(ctx context.Context, actor string, t *DeclaredThing) error {
	if t.thing.Store != nil {
		return s.store(ctx, actor, t)
	}
	x := t.thing.Source
	c := source.Config{Name: x.Name, Engine: x.Engine, Address: x.Address, PasswordEnv: x.PasswordEnv,
		PasswordFile: x.PasswordFile, TLS: x.TLS, TLSCA: x.TLSCA, Disk: x.Disk, Origin: x.Origin,
		Connections: x.Connections}
	was, err := s.Catalog.Source(ctx, x.Name)
	switch {
	case t.force == "":
		_, err = s.places.AddSource(ctx, actor, c)
	case err == nil && was.Engine != c.Engine:
		err = &refuse.Error{Field: "engine", Message: fmt.Sprintf("source %s is %s, and stays that", c.Name,
			was.Engine), Remedy: "declare another source"}
	case err == nil && sourceDeclared(was, catalog.Guard{}).Form() != declaredForm(withoutGuard(t.thing)):
		_, err = s.queue.ChangeSource(ctx, actor, c.Name, SourceChange{Address: &c.Address,
			PasswordEnv: &c.PasswordEnv, PasswordFile: &c.PasswordFile, TLS: &c.TLS, TLSCA: &c.TLSCA, Disk: &c.Disk,
			Origin: &c.Origin, Connections: &c.Connections})
	}
	if err != nil || x.Guard == nil {
		return err
	}
	g, err := guardOf(x.Guard)
	if err != nil {
		return err
	}
	return s.places.SetGuard(ctx, actor, c.Name, g)
}

func withoutGuard(t *declare.Thing) *declare.Thing {
	x := *t.Source
	x.Guard = nil
	return &declare.Thing{Source: &x}
}

func (s *Declarations) store(ctx context.Context, actor string, t *DeclaredThing) error {
	x := t.thing.Store
	c := catalog.Store{Name: x.Name, Path: x.Path, Second: x.Second}
	c.Seal.V = store.Seal{File: x.KeyFile, Env: x.KeyEnv}
	var err error
	if x.Bucket != nil {
		if c.Bucket.V, err = bucketOf(x.Bucket); err != nil {
			return err
		}
	}
	if x.Scrub != nil {
		c.Scrub.V = catalog.Scrub{Every: x.Scrub.Every, Rate: x.Scrub.Rate, Window: x.Scrub.Window}
	}
	if t.force == "" {
		return s.places.AddStore(ctx, actor, c, x.Existing)
	}
	was, err := s.Catalog.Store(ctx, x.Name)
	if err != nil {
		return err
	}
	is := *x
	is.Second, is.Scrub, is.KeyFile, is.KeyEnv = "", nil, "", ""
	there := storeDeclared(was)
	there.Second, there.Scrub, there.KeyFile, there.KeyEnv = "", nil, "", ""
	if there.Form() != declaredForm(&declare.Thing{Store: &is}) {
		return &refuse.Error{
			Field:   "path",
			Message: fmt.Sprintf("store %s is at %s, and stays there", x.Name, was.Path),
			Remedy:  "declare another store, and move the segments there",
		}
	}
	change := StoreChange{Second: &x.Second}
	if x.Scrub != nil {
		change.Scrub = &c.Scrub.V
	}
	if was.Seal.V != c.Seal.V {
		change.Seal = &c.Seal.V
	}
	return s.places.SetStore(ctx, actor, x.Name, change)
}
