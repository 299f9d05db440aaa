package local

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

	"ambercellar/client"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/cli"
	"ambercellar/internal/standin"
)

// vault starts the stand-in object store of the demo, with a bucket whose files go cold, and adds that as a sealed
// store. The address of a stand-in is kept, since the store has it.
func (d *demoRun) vault() error {
	dir := filepath.Join(d.dir, "vault")
	if err := os.MkdirAll(dir, 0o750); err != nil {
		return err
	}
	h, err := standin.Objects{Directory: dir, Buckets: []string{"vault"}}.Handler()
	if err != nil {
		return err
	}
	stores, err := d.client.Stores(d.Ctx)
	if err != nil {
		return err
	}
	known, at := false, "127.0.0.1:0"
	for _, s := range stores.Items {
		if u, err := url.Parse(s.Bucket.Endpoint); s.Name == "vault" && err == nil {
			known, at = true, u.Host
		}
	}
	l, err := net.Listen("tcp", at)
	if err != nil {
		return fmt.Errorf("the stand-in for an object store, which the demo's vault lies in: %w", err)
	}
	s := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second}
	context.AfterFunc(d.Ctx, func() { s.Close() })
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
	tariff := &client.Tariff{Currency: "EUR", Of: map[client.Priority]client.Rate{}}
	for p, wait := range map[client.Priority]string{client.Low: "PT30S", client.Normal: "PT8S", client.High: "PT1S"} {
		tariff.Of[p] = client.Rate{Wait: wait, Price: standin.UsualCold.Price[string(p)]}
	}
	_, err = d.client.AddStore(d.Ctx, client.NewStore{Name: "vault", Seal: &client.Seal{File: keys}, Tariff: tariff,
		Bucket: &client.StoreBucket{Endpoint: "http://" + l.Addr().String(), Name: "vault", Class: "COLD"}})
	return err
}

// coldly moves the oldest segment of a table to the vault, looks for a row of it, and has that fetched and put aside.
func (d *demoRun) coldly(table, where string) error {
	list, err := d.client.Segments(d.Ctx, client.SegmentsQuery{Source: "harbour", State: "closed", Table: table})
	if err != nil || len(list.Items) == 0 {
		return errors.Join(err, errNoSegment(len(list.Items)))
	}
	s, err := d.client.MoveSegment(d.Ctx, list.Items[len(list.Items)-1].ID, client.NewMove{To: "vault"})
	if err != nil {
		return err
	}
	d.say("   segment %s: %s lie in the vault, sealed and cold; its records stay in the cellar", s.ID,
		cli.Things(s.Rows, "row"))
	found, err := d.client.Search(d.Ctx, client.SearchRequest{Source: "harbour", Table: table, Where: where})
	if err != nil {
		return err
	}
	if found.Searched.Cold == nil {
		return errors.New("the search should name the segment that it cannot look into")
	}
	d.say("   a search for %s names it, and what it takes to read it:", where)
	for _, o := range found.Searched.Cold.Offers {
		d.say("      %s priority: %s", o.Priority, cli.Offered(o))
	}
	r, err := d.client.RequestRestore(d.Ctx, client.RestoreRequest{Source: "harbour", Table: table,
		Scope: client.Scope{Where: where}, Target: catalog.TargetFile, Format: "csv", Priority: client.High})
	for err == nil && (r.State == client.Retrieving || r.State == client.Restoring) {
		if err = cli.Sleep(d.Ctx, 100*time.Millisecond); err == nil {
			r, err = d.client.Restore(d.Ctx, r.ID)
		}
	}
	if err == nil && (r.State != client.RestoreDone || r.Restored == 0) {
		err = fmt.Errorf("restore %s is %s: %s", r.ID, r.State, r.Reason)
	}
	if err != nil {
		return err
	}
	d.say("   retrieved at high priority and restored to a file; rows: %s", cli.Count(r.Restored))
	return nil
}

func errNoSegment(n int) error {
	if n > 0 {
		return nil
	}
	return errors.New("there is no segment to move")
}
