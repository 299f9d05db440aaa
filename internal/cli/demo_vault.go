package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"ambercellar/internal/api"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/client"
	"ambercellar/internal/engine/restore"
	"ambercellar/internal/engine/search"
	"ambercellar/internal/standin"
)

// vault starts the stand-in object store of the demo, with a bucket whose files go cold, and adds that as a sealed store. The address
// of a stand-in is kept, since the store has it.
func (d *demoRun) vault() error {
	dir := filepath.Join(d.dir, "vault")
	if err := os.MkdirAll(dir, 0o750); err != nil {
		return err
	}
	h, err := standin.Objects{Directory: dir, Buckets: []string{"vault"}}.Handler()
	if err != nil {
		return err
	}
	stores, err := client.Get[api.Items[api.StoreView]](d.ctx, d.client, "/stores")
	if err != nil {
		return err
	}
	known, at := false, "127.0.0.1:0"
	for _, s := range stores.Items {
		if u, err := url.Parse(s.Bucket.V.Endpoint); s.Name == "vault" && err == nil {
			known, at = true, u.Host
		}
	}
	l, err := net.Listen("tcp", at)
	if err != nil {
		return fmt.Errorf("the stand-in for an object store, which the demo's vault lies in: %w", err)
	}
	s := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second}
	context.AfterFunc(d.ctx, func() { s.Close() })
	go s.Serve(l)
	if known {
		return nil
	}
	text, id, err := store.NewSealKey()
	if err != nil {
		return err
	}
	keys, err := filepath.Abs(filepath.Join(d.dir, "vault.keys"))
	if err == nil {
		err = os.WriteFile(keys, []byte("# key "+id+"\n"+text+"\n"), 0o600)
	}
	if err != nil {
		return err
	}
	tariff := &catalog.Tariff{Currency: "EUR", Of: map[store.Priority]catalog.Rate{}}
	for p, wait := range map[store.Priority]string{store.Low: "PT30S", store.Normal: "PT8S", store.High: "PT1S"} {
		tariff.Of[p] = catalog.Rate{Wait: wait, Price: standin.UsualCold.Price[string(p)]}
	}
	_, err = client.Post[catalog.Store](d.ctx, d.client, "/stores", api.NewStore{Name: "vault", Seal: &store.Seal{File: keys}, Tariff: tariff,
		Bucket: &store.Bucket{Endpoint: "http://" + l.Addr().String(), Name: "vault", Class: "GLACIER"}})
	return err
}

// coldly moves the oldest segment of a table to the vault, looks for a row of it, and has that fetched and put aside.
func (d *demoRun) coldly(table, where string) error {
	list, err := client.Get[api.Items[catalog.Segment]](d.ctx, d.client, "/segments?source=harbour&state=closed&table="+url.QueryEscape(table))
	if err != nil || len(list.Items) == 0 {
		return errors.Join(err, errNoSegment(len(list.Items)))
	}
	s, err := client.Post[catalog.Segment](d.ctx, d.client, "/segments/"+list.Items[len(list.Items)-1].ID+"/move", api.NewMove{To: "vault"})
	if err != nil {
		return err
	}
	d.say("   segment %s: %s lie in the vault, sealed and cold; its records stay in the cellar", s.ID, things(s.Rows, "row"))
	found, err := client.Post[api.Found](d.ctx, d.client, "/search", search.SearchRequest{Source: "harbour", Table: table, Where: where})
	if err != nil {
		return err
	}
	if found.Searched.Cold == nil {
		return errors.New("the search should name the segment that it cannot look into")
	}
	d.say("   a search for %s names it, and what it takes to read it:", where)
	for _, o := range found.Searched.Cold.Offers {
		d.say("      %s priority: %s", o.Priority, offered(o))
	}
	r, err := client.Post[catalog.Restore](d.ctx, d.client, "/restores", restore.RestoreRequest{Source: "harbour", Table: table, Scope: catalog.Scope{Where: where}, Target: catalog.TargetFile, Format: "csv", Priority: store.High})
	for err == nil && (r.State == catalog.Retrieving || r.State == catalog.Restoring) {
		if err = sleep(d.ctx, 100*time.Millisecond); err == nil {
			r, err = client.Get[catalog.Restore](d.ctx, d.client, "/restores/"+r.ID)
		}
	}
	if err == nil && (r.State != catalog.RestoreDone || r.Restored == 0) {
		err = fmt.Errorf("restore %s is %s: %s", r.ID, r.State, r.Reason)
	}
	if err != nil {
		return err
	}
	d.say("   retrieved at high priority and restored to a file; rows: %s", count(r.Restored))
	return nil
}

func errNoSegment(n int) error {
	if n > 0 {
		return nil
	}
	return errors.New("there is no segment to move")
}
