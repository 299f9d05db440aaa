package cli

import (
	"errors"
	"flag"
	"fmt"
	"net/url"
	"os"
	"strconv"
	"strings"

	"github.com/dustin/go-humanize"

	"ambercellar/internal/api"
	"ambercellar/internal/archive/store"
	"ambercellar/internal/catalog"
	"ambercellar/internal/client"
	"ambercellar/internal/core/period"
	"ambercellar/internal/engine/retrieve"
	"ambercellar/internal/engine/shelf"
	"ambercellar/internal/service"
)

// tariffFlags say what retrievals from a cold store take.
func tariffFlags(f *flag.FlagSet) {
	f.String("wait", "", "of a store whose files go cold: how long a retrieval takes, by priority, like low=PT12H,normal=PT4H,high=PT5M")
	f.String("price", "", "of a store whose files go cold: what it costs for a GiB, by priority, like low=0.002,normal=0.01,high=0.03")
	f.String("currency", "", "of these prices")
	f.Int("days", 0, "how many days a retrieved copy stays where nothing else is said; left out: "+strconv.Itoa(catalog.UsualDays))
	f.String("verify-budget", "", "bytes in 30 days that are retrieved to verify cold segments, like 20GiB; left out: none")
}

// tariff reads what was given of these flags into a tariff.
func (e *env) tariff(t *catalog.Tariff, given func(string) bool) error {
	if given("wait") || given("price") {
		waits, err := byPriority(e.flag("wait"), func(s string) (string, error) {
			p, err := period.Parse(s)
			return p.String(), err
		})
		if err != nil {
			return usage("-wait: %v", err)
		}
		prices, err := byPriority(e.flag("price"), func(s string) (float64, error) { return strconv.ParseFloat(s, 64) })
		if err != nil {
			return usage("-price: %v", err)
		}
		t.Of = map[store.Priority]catalog.Rate{}
		for _, p := range store.Priorities {
			wait, ok := waits[string(p)]
			price, priced := prices[string(p)]
			if ok != priced {
				return usage("-wait and -price name the same priorities")
			}
			if ok {
				t.Of[p] = catalog.Rate{Wait: wait, Price: price}
			}
		}
	}
	if given("currency") {
		t.Currency = e.flag("currency")
	}
	if given("days") {
		fmt.Sscan(e.flag("days"), &t.Days)
	}
	if given("verify-budget") {
		n, err := humanize.ParseBytes(e.flag("verify-budget"))
		if err != nil {
			return usage("-verify-budget %q is no number of bytes; write one like 20GiB", e.flag("verify-budget"))
		}
		t.Budget = int64(n)
	}
	return nil
}

// given says which flags were given.
func (e *env) given() func(string) bool {
	set := map[string]bool{}
	e.flags.Visit(func(f *flag.Flag) { set[f.Name] = true })
	return func(name string) bool { return set[name] }
}

func storeKeyFlags(f *flag.FlagSet) {
	f.String("out", "", "the file of keys; where it exists the new key is put before the others, and seals from then on")
}

// storeKey makes a key for sealed stores.
func storeKey(e *env) error {
	out := e.flag("out")
	if out == "" {
		return usage("-out is missing: the file of keys")
	}
	text, id, err := store.NewSealKey()
	if err != nil {
		return err
	}
	before, err := os.ReadFile(out)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	fresh := out + ".new"
	f, err := os.OpenFile(fresh, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(f, "# key %s\n%s\n%s", id, text, before)
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = os.Rename(fresh, out)
	}
	if err != nil {
		return err
	}
	fmt.Fprintf(e.out, "key %s stands first in %s now; keep a copy where the store is not: without its keys nobody can read what lies there\n", id, out)
	if len(before) > 0 {
		fmt.Fprintln(e.out, "`ambercellar store set NAME -key-file FILE` has the service read it; `ambercellar store reseal NAME` seals with it what is there already")
	}
	return nil
}

func storeReseal(e *env) error {
	r, err := client.Post[service.Resealed](e.ctx, e.client, "/stores/"+url.PathEscape(e.args[0])+"/reseal", nil)
	if err != nil {
		return err
	}
	return e.facts(r, "sealed anew", fmt.Sprintf("%s files (%s)", count(r.Sealed), size(r.Bytes)), "in cold storage", fmt.Sprintf("%s files, which keep their key", count(r.Cold)))
}

func segmentMove(e *env) error {
	to := e.flag("to")
	if to == "" {
		return usage("-to is missing: the store")
	}
	s, err := client.Post[catalog.Segment](e.ctx, e.client, "/segments/"+url.PathEscape(e.args[0])+"/move", api.NewMove{To: to})
	if err != nil {
		return err
	}
	return e.segment(s, &s)
}

func retrieveFlags(f *flag.FlagSet) {
	whereFlags(f)
	f.String("table", "", "in place of segments: those of this table, as SOURCE.TABLE, that may hold rows for which the condition is true")
	f.String("priority", "normal", "low, normal or high")
	f.Int("days", 0, "how many days the copies stay; left out: as the store has it")
	f.String("note", "", "what it is for")
	f.Bool("try", false, "only say what it takes")
}

func segmentRetrieve(e *env) error {
	where, err := e.where()
	if err != nil {
		return err
	}
	q := retrieve.RetrievalRequest{Where: where, Priority: store.Priority(e.flag("priority")), Note: e.flag("note")}
	if len(e.args) > 0 {
		q.Segments = strings.Split(e.args[0], ",")
	}
	if table := e.flag("table"); table != "" {
		var ok bool
		if q.Source, q.Table, ok = strings.Cut(table, "."); !ok {
			return usage("-table %q: write SOURCE.TABLE", table)
		}
	}
	if (len(q.Segments) > 0) == (q.Table != "") {
		return usage("say what is to be retrieved: segments, separated by commas, or -table")
	}
	fmt.Sscan(e.flag("days"), &q.Days)
	if e.flag("try") == "true" {
		c, err := client.Post[shelf.Chilled](e.ctx, e.client, "/retrievals/preview", q)
		if err != nil {
			return err
		}
		return e.chilled(&c)
	}
	l, err := client.Post[api.Items[catalog.Retrieval]](e.ctx, e.client, "/retrievals", q)
	if err != nil {
		return err
	}
	return e.retrievals(l)
}

// chilled shows what is in cold storage, and what it takes to fetch it.
func (e *env) chilled(c *shelf.Chilled) error {
	rows := [][]string{}
	for _, s := range c.Segments {
		rows = append(rows, []string{s.Segment, s.Store, count(s.Rows), size(s.Bytes), s.Oldest, s.Newest, atOrDash(s.ExpectedAt)})
	}
	if err := e.show(c, []string{"segment", "store", "rows", "file", "oldest", "newest", "being retrieved, expected"}, rows); err != nil || e.format != "table" {
		return err
	}
	for _, o := range c.Offers {
		fmt.Fprintf(e.out, "%s priority: %s\n", o.Priority, offered(o))
	}
	return nil
}

func offered(o shelf.Offer) string {
	wait, price := "an unknown time", "an unknown price"
	if o.Wait != "" {
		wait = o.Wait
	}
	if o.Price != nil {
		price = money(*o.Price, o.Currency)
	}
	return wait + ", " + price
}

// money writes an amount with as many digits as tell something.
func money(amount float64, currency string) string {
	text := strconv.FormatFloat(amount, 'f', 2, 64)
	if amount != 0 && amount < 0.01 {
		text = "less than 0.01"
	}
	return strings.TrimSpace(text + " " + currency)
}

func retrievalList(e *env) error {
	l, err := items[catalog.Retrieval](e, "/retrievals", nil)
	if err != nil {
		return err
	}
	return e.retrievals(l)
}

func (e *env) retrievals(l api.Items[catalog.Retrieval]) error {
	rows := [][]string{}
	for _, r := range l.Items {
		price := "unknown"
		if r.Price != nil {
			price = money(*r.Price, r.Currency)
		}
		until := r.ExpectedAt
		what := "expected "
		if r.Until != nil {
			until, what = r.Until, "there until "
		}
		when := "-"
		if until != nil {
			when = what + at(*until)
		}
		rows = append(rows, []string{r.Segment, r.Store, string(r.State), string(r.Priority), size(r.Bytes), price, when, at(r.CreatedAt), r.CreatedBy, dash(r.Note), dash(r.Reason)})
	}
	return e.show(l, []string{"segment", "store", "state", "priority", "file", "price", "when", "asked", "by", "for", "reason"}, rows)
}

// coldNote says of a search which segments it could not look into.
func (e *env) coldNote(c *shelf.Chilled, sourceName, table string) {
	if c == nil {
		return
	}
	fmt.Fprintf(e.out, "not searched: %s in cold storage that may hold such rows (%s, %s)\n", things(len(c.Segments), "segment"), things(c.Rows, "row"), size(c.Bytes))
	for _, o := range c.Offers {
		fmt.Fprintf(e.out, "  to retrieve them at %s priority: %s\n", o.Priority, offered(o))
	}
	fmt.Fprintf(e.out, "  `ambercellar segment retrieve -table %s.%s -where … -priority low` fetches them\n", sourceName, table)
}

func restoreApprove(e *env) error {
	r, err := client.Post[catalog.Restore](e.ctx, e.client, "/restores/"+url.PathEscape(e.args[0])+"/approve", nil)
	if err != nil {
		return err
	}
	return e.restore(&r)
}

func restoreRefuse(e *env) error {
	r, err := client.Post[catalog.Restore](e.ctx, e.client, "/restores/"+url.PathEscape(e.args[0])+"/refuse", api.NewRefusal{Reason: e.flag("reason")})
	if err != nil {
		return err
	}
	return e.restore(&r)
}

func disposalApprove(e *env) error {
	d, err := client.Post[catalog.Disposal](e.ctx, e.client, "/disposals/"+url.PathEscape(e.args[0])+"/approve", nil)
	if err != nil {
		return err
	}
	return e.disposal(&d)
}
