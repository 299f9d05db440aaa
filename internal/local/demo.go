package local

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"net/url"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"
	"time"

	"ambercellar/client"
	"ambercellar/demo"
	"ambercellar/internal/cli"
	"ambercellar/internal/core/rule"
	"ambercellar/internal/core/value"
	"ambercellar/internal/service"
	"ambercellar/internal/source"
	"ambercellar/internal/standin"
)

func demoFlags(f *flag.FlagSet) {
	f.Bool("once", false, "run the whole example on its own, print each step, and exit")
	f.String("engine", "sqlite", "sqlite; or postgres or mariadb with -dsn")
	f.String("dsn", "", "URL of an empty PostgreSQL or MariaDB database, without password")
	f.String("password-env", "", "environment variable that holds the database's password")
	f.String("data", "", "directory to work in; left out, demo-data, or with -once one that is removed afterwards")
	f.String("listen", "127.0.0.1:7420", "address to listen at; with -once a free port is taken")
	f.String("anchor", "", "day that the data ends with; left out, today")
}

// demoRun is a demo going on: the service in this process, reached through its own HTTP interface.
type demoRun struct {
	*cli.Env
	dir, engine, address string
	anchor               time.Time
	service              *service.Service
	client               *client.Client
	step                 int
	post                 string // address of the stand-in mail server
}

func runDemo(e *cli.Env) (err error) {
	d := &demoRun{Env: e, engine: e.Flag("engine"), dir: e.Flag("data"), anchor: time.Now()}
	once := cli.Get[bool](e, "once")
	if text := e.Flag("anchor"); text != "" {
		var ok bool
		if d.anchor, ok = rule.ParseISO(text); !ok {
			return cli.Usage("-anchor %q is not a date", text)
		}
	}
	switch d.engine {
	case "sqlite":
	case "postgres", "mariadb":
		if d.address = e.Flag("dsn"); d.address == "" {
			return cli.Usage("-engine %s needs -dsn", d.engine)
		}
	default:
		return cli.Usage("-engine %q is none of sqlite, postgres and mariadb", d.engine)
	}
	if once && d.dir == "" {
		if d.dir, err = os.MkdirTemp("", "ambercellar-demo-"); err != nil {
			return err
		}
		defer os.RemoveAll(d.dir)
	} else if d.dir == "" {
		d.dir = "demo-data"
	}
	if d.engine == "sqlite" {
		d.address = filepath.Join(d.dir, "harbour.db")
	}
	ctx, stop := signal.NotifyContext(e.Ctx, syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	d.Ctx = ctx
	if once {
		return d.example()
	}
	return d.stay()
}

// start starts the service, until its context ends, and connects to it; the address is the console's, signed in.
func (d *demoRun) start(ctx context.Context, listenAt string, log *slog.Logger, set ...func(*service.Service)) (
	address string, wait func() error, err error) {
	l, err := listen(listenAt)
	if err != nil {
		if l, err = listen("127.0.0.1:0"); err != nil {
			return "", nil, err
		}
	}
	set = append(set, func(s *service.Service) {
		if name := d.Flag("password-env"); name != "" {
			s.Places.Secrets.Prefix = name
		}
		s.Notifier.Change(func(w *service.Ways) {
			w.Console = "http://" + l.Addr().String()
			if d.post != "" {
				w.Mail = service.Mail{Server: d.post, From: "cellar@harbour.example"}
			}
		})
	})
	s, token, err := service.Open(d.Ctx, filepath.Join(d.dir, "service"), log, set...)
	if err != nil {
		return "", nil, errors.Join(err, l.Close())
	}
	d.service = s
	if token == "" { // of an earlier start only a hash is left
		if token, err = s.Access.NewToken(d.Ctx); err != nil {
			return "", nil, errors.Join(err, s.Close(), l.Close())
		}
	}
	done := make(chan error, 1)
	go func() { done <- answer(ctx, s, l, log) }()
	d.client = &client.Client{Server: "http://" + l.Addr().String(), Token: token}
	return d.client.Server + "/#token=" + token, func() error { return <-done }, nil
}

func (d *demoRun) say(format string, args ...any) { fmt.Fprintf(d.Out, format+"\n", args...) }

func (d *demoRun) title(text string) {
	d.step++
	d.say("\n%d. %s", d.step, text)
}

// fill makes the data unless it is there already.
func (d *demoRun) fill() error {
	if err := os.MkdirAll(d.dir, 0o750); err != nil {
		return err
	}
	if _, err := os.Stat(filepath.Join(d.dir, "filled")); err == nil {
		return nil
	}
	if d.engine == "sqlite" {
		for _, ending := range []string{"", "-wal", "-shm"} {
			os.Remove(d.address + ending)
		}
	}
	begun := time.Now()
	if err := demo.Fill(d.Ctx, d.engine, d.dsnWithPassword(), d.anchor); err != nil {
		return err
	}
	d.say("   11 tables of a ferry operator, 300,000 boarding scans among them, in %.1f s",
		time.Since(begun).Seconds())
	return os.WriteFile(filepath.Join(d.dir, "filled"), nil, 0o640)
}

func (d *demoRun) dsnWithPassword() string {
	name := d.Flag("password-env")
	if name == "" {
		return d.address
	}
	u, err := url.Parse(d.address)
	if err != nil {
		return d.address
	}
	u.User = url.UserPassword(u.User.Username(), os.Getenv(name))
	return u.String()
}

// define adds the source and applies the rules, unless that was done at an earlier start.
func (d *demoRun) define() error {
	list, err := d.client.Sources(d.Ctx)
	if err != nil || len(list.Items) > 0 {
		return err
	}
	r, err := d.client.AddSource(d.Ctx, client.NewSource{Name: "harbour", Engine: d.engine, Address: d.address,
		PasswordEnv: d.Flag("password-env")})
	if err != nil {
		return err
	}
	d.say("   source harbour: %s %s, %d findings, all well", r.Engine, r.Version, len(r.Items))
	applied, err := d.client.ApplyRules(d.Ctx, client.RuleFile{File: "rules.yaml", Text: demo.Rules})
	if err != nil {
		return err
	}
	for _, a := range applied.Applied {
		if a.Keep {
			d.say("   keep %s applied", a.Rule)
		} else {
			d.say("   rule %s applied, revision %d", a.Rule, a.Revision)
		}
	}
	return nil
}

// stay is the demo that runs until it is stopped.
func (d *demoRun) stay() error {
	d.say("Amber Cellar demo, in %s", d.dir)
	if err := d.fill(); err != nil {
		return err
	}
	log := slog.New(slog.NewTextHandler(d.Err, &slog.HandlerOptions{Level: slog.LevelWarn}))
	post, page, err := serveMail(&standin.Mail{Refuse: "purser@"}, "127.0.0.1:0", "127.0.0.1:0")
	if err != nil {
		return err
	}
	defer func() { post.Close(); page.Close() }()
	d.post = post.Addr().String()
	if err := d.story(); err != nil {
		return err
	}
	address, wait, err := d.start(d.Ctx, d.Flag("listen"), log)
	if err != nil {
		return err
	}
	if err := d.define(); err != nil {
		return err
	}
	if err := d.vault(); err != nil {
		return err
	}
	d.say("\nWhat the demo's mail server got stands at http://%s", page.Addr())
	d.say("\nOpen this address, you are signed in:\n\n  %s\n\nFor the command line:\n\n  export "+
		"AMBERCELLAR_SERVER=%s AMBERCELLAR_TOKEN=%s\n\nCtrl-C stops it; the data stay in %s.", address,
		d.client.Server, d.client.Token, d.dir)
	return wait()
}

// plan plans a rule, counting each row, and tells what it would take.
func (d *demoRun) plan(name string) (*client.Plan, error) {
	p, err := d.client.MakePlan(d.Ctx, client.NewPlan{Rule: name, Exact: true})
	if err != nil {
		return nil, err
	}
	d.say("   plan %s: %s of %s due", p.ID, cli.Count(p.Counts.Due), cli.Things(p.Counts.Total, "row"))
	for i, c := range p.Detail.Clauses {
		n := p.Counts.Clauses[i]
		d.say("      clause %s: keep %s, cutoff %s, %s due; last that goes %s, first that stays %s", c.Label, c.Keep,
			c.Cutoff.Format(time.RFC3339), cli.Count(n.Due), cli.Dash(n.LastGoing), cli.Dash(n.FirstStays))
	}
	return p, nil
}

// carryOut runs a plan and waits for its end.
func (d *demoRun) carryOut(p *client.Plan) (*client.RunView, error) {
	r, err := d.client.StartRun(d.Ctx, client.NewRun{Plan: p.ID})
	if err != nil {
		return nil, err
	}
	if err := d.client.Watch(d.Ctx, r.ID, func(v client.RunView) error { r = &v; return nil }); err != nil {
		return nil, err
	}
	if r.State != client.Done {
		return nil, fmt.Errorf("run %s is %s: %s", r.ID, r.State, r.Reason)
	}
	l := r.Ledger
	for _, p := range r.Passes {
		for _, x := range p.Related {
			d.say("   with %s: %s; %s", x.Table, cli.LedgerText(x.Ledger), cli.Balance(x.Ledger))
		}
	}
	d.say("   run %s: %s in %s (%s a second)", r.ID, cli.Things(l.Deleted, "row"),
		time.Duration(r.Working*1000).Round(10*time.Millisecond), cli.Count(int64(r.Rate)))
	d.say("   ledger: %s found = %s deleted + %s not deleted; %s", cli.Count(l.Copied), cli.Count(l.Deleted),
		cli.Count(r.Ledger.LeftOut()), cli.Balance(l))
	return r, nil
}

// example runs everything once and proves that the books balance.
func (d *demoRun) example() error {
	begun := time.Now()
	d.say("Amber Cellar, the whole example on %s", d.engine)
	d.title("Make the data")
	if err := d.fill(); err != nil {
		return err
	}
	d.title("Start the service")
	ctx, stop := context.WithCancel(d.Ctx)
	defer stop()
	d.Ctx = ctx
	_, wait, err := d.start(ctx, "127.0.0.1:0", slog.New(slog.NewTextHandler(io.Discard, nil)))
	if err != nil {
		return err
	}
	d.say("   listening at %s", d.client.Server)
	err = d.steps()
	stop()
	if err := errors.Join(err, wait()); err != nil {
		return err
	}
	d.say("\nDone in %.1f s.", time.Since(begun).Seconds())
	return nil
}

func (d *demoRun) steps() error {
	d.title("Add the source, apply the rules")
	if err := d.define(); err != nil {
		return err
	}
	if err := d.vault(); err != nil {
		return err
	}
	d.title("Plan and run rule boarding-scans: archive")
	contents := d.readBeside("boarding_scan", "id")
	plan, err := d.plan("boarding-scans")
	if err != nil {
		return err
	}
	before, err := contents()
	if err != nil {
		return err
	}
	run, err := d.carryOut(plan)
	if err != nil {
		return err
	}
	d.say("   archive: %s as read, %s in the store%s", cli.Size(run.RawBytes), cli.Size(run.FileBytes),
		cli.Ratio(run.RawBytes, run.FileBytes))
	d.title("Plan and run rule engine-readings: purge")
	if plan, err = d.plan("engine-readings"); err == nil {
		_, err = d.carryOut(plan)
	}
	if err != nil {
		return err
	}
	contents = d.readBeside("boarding_scan", "id")
	d.title("Verify the archive, reading every segment back from the store")
	segments, err := d.client.Segments(d.Ctx, client.SegmentsQuery{Run: run.ID})
	if err != nil {
		return err
	}
	for _, s := range segments.Items {
		if _, err := d.client.VerifySegment(d.Ctx, s.ID); err != nil {
			return err
		}
		d.say("   segment %s: %s, %s to %s, hashes and digest agree", s.ID, cli.Things(s.Rows, "row"), s.Oldest,
			s.Newest)
	}
	d.title("Prove that the books balance")
	after, err := contents()
	if err == nil {
		err = d.prove(before, after, run)
	}
	if err != nil {
		return err
	}
	d.title("Restore a week of boarding scans")
	if err := d.restoreWeek(before, run); err != nil {
		return err
	}
	d.title("Plan and run rule bookings: with their legs and payments")
	if plan, err = d.plan("bookings"); err == nil {
		_, err = d.carryOut(plan)
	}
	if err != nil {
		return err
	}
	d.title("Let a segment go cold, and look for a row of it")
	return d.coldly("boarding_scan", "id = 1")
}

// prove compares, by count and by digest, what the table held before with what it holds now and what was deleted.
func (d *demoRun) prove(before, after value.Set, run *client.RunView) error {
	gone, err := value.ParseSet(run.Ledger.DeletedDigest)
	if err != nil {
		return err
	}
	total := after
	total.Merge(gone)
	d.say("   before:          %s", before)
	d.say("   live now:        %s", after)
	d.say("   in the archive:  %s", gone)
	if total != before {
		return fmt.Errorf("the books do not balance: live and archive together are %s", total)
	}
	d.say("   live + archive = before, to the row and to the bit")
	return nil
}

func (d *demoRun) restoreWeek(before value.Set, run *client.RunView) error {
	to := run.Cutoff.AddDate(0, -2, 0)
	q := client.RestoreRequest{Source: "harbour", Table: "boarding_scan",
		Scope:  client.Scope{From: to.AddDate(0, 0, -7).Format(time.DateOnly), To: to.Format(time.DateOnly)},
		Target: "table", Note: "fare dispute, demo"}
	r, err := d.client.RequestRestore(d.Ctx, q)
	for err == nil && r.State == client.Restoring {
		if err = cli.Sleep(d.Ctx, 50*time.Millisecond); err == nil {
			r, err = d.client.Restore(d.Ctx, r.ID)
		}
	}
	if err != nil {
		return err
	}
	if r.State != client.RestoreDone {
		return fmt.Errorf("restore %s: %s", r.ID, r.Reason)
	}
	d.say("   %s to %s: %s found, %s restored, %s skipped; counts and digest hold", q.Scope.From, q.Scope.To,
		cli.Things(r.Found, "row"), cli.Count(r.Restored), cli.Count(r.Skipped))
	contents := d.readBeside("boarding_scan", "id")
	p, err := d.client.MakePlan(d.Ctx, client.NewPlan{Rule: "boarding-scans", Exact: true})
	if err != nil {
		return err
	}
	after, err := contents()
	if err != nil {
		return err
	}
	gone, err := value.ParseSet(run.Ledger.DeletedDigest)
	if err != nil {
		return err
	}
	total := after // what a run would look at: restored rows are left out of it
	total.Merge(gone)
	if total != before {
		return fmt.Errorf("the books do not balance after the restore: %s instead of %s", total, before)
	}
	d.say("   live without the restored rows + archive = before; a new plan finds %s due and leaves %s restored "+
		"ones alone", cli.Things(p.Counts.Due, "row"), cli.Count(p.Counts.Restored))
	if p.Counts.Due != 0 || p.Counts.Restored != r.Restored {
		return fmt.Errorf("the new plan should find no row due and leave %d alone", r.Restored)
	}
	return nil
}

// readBeside begins to read a whole table, and returns what waits for its contents.
func (d *demoRun) readBeside(table, id string) func() (value.Set, error) {
	var set value.Set
	done := make(chan error, 1)
	go func() {
		var err error
		set, err = d.contents(table, id)
		done <- err
	}()
	return func() (value.Set, error) {
		err := <-done
		return set, err
	}
}

// contents reads a whole table, past the service's own counting, into a digest.
func (d *demoRun) contents(table, id string) (set value.Set, err error) {
	src, err := d.service.Source(d.Ctx, "harbour")
	if err != nil {
		return set, err
	}
	t, err := src.Table(d.Ctx, table)
	if err != nil {
		return set, err
	}
	t.ReferencedBy = nil // all rows, whoever refers to them
	// Any number is below this one, so all rows come, in order of their number.
	return wholeTable(d.Ctx, src, source.Every(t, rule.Age{Column: id, Unit: rule.Seconds},
		time.Date(9000, 1, 1, 0, 0, 0, 0, time.UTC)))
}

func wholeTable(ctx context.Context, src source.Source, sel source.Selection) (set value.Set, err error) {
	columns := make([]int, len(sel.Table.Columns))
	for i := range columns {
		columns[i] = i
	}
	var hasher value.Hasher
	_, err = src.ReadSlice(ctx, source.SliceRequest{Selection: sel, Columns: columns, MaxRows: 1 << 30,
		MaxBytes: 1 << 40}, func(c *value.Chunk) error {
		for i := range c.Rows() {
			set.Add(hasher.Row(c.Row(i)))
		}
		return nil
	})
	return set, err
}
