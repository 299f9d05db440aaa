package cli

import (
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"ambercellar/client"
)

// commands is the table of all commands, in the order of the work.
func commands() []Command {
	return []Command{
		{Name: "source add", Args: "NAME", Summary: "add a database", Flags: sourceFlags, Run: sourceAdd},
		{Name: "source list", Summary: "list the databases", Run: sourceList},
		{Name: "source check", Args: "NAME", Summary: "connect, and say which rights are there and which lack",
			Run: sourceCheck},

		{Name: "store add", Args: "NAME",
			Summary: "add a directory, or a bucket of an S3-compatible object store, for archived segments",
			Flags:   storeFlags, Run: storeAdd},
		{Name: "store set", Args: "NAME", Summary: "change a store's second store, or how it is scrubbed",
			Flags: storeSetFlags, Run: storeSet},
		{Name: "store check", Args: "NAME", Summary: "write to a store, read it back, list and remove it",
			Run: storeCheck},
		{Name: "store sweep", Args: "NAME",
			Summary: "list what interrupted runs left behind in a store, and remove it with -remove",
			Flags:   storeSweepFlags, Run: storeSweep},
		{Name: "store list", Summary: "list the stores and what lies in them", Run: storeList},
		{Name: "store reseal", Args: "NAME", Summary: "seal every file of a store with the newest of its keys",
			Run: storeReseal},
		{Name: "store adopt", Args: "NAME",
			Summary: "bring segments of a store into a catalog that does not know them", Run: storeAdopt},

		{Name: "table list", Args: "SOURCE", Summary: "list tables with their sizes and the span of their age",
			Run: tableList},
		{Name: "table show", Args: "SOURCE TABLE", Summary: "show columns, key, indexes, foreign keys and partitions",
			Run: tableShow},
		{Name: "table reconcile", Args: "SOURCE TABLE",
			Summary: "compare what source, stores and catalog tell of a table, and settle it",
			Flags: func(f *flag.FlagSet) {
				f.Bool("settle", false, "make them agree again, in the way that is shown without")
				f.String("reason", "", "with -settle: what happened; it is kept")
			}, Run: tableReconcile},
		{Name: "table ahead", Args: "SOURCE TABLE",
			Summary: "make the next partitions of a table, each as long as its newest", Flags: func(f *flag.FlagSet) {
				f.Int("count", 3, "how many")
				f.Bool("try", false, "only show what would be sent to the database")
			}, Run: tableAhead},

		{Name: "rule check", Summary: "check a file of rules and change nothing", Flags: fileFlag, Run: ruleCheck},
		{Name: "rule apply", Summary: "apply a file of rules: all of them or none", Flags: func(f *flag.FlagSet) {
			fileFlag(f)
			f.String("reason", "", "why a locked clause is loosened; it is kept")
		}, Run: ruleApply},
		{Name: "rule forecast", Args: "RULE", Summary: "say what runs in the coming months would take",
			Flags: func(f *flag.FlagSet) { f.Int("months", 12, "how many months to look ahead") }, Run: ruleForecast},
		{Name: "rule list", Summary: "list the rules", Flags: func(f *flag.FlagSet) {
			f.String("source", "", "of this source only")
			f.String("text", "", "those alone with this in the name of the rule, its source or its table")
			limitFlag(f)
		}, Run: ruleList},
		{Name: "rule show", Args: "RULE", Summary: "show a rule and its revisions", Run: ruleShow},

		{Name: "keep list", Summary: "list the named keeps that rules share", Run: keepList},

		{Name: "plan make", Args: "RULE", Summary: "compute what a run would take, and change nothing",
			Flags: planFlags, Run: planMake},
		{Name: "plan compare", Summary: "say which rows become due or stop being due if a file were applied",
			Flags: fileFlag, Run: planCompare},
		{Name: "plan show", Args: "PLAN", Summary: "show a plan", Flags: planShowFlags, Run: planShow},

		{Name: "run start", Args: "PLAN", Summary: "carry out a plan", Flags: func(f *flag.FlagSet) {
			f.Bool("watch", false, "stay and show its progress")
			f.Bool("empty", false, "remove all rows of the table at once, where the plan offers that")
		}, Run: runStart},
		{Name: "run list", Summary: "list runs, the newest first", Flags: func(f *flag.FlagSet) {
			f.String("rule", "", "of this rule only")
			f.String("state", "", "in this state only: queued, running, paused, resting, copied, done, cancelled "+
				"or failed")
			limitFlag(f)
		}, Run: runList},
		{Name: "run show", Args: "RUN", Summary: "show a run's ledger and batches",
			Flags: func(f *flag.FlagSet) { f.Int("batches", 10, "how many of the newest batches to show") },
			Run:   runShow},
		{Name: "run watch", Args: "RUN", Summary: "show a run's progress until it stops", Run: runWatch},
		{Name: "run pause", Args: "RUN", Summary: "stop a run after its batch in hand",
			Run: runVerb((*client.Client).PauseRun)},
		{Name: "run pace", Args: "RUN PACE",
			Summary: "change a run's pace to gentle or unlimited, from its next batch on", Run: runPace},
		{Name: "run ledger", Args: "RUN",
			Summary: "write the accounting of a run that has ended, with the records that it rests on",
			Flags:   func(f *flag.FlagSet) { f.String("out", "", "the file to write; left out: to standard output") },
			Run:     runLedger},
		{Name: "run resume", Args: "RUN", Summary: "go on with a paused or failed run",
			Run: runVerb((*client.Client).ResumeRun)},
		{Name: "run delete", Args: "RUN",
			Summary: "delete the rows of a run that copied them, those that still are what was copied",
			Run:     runVerb((*client.Client).DeleteCopied)},
		{Name: "run cancel", Args: "RUN", Summary: "end a run after its batch in hand; rows not reached stay live",
			Run: runVerb((*client.Client).CancelRun)},

		{Name: "hold place", Args: "SOURCE TABLE",
			Summary: "see to it that nothing removes rows or segments until the hold is lifted", Flags: holdFlags,
			Run: holdPlace},
		{Name: "hold list", Summary: "list the holds that stand",
			Flags: func(f *flag.FlagSet) { f.Bool("all", false, "those that were lifted too") }, Run: holdList},
		{Name: "hold show", Args: "HOLD", Summary: "show a hold", Run: holdShow},
		{Name: "hold lift", Args: "HOLD", Summary: "end a hold",
			Flags: func(f *flag.FlagSet) { f.String("reason", "", "why the hold ends; it is kept") }, Run: holdLift},

		{Name: "column tell", Args: "SOURCE TABLE COLUMN",
			Summary: "say what a column was called before it was renamed, so that it is found in older segments",
			Flags: func(f *flag.FlagSet) {
				f.String("was", "", "the name that it had before")
				f.Bool("added", false, "it had none: it was added, and is NULL in older rows")
			}, Run: columnTell},
		{Name: "column list", Args: "SOURCE TABLE",
			Summary: "list the names that a table's columns have had, as told or as the database knows them",
			Run:     columnList},
		{Name: "column forget", Args: "SOURCE TABLE COLUMN", Summary: "take back what was told of a column",
			Flags: func(f *flag.FlagSet) {
				f.String("was", "", "the name that it was told to have had; left out: that it was added")
			}, Run: columnForget},

		{Name: "guard show", Args: "SOURCE", Summary: "show what binds all rules of a source", Run: guardShow},
		{Name: "guard set", Args: "SOURCE",
			Summary: "set what binds all rules of a source; what is left out is no longer bound",
			Flags: func(f *flag.FlagSet) {
				f.String("live", "", "rows stay live at least so long, like P30D")
				f.String("archive", "", "segments stay in the archive at least so long")
				f.String("only", "", "the only tables that may have a rule, with commas between")
				f.String("never", "", "tables that may not have a rule")
				f.String("approve", "", "what has to be approved before it is carried out: restores, disposals, or "+
					"both with a comma between")
			}, Run: guardSet},

		{Name: "segment list", Summary: "list archived segments, the newest first", Flags: func(f *flag.FlagSet) {
			f.String("run", "", "of this run only")
			f.String("source", "", "of this source only")
			f.String("table", "", "of this table only")
			f.Bool("ungoverned", false, "those alone whose rule is not there any more: they are kept without end")
			limitFlag(f)
		}, Run: segmentList},
		{Name: "segment show", Args: "SEGMENT", Summary: "show a segment", Run: segmentShow},
		{Name: "segment verify", Args: "[SEGMENT]",
			Summary: "read segments back from their stores and check every row; with -store also without a service",
			Flags:   verifyFlags, Run: segmentVerify},
		{Name: "segment move", Args: "SEGMENT",
			Summary: "move the rows of a segment to another store, or back to that of its records",
			Flags:   func(f *flag.FlagSet) { f.String("to", "", "the store") }, Run: segmentMove},
		{Name: "segment retrieve", Args: "[SEGMENT,…]", Summary: "fetch segments from cold storage for some days",
			Flags: retrieveFlags, Run: segmentRetrieve},
		{Name: "retrieval list", Summary: "list retrievals from cold storage, the newest first", Flags: limitFlag,
			Run: retrievalList},
		{Name: "disposal plan", Args: "RULE",
			Summary: "find out which segments of a rule have been in the archive long enough; nothing is destroyed",
			Flags:   disposalFlags, Run: disposalPlan},
		{Name: "disposal start", Args: "DISPOSAL",
			Summary: "decide that the segments of a disposal are destroyed now, and wait for it", Run: disposalStart},
		{Name: "disposal approve", Args: "DISPOSAL",
			Summary: "approve a disposal where that is demanded; it is still to be started", Run: disposalApprove},
		{Name: "disposal cancel", Args: "DISPOSAL", Summary: "decide against a disposal", Run: disposalCancel},
		{Name: "erasure plan", Args: "SOURCE TABLE",
			Summary: "find out which segments hold rows of a condition, whatever their time in the archive; " +
				"nothing is destroyed", Flags: erasureFlags, Run: erasurePlan},
		{Name: "disposal list", Summary: "list disposals, the newest first", Flags: limitFlag, Run: disposalList},
		{Name: "disposal show", Args: "DISPOSAL", Summary: "show a disposal", Run: disposalShow},
		{Name: "disposal certificate", Args: "DISPOSAL",
			Summary: "write the certificate of a disposal, as JSON or PDF", Flags: certificateFlags,
			Run: disposalCertificate},
		{Name: "catalog backup", Summary: "write the service's own records, as they are at this moment, into a file",
			Flags: catalogBackupFlags, Run: catalogBackup},
		{Name: "catalog keep", Summary: "say for how long records of the service's own are kept, or change that",
			Flags: func(f *flag.FlagSet) {
				f.String("set", "", "what is to be changed, like batches=P30D,plans=forever")
			}, Run: catalogKeep},
		{Name: "catalog rebuild", Summary: "take up every segment of all stores that the catalog does not know",
			Run: catalogRebuild},
		{Name: "verification list", Summary: "list verifications, the newest first", Flags: limitFlag,
			Run: verificationList},
		{Name: "verification show", Args: "VERIFICATION", Summary: "show what a verification found",
			Run: verificationShow},

		{Name: "search", Args: "SOURCE TABLE", Summary: "search the archived rows of a table", Flags: searchFlags,
			Run: searchRows},

		{Name: "restore request", Summary: "bring archived rows back, into their table or a file", Flags: restoreFlags,
			Run: restoreRequest},
		{Name: "restore keep", Args: "RESTORE",
			Summary: "change how long the rows of a restore stay: for so long from now on, or for good",
			Flags:   func(f *flag.FlagSet) { f.String("for", "", "like P5D; left out: for good") }, Run: restoreKeep},
		{Name: "restore approve", Args: "RESTORE", Summary: "approve a restore that waits for it",
			Run: restoreApprove},
		{Name: "restore refuse", Args: "RESTORE", Summary: "refuse a restore that waits for an approval",
			Flags: func(f *flag.FlagSet) { f.String("reason", "", "why; the asker is told") }, Run: restoreRefuse},
		{Name: "restore replaced", Args: "RESTORE", Summary: "write the rows that a restore replaced, as they were",
			Flags: func(f *flag.FlagSet) { f.String("out", "", "the file to write") }, Run: restoreReplaced},
		{Name: "restore list", Summary: "list restores, the newest first", Flags: limitFlag, Run: restoreList},
		{Name: "restore show", Args: "RESTORE", Summary: "show a restore", Run: restoreShow},
	}
}

func sourceFlags(f *flag.FlagSet) {
	f.String("engine", "sqlite", "sqlite, postgres, or mariadb (for MySQL too)")
	f.String("address", "", "path of the SQLite file, or URL like postgres://user@host:5432/database or "+
		"mariadb://user@host:3306/database (without password)")
	f.String("password-env", "", "environment variable of the service that holds the password")
	f.String("password-file", "", "file that holds the password, readable by the service")
	f.String("tls", "", "verify, require or off; left out, it is verify but for loopback addresses")
	f.String("tls-ca", "", "file of certificates that may sign the server's")
	f.String("origin", "", "marks our deletes for replicas and change feeds: the name of a replication origin "+
		"(PostgreSQL), or a number for gtid_domain_id (MariaDB)")
	f.String("disk", "", "directory of the service's machine on whose disk the database's files are, for watching "+
		"its free space; SQLite's own if left out")
	f.Int("connections", 4, "the most connections that the service opens, 3 to 100")
}

func sourceAdd(e *Env) error {
	connections := Get[int](e, "connections")
	address := e.Flag("address")
	if e.Flag("engine") == "sqlite" && address != "" {
		if abs, err := filepath.Abs(address); err == nil {
			address = abs
		}
	}
	in := client.NewSource{Name: e.Args[0], Engine: e.Flag("engine"), Address: address,
		PasswordEnv: e.Flag("password-env"), PasswordFile: e.Flag("password-file"),
		TLS: e.Flag("tls"), TLSCA: e.Flag("tls-ca"), Disk: e.Flag("disk"), Origin: e.Flag("origin"),
		Connections: connections}
	r, err := e.Client.AddSource(e.Ctx, in)
	if err != nil {
		return err
	}
	if e.Format == "table" {
		fmt.Fprintf(e.Out, "source %s added\n", in.Name)
	}
	return e.report(r)
}

func (e *Env) report(r *client.Report) error {
	if e.Format == "table" {
		fmt.Fprintf(e.Out, "%s %s", r.Engine, r.Version)
		if r.User != "" {
			fmt.Fprintf(e.Out, ", as %s, TLS %s", r.User, r.TLS)
		}
		fmt.Fprintf(e.Out, "\njournal: %s\n\n", r.Journal)
	}
	rows := [][]string{}
	for _, f := range r.Items {
		rows = append(rows, []string{string(f.Level), Dash(f.Table), f.Text, f.Remedy})
	}
	return e.Show(r, []string{"level", "table", "finding", "remedy"}, rows)
}

func sourceList(e *Env) error {
	l, err := e.Client.Sources(e.Ctx)
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, s := range l.Items {
		password := "none"
		if s.PasswordEnv != "" {
			password = "from environment " + s.PasswordEnv
		} else if s.PasswordFile != "" {
			password = "from file " + s.PasswordFile
		}
		rows = append(rows, []string{s.Name, s.Engine, s.Address, password, Count(s.Connections)})
	}
	return e.Show(l, []string{"name", "engine", "address", "password", "connections"}, rows)
}

func sourceCheck(e *Env) error {
	r, err := e.Client.CheckSource(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	if err := e.report(r); err != nil {
		return err
	}
	if !r.OK() {
		return fmt.Errorf("source %s lacks something that the service needs; the lines marked missing say what",
			e.Args[0])
	}
	return nil
}

func tableList(e *Env) error {
	l, err := e.Client.Tables(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, t := range l.Items {
		rows = append(rows, []string{t.Name, Count(t.Rows), Size(t.Bytes), Size(t.IndexBytes), Dash(t.AgeColumn),
			Dash(t.Oldest), Dash(t.Newest)})
	}
	return e.Show(l, []string{"table", "rows", "data", "indexes", "age", "oldest", "newest"}, rows)
}

func tableShow(e *Env) error {
	t, err := e.Client.Table(e.Ctx, e.Args[0], e.Args[1])
	if err != nil {
		return err
	}
	if e.Format != "table" {
		rows := [][]string{}
		for _, c := range t.Columns {
			rows = append(rows, []string{c.Name, c.Type, fmt.Sprint(c.Nullable), c.Problem})
		}
		return e.Show(t, []string{"column", "type", "nullable", "problem"}, rows)
	}
	e.Facts(t, []Fact{{"table", t.Name}, {"rows", Count(t.Rows)}, {"data", Size(t.Bytes)},
		{"indexes", Size(t.IndexBytes)}, {"key", List(ownKey(t))}, {"likely age", Dash(t.AgeColumn)},
		{"from", t.Oldest}, {"to", t.Newest}, {"notes", strings.Join(t.Notes, "; ")},
		{"refused", strings.Join(t.Obstacles, "; ")}, {"delete triggers", strings.Join(t.Triggers, ", ")}})
	rows := [][]string{}
	for _, c := range t.Columns {
		state := "archived as " + c.Kind
		if c.AsText {
			state = "archived as the database's text"
		}
		if c.Problem != "" {
			state = c.Problem
		}
		null := "not null"
		if c.Nullable {
			null = ""
		}
		rows = append(rows, []string{c.Name, c.Type, null, state, Yes(c.Generated)})
	}
	fmt.Fprintln(e.Out)
	if err := e.Show(t, []string{"column", "type", "null", "archive", "generated"}, rows); err != nil {
		return err
	}
	rows = [][]string{}
	for _, x := range t.Indexes {
		rows = append(rows, []string{x.Name, strings.Join(x.Columns, ", "), Yes(x.Unique), Yes(x.Partial)})
	}
	fmt.Fprintln(e.Out)
	if err := e.Show(t, []string{"index", "columns", "unique", "partial"}, rows); err != nil {
		return err
	}
	rows = [][]string{}
	for _, k := range append(append([]client.ForeignKey{}, t.References...), t.ReferencedBy...) {
		rows = append(rows, []string{fmt.Sprintf("%s(%s)", k.Table, strings.Join(k.Columns, ", ")),
			fmt.Sprintf("%s(%s)", k.RefTable, strings.Join(k.RefColumns, ", ")), k.OnDelete})
	}
	fmt.Fprintln(e.Out)
	if err := e.Show(t, []string{"foreign key from", "to", "on delete"}, rows); err != nil || len(t.Partitions) == 0 {
		return err
	}
	rows = [][]string{}
	for _, p := range t.Partitions {
		rows = append(rows, []string{p.Name, Dash(day(p.From)), Dash(day(p.To)), Count(p.Rows), Size(p.Bytes),
			Size(p.IndexBytes), Dash(p.Hinders)})
	}
	fmt.Fprintln(e.Out)
	return e.Show(t, []string{"partition by " + t.Partitions[0].Column, "from", "to", "rows", "data", "indexes",
		"cannot leave as a whole"}, rows)
}

// ownKey is the key of a table, where that is not the place of its rows.
func ownKey(t *client.Table) []string {
	if len(t.Address) > 0 {
		return nil
	}
	return t.Key
}

// errDisagree makes the command's exit status say what its output does.
var errDisagree = errors.New("source, stores and catalog disagree; runs of the table are stopped")

func tableReconcile(e *Env) error {
	var x *client.Reconciliation
	var err error
	if Get[bool](e, "settle") {
		x, err = e.Client.Settle(e.Ctx, e.Args[0], e.Args[1], client.NewSettling{Reason: e.Flag("reason")})
	} else {
		x, err = e.Client.Reconcile(e.Ctx, e.Args[0], e.Args[1])
	}
	if err != nil {
		return err
	}
	known, lease := "no run has worked on it", fmt.Sprint(x.Epoch)
	if x.Known != nil {
		known, lease = x.Known.Identity, fmt.Sprintf("%d, and %d by the catalog", x.Epoch, x.Known.Epoch)
	}
	verdict := "source, stores and catalog agree"
	if !x.Agree {
		verdict = strings.Join(x.Differences, "; ")
	}
	if err := e.Facts(x, []Fact{{"table", x.Source + "." + x.Table}, {"verdict", verdict},
		{"database", Dash(x.Identity)}, {"by the catalog", known}, {"server", x.Server}, {"lease", lease},
		{"newest link", fmt.Sprintf("%d in the source, %d in the catalog, %d in the stores", x.SourceLink,
			x.CatalogLink, x.StoreLink)}, {"unknown segments", strings.Join(x.Unknown, ", ")},
		{"settling", strings.Join(x.Settling, "; ")}}); err != nil {
		return err
	}
	e.totals(x.Totals)
	if len(x.Reappeared) > 0 && e.Format == "table" {
		rows := [][]string{}
		for _, r := range x.Reappeared {
			rows = append(rows, []string{r.Segment, Count(r.Deleted), Count(r.Live)})
		}
		fmt.Fprintln(e.Out)
		if err := e.Show(x, []string{"segment", "deleted by its record", "live again"}, rows); err != nil {
			return err
		}
	}
	if !x.Agree {
		return errDisagree
	}
	return nil
}

func tableAhead(e *Env) error {
	n := Get[int](e, "count")
	x, err := e.Client.MakePartitions(e.Ctx, e.Args[0], e.Args[1],
		client.NewPartitions{Ahead: n, Try: Get[bool](e, "try")})
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, p := range x.Partitions {
		rows = append(rows, []string{p.Name, p.From, p.To})
	}
	if err := e.Show(x, []string{"partition", "from", "to"}, rows); err != nil || e.Format != "table" {
		return err
	}
	if x.Made {
		fmt.Fprintf(e.Out, "\n%d partitions were made\n", len(x.Partitions))
		return nil
	}
	fmt.Fprintf(e.Out, "\nnothing was changed; this would be sent:\n%s\n", strings.Join(x.Statements, ";\n"))
	return nil
}

func fileFlag(f *flag.FlagSet) { f.String("f", "", "the file of rules; - reads standard input") }

func (e *Env) ruleFile() (in client.RuleFile, err error) {
	in.File = e.Flag("f")
	var text []byte
	switch in.File {
	case "":
		return in, Usage("-f FILE is missing")
	case "-":
		text, err = io.ReadAll(e.In)
	default:
		text, err = os.ReadFile(in.File)
	}
	in.Text = string(text)
	return in, err
}

func ruleCheck(e *Env) error {
	in, err := e.ruleFile()
	if err != nil {
		return err
	}
	r, err := e.Client.CheckRules(e.Ctx, in)
	if err != nil {
		return err
	}
	mistakes := 0
	rows := [][]string{}
	for _, p := range r.Problems {
		level := "warning"
		if !p.Warning {
			level, mistakes = "mistake", mistakes+1
		}
		rows = append(rows, []string{level, p.File, fmt.Sprint(p.Line), fmt.Sprint(p.Column), p.Rule, p.Field,
			p.Message, p.Remedy})
	}
	if e.Format == "table" {
		for _, p := range r.Problems {
			fmt.Fprintln(e.Out, p.Error())
		}
		if mistakes == 0 {
			fmt.Fprintf(e.Out, "%s: no mistakes, %d warnings\n", in.File, len(r.Problems))
		}
	} else if err := e.Show(r, []string{"level", "file", "line", "column", "rule", "field", "message", "remedy"},
		rows); err != nil {
		return err
	}
	if mistakes > 0 {
		return fmt.Errorf("%s: %s", in.File, Things(mistakes, "mistake"))
	}
	return nil
}

func ruleApply(e *Env) error {
	in, err := e.ruleFile()
	if err != nil {
		return err
	}
	in.Reason = e.Flag("reason")
	r, err := e.Client.ApplyRules(e.Ctx, in)
	if err != nil {
		return err
	}
	for _, p := range r.Problems {
		fmt.Fprintln(e.Err, p.Error())
	}
	rows := [][]string{}
	for _, a := range r.Applied {
		changes := strings.Join(a.Changes, "; ")
		if changes == "" {
			changes = "as it was"
		}
		name, revision := a.Rule, Count(a.Revision)
		if a.Keep {
			name, revision = "keep "+name, "-"
		}
		rows = append(rows, []string{name, revision, changes})
	}
	return e.Show(r, []string{"rule", "revision", "changes"}, rows)
}

func ruleList(e *Env) error {
	l, err := items(e, func(n int, after string) (client.Items[client.RuleView], error) {
		return e.Client.Rules(e.Ctx, client.RulesQuery{Source: e.Flag("source"), Text: e.Flag("text"), Limit: n,
			After: after})
	})
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, r := range l.Items {
		last := "never"
		if r.LastRun != nil {
			last = fmt.Sprintf("%s (%s, %s)", At(r.LastRun.CreatedAt), r.LastRun.State,
				Things(r.LastRun.Ledger.Deleted, "row"))
		}
		rows = append(rows, []string{r.Name, r.Source + "." + r.Table, string(r.Body.Then), r.Spoken,
			Count(r.Revision), last})
	}
	return e.Show(l, []string{"rule", "table", "then", "keep", "revision", "last run"}, rows)
}

func ruleShow(e *Env) error {
	r, err := e.Client.Rule(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	v, err := e.Client.Revisions(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	if e.Format == "table" {
		fmt.Fprintf(e.Out, "%s\n", r.Text)
	}
	rows := [][]string{}
	for _, x := range v.Items {
		rows = append(rows, []string{Count(x.Revision), At(x.AppliedAt), x.AppliedBy, strings.Join(x.Changes, "; ")})
	}
	return e.Show(struct {
		client.RuleView
		Revisions []client.Revision `json:"revisions"`
	}{*r, v.Items}, []string{"revision", "applied", "by", "changes"}, rows)
}
