package cli

import (
	"errors"
	"flag"
	"fmt"
	"io"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"ambercellar/internal/api"
	"ambercellar/internal/catalog"
	"ambercellar/internal/client"
	"ambercellar/internal/core/shape"
	"ambercellar/internal/engine/plan"
	"ambercellar/internal/engine/reconcile"
	"ambercellar/internal/source"
)

// commands is the table of all commands, in the order of the work.
func commands() []command {
	return []command{
		{name: "serve", summary: "run the service", flags: serveFlags, run: serve, local: true},
		{name: "demo", summary: "run the service on made-up data, or the whole example with -once", flags: demoFlags, run: runDemo, local: true},
		{name: "standin s3", summary: "serve a stand-in for an S3-compatible object store, for demonstrations and tests", flags: standinFlags, run: standinObjects, local: true},
		{name: "version", summary: "print the version", run: version, local: true},
		{name: "schema", args: "FORMAT", summary: "print the JSON Schema of a format: manifest, closing, range, disposal, certificate or ledger", run: printSchema, local: true},
		{name: "openapi", summary: "print the OpenAPI document of the interface", run: openAPI, local: true},

		{name: "source add", args: "NAME", summary: "add a database", flags: sourceFlags, run: sourceAdd},
		{name: "source list", summary: "list the databases", run: sourceList},
		{name: "source check", args: "NAME", summary: "connect, and say which rights are there and which lack", run: sourceCheck},

		{name: "store add", args: "NAME", summary: "add a directory, or a bucket of an S3-compatible object store, for archived segments", flags: storeFlags, run: storeAdd},
		{name: "store set", args: "NAME", summary: "change a store's second store, or how it is scrubbed", flags: storeSetFlags, run: storeSet},
		{name: "store check", args: "NAME", summary: "write to a store, read it back, list and remove it", run: storeCheck},
		{name: "store sweep", args: "NAME", summary: "list what interrupted runs left behind in a store, and remove it with -remove", flags: storeSweepFlags, run: storeSweep},
		{name: "store list", summary: "list the stores and what lies in them", run: storeList},
		{name: "store key", summary: "make a key for sealed stores, in a file of keys", flags: storeKeyFlags, run: storeKey, local: true},
		{name: "store reseal", args: "NAME", summary: "seal every file of a store with the newest of its keys", run: storeReseal},
		{name: "store adopt", args: "NAME", summary: "bring segments of a store into a catalog that does not know them", run: storeAdopt},

		{name: "table list", args: "SOURCE", summary: "list tables with their sizes and the span of their age", run: tableList},
		{name: "table show", args: "SOURCE TABLE", summary: "show columns, key, indexes, foreign keys and partitions", run: tableShow},
		{name: "table reconcile", args: "SOURCE TABLE", summary: "compare what source, stores and catalog tell of a table, and settle it", flags: func(f *flag.FlagSet) {
			f.Bool("settle", false, "make them agree again, in the way that is shown without")
			f.String("reason", "", "with -settle: what happened; it is kept")
		}, run: tableReconcile},
		{name: "table ahead", args: "SOURCE TABLE", summary: "make the next partitions of a table, each as long as its newest", flags: func(f *flag.FlagSet) {
			f.Int("count", 3, "how many")
			f.Bool("try", false, "only show what would be sent to the database")
		}, run: tableAhead},

		{name: "rule check", summary: "check a file of rules and change nothing", flags: fileFlag, run: ruleCheck},
		{name: "rule apply", summary: "apply a file of rules: all of them or none", flags: func(f *flag.FlagSet) {
			fileFlag(f)
			f.String("reason", "", "why a locked clause is loosened; it is kept")
		}, run: ruleApply},
		{name: "rule forecast", args: "RULE", summary: "say what runs in the coming months would take", flags: func(f *flag.FlagSet) { f.Int("months", 12, "how many months to look ahead") }, run: ruleForecast},
		{name: "rule list", summary: "list the rules", flags: func(f *flag.FlagSet) {
			f.String("source", "", "of this source only")
			f.String("text", "", "those alone with this in the name of the rule, its source or its table")
			limitFlag(f)
		}, run: ruleList},
		{name: "rule show", args: "RULE", summary: "show a rule and its revisions", run: ruleShow},

		{name: "keep list", summary: "list the named keeps that rules share", run: keepList},

		{name: "plan make", args: "RULE", summary: "compute what a run would take, and change nothing", flags: planFlags, run: planMake},
		{name: "plan compare", summary: "say which rows become due or stop being due if a file were applied", flags: fileFlag, run: planCompare},
		{name: "plan show", args: "PLAN", summary: "show a plan", flags: planShowFlags, run: planShow},

		{name: "run start", args: "PLAN", summary: "carry out a plan", flags: func(f *flag.FlagSet) {
			f.Bool("watch", false, "stay and show its progress")
			f.Bool("empty", false, "remove all rows of the table at once, where the plan offers that")
		}, run: runStart},
		{name: "run list", summary: "list runs, the newest first", flags: func(f *flag.FlagSet) {
			f.String("rule", "", "of this rule only")
			f.String("state", "", "in this state only: queued, running, paused, resting, copied, done, cancelled or failed")
			limitFlag(f)
		}, run: runList},
		{name: "run show", args: "RUN", summary: "show a run's ledger and batches", flags: func(f *flag.FlagSet) { f.Int("batches", 10, "how many of the newest batches to show") }, run: runShow},
		{name: "run watch", args: "RUN", summary: "show a run's progress until it stops", run: runWatch},
		{name: "run pause", args: "RUN", summary: "stop a run after its batch in hand", run: runVerb("pause")},
		{name: "run pace", args: "RUN PACE", summary: "change a run's pace to gentle or unlimited, from its next batch on", run: runPace},
		{name: "run ledger", args: "RUN", summary: "write the accounting of a run that has ended, with the records that it rests on", flags: func(f *flag.FlagSet) { f.String("out", "", "the file to write; left out: to standard output") }, run: runLedger},
		{name: "run check", args: "LEDGER", summary: "check an exported ledger with nothing but what lies in stores, without a service", flags: runCheckFlags, run: runCheck, local: true},
		{name: "run resume", args: "RUN", summary: "go on with a paused or failed run", run: runVerb("resume")},
		{name: "run delete", args: "RUN", summary: "delete the rows of a run that copied them, those that still are what was copied", run: runVerb("delete")},
		{name: "run cancel", args: "RUN", summary: "end a run after its batch in hand; rows not reached stay live", run: runVerb("cancel")},

		{name: "hold place", args: "SOURCE TABLE", summary: "see to it that nothing removes rows or segments until the hold is lifted", flags: holdFlags, run: holdPlace},
		{name: "hold list", summary: "list the holds that stand", flags: func(f *flag.FlagSet) { f.Bool("all", false, "those that were lifted too") }, run: holdList},
		{name: "hold show", args: "HOLD", summary: "show a hold", run: holdShow},
		{name: "hold lift", args: "HOLD", summary: "end a hold", flags: func(f *flag.FlagSet) { f.String("reason", "", "why the hold ends; it is kept") }, run: holdLift},

		{name: "column tell", args: "SOURCE TABLE COLUMN", summary: "say what a column was called before it was renamed, so that it is found in older segments", flags: func(f *flag.FlagSet) {
			f.String("was", "", "the name that it had before")
			f.Bool("added", false, "it had none: it was added, and is NULL in older rows")
		}, run: columnTell},
		{name: "column list", args: "SOURCE TABLE", summary: "list the names that a table's columns have had, as told or as the database knows them", run: columnList},
		{name: "column forget", args: "SOURCE TABLE COLUMN", summary: "take back what was told of a column", flags: func(f *flag.FlagSet) {
			f.String("was", "", "the name that it was told to have had; left out: that it was added")
		}, run: columnForget},

		{name: "guard show", args: "SOURCE", summary: "show what binds all rules of a source", run: guardShow},
		{name: "guard set", args: "SOURCE", summary: "set what binds all rules of a source; what is left out is no longer bound", flags: func(f *flag.FlagSet) {
			f.String("live", "", "rows stay live at least so long, like P30D")
			f.String("archive", "", "segments stay in the archive at least so long")
			f.String("only", "", "the only tables that may have a rule, with commas between")
			f.String("never", "", "tables that may not have a rule")
			f.String("approve", "", "what has to be approved before it is carried out: restores, disposals, or both with a comma between")
		}, run: guardSet},

		{name: "segment list", summary: "list archived segments, the newest first", flags: func(f *flag.FlagSet) {
			f.String("run", "", "of this run only")
			f.String("source", "", "of this source only")
			f.String("table", "", "of this table only")
			f.Bool("ungoverned", false, "those alone whose rule is not there any more: they are kept without end")
			limitFlag(f)
		}, run: segmentList},
		{name: "segment show", args: "SEGMENT", summary: "show a segment", run: segmentShow},
		{name: "segment verify", args: "[SEGMENT]", summary: "read segments back from their stores and check every row; with -store also without a service", flags: verifyFlags, run: segmentVerify},
		{name: "segment move", args: "SEGMENT", summary: "move the rows of a segment to another store, or back to that of its records", flags: func(f *flag.FlagSet) { f.String("to", "", "the store") }, run: segmentMove},
		{name: "segment retrieve", args: "[SEGMENT,…]", summary: "fetch segments from cold storage for some days", flags: retrieveFlags, run: segmentRetrieve},
		{name: "retrieval list", summary: "list retrievals from cold storage, the newest first", flags: limitFlag, run: retrievalList},
		{name: "disposal plan", args: "RULE", summary: "find out which segments of a rule have been in the archive long enough; nothing is destroyed", flags: disposalFlags, run: disposalPlan},
		{name: "disposal start", args: "DISPOSAL", summary: "decide that the segments of a disposal are destroyed now, and wait for it", run: disposalStart},
		{name: "disposal approve", args: "DISPOSAL", summary: "approve a disposal where that is demanded; it is still to be started", run: disposalApprove},
		{name: "disposal cancel", args: "DISPOSAL", summary: "decide against a disposal", run: disposalCancel},
		{name: "erasure plan", args: "SOURCE TABLE", summary: "find out which segments hold rows of a condition, whatever their time in the archive; nothing is destroyed", flags: erasureFlags, run: erasurePlan},
		{name: "disposal list", summary: "list disposals, the newest first", flags: limitFlag, run: disposalList},
		{name: "disposal show", args: "DISPOSAL", summary: "show a disposal", run: disposalShow},
		{name: "disposal certificate", args: "DISPOSAL", summary: "write the certificate of a disposal, as JSON or PDF", flags: certificateFlags, run: disposalCertificate},
		{name: "catalog backup", summary: "write the service's own records, as they are at this moment, into a file", flags: catalogBackupFlags, run: catalogBackup},
		{name: "catalog keep", summary: "say for how long records of the service's own are kept, or change that", flags: func(f *flag.FlagSet) {
			f.String("set", "", "what is to be changed, like batches=P30D,plans=forever")
		}, run: catalogKeep},
		{name: "catalog restore", args: "FILE", summary: "put a backup in the place of a catalog, while the service is stopped", flags: catalogRestoreFlags, run: catalogRestore, local: true},
		{name: "catalog rebuild", summary: "take up every segment of all stores that the catalog does not know", run: catalogRebuild},
		{name: "verification list", summary: "list verifications, the newest first", flags: limitFlag, run: verificationList},
		{name: "verification show", args: "VERIFICATION", summary: "show what a verification found", run: verificationShow},

		{name: "search", args: "SOURCE TABLE", summary: "search the archived rows of a table", flags: searchFlags, run: searchRows},

		{name: "restore request", summary: "bring archived rows back, into their table or a file", flags: restoreFlags, run: restoreRequest},
		{name: "restore keep", args: "RESTORE", summary: "change how long the rows of a restore stay: for so long from now on, or for good", flags: func(f *flag.FlagSet) { f.String("for", "", "like P5D; left out: for good") }, run: restoreKeep},
		{name: "restore approve", args: "RESTORE", summary: "approve a restore that waits for it", run: restoreApprove},
		{name: "restore refuse", args: "RESTORE", summary: "refuse a restore that waits for an approval", flags: func(f *flag.FlagSet) { f.String("reason", "", "why; the asker is told") }, run: restoreRefuse},
		{name: "restore replaced", args: "RESTORE", summary: "write the rows that a restore replaced, as they were", flags: func(f *flag.FlagSet) { f.String("out", "", "the file to write") }, run: restoreReplaced},
		{name: "restore list", summary: "list restores, the newest first", flags: limitFlag, run: restoreList},
		{name: "restore show", args: "RESTORE", summary: "show a restore", run: restoreShow},
	}
}

func version(e *env) error {
	_, err := fmt.Fprintln(e.out, "ambercellar", serviceVersion())
	return err
}

// printSchema prints the JSON Schema of one of the archive's formats.
func printSchema(e *env) error {
	text, err := api.FormatSchema(e.args[0])
	if err != nil {
		return err
	}
	if text == nil {
		return usage("%q is none of %s", e.args[0], strings.Join(slices.Sorted(maps.Keys(api.Formats)), ", "))
	}
	_, err = e.out.Write(text)
	return err
}

func openAPI(e *env) error {
	_, err := e.out.Write(api.Document())
	return err
}

func sourceFlags(f *flag.FlagSet) {
	f.String("engine", "sqlite", "sqlite, postgres, or mariadb (for MySQL too)")
	f.String("address", "", "path of the SQLite file, or URL like postgres://user@host:5432/database or mariadb://user@host:3306/database (without password)")
	f.String("password-env", "", "environment variable of the service that holds the password")
	f.String("password-file", "", "file that holds the password, readable by the service")
	f.String("tls", "", "verify, require or off; left out, it is verify but for loopback addresses")
	f.String("tls-ca", "", "file of certificates that may sign the server's")
	f.String("origin", "", "marks our deletes for replicas and change feeds: the name of a replication origin (PostgreSQL), or a number for gtid_domain_id (MariaDB)")
	f.String("disk", "", "directory of the service's machine on whose disk the database's files are, for watching its free space; SQLite's own if left out")
	f.Int("connections", 4, "the most connections that the service opens, 3 to 100")
}

func sourceAdd(e *env) error {
	connections := 0
	fmt.Sscan(e.flag("connections"), &connections)
	address := e.flag("address")
	if e.flag("engine") == "sqlite" && address != "" {
		if abs, err := filepath.Abs(address); err == nil {
			address = abs
		}
	}
	in := api.NewSource{Name: e.args[0], Engine: e.flag("engine"), Address: address, PasswordEnv: e.flag("password-env"), PasswordFile: e.flag("password-file"),
		TLS: e.flag("tls"), TLSCA: e.flag("tls-ca"), Disk: e.flag("disk"), Origin: e.flag("origin"), Connections: connections}
	r, err := client.Post[source.Report](e.ctx, e.client, "/sources", in)
	if err != nil {
		return err
	}
	if e.format == "table" {
		fmt.Fprintf(e.out, "source %s added\n", in.Name)
	}
	return e.report(&r)
}

func (e *env) report(r *source.Report) error {
	if e.format == "table" {
		fmt.Fprintf(e.out, "%s %s", r.Engine, r.Version)
		if r.User != "" {
			fmt.Fprintf(e.out, ", as %s, TLS %s", r.User, r.TLS)
		}
		fmt.Fprintf(e.out, "\njournal: %s\n\n", r.Journal)
	}
	rows := [][]string{}
	for _, f := range r.Items {
		rows = append(rows, []string{string(f.Level), dash(f.Table), f.Text, f.Remedy})
	}
	return e.show(r, []string{"level", "table", "finding", "remedy"}, rows)
}

func sourceList(e *env) error {
	l, err := client.Get[api.Items[source.Config]](e.ctx, e.client, "/sources")
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
		rows = append(rows, []string{s.Name, s.Engine, s.Address, password, count(s.Connections)})
	}
	return e.show(l, []string{"name", "engine", "address", "password", "connections"}, rows)
}

func sourceCheck(e *env) error {
	r, err := client.Get[source.Report](e.ctx, e.client, "/sources/"+url.PathEscape(e.args[0])+"/check")
	if err != nil {
		return err
	}
	if err := e.report(&r); err != nil {
		return err
	}
	if !r.OK() {
		return fmt.Errorf("source %s lacks something that the service needs; the lines marked missing say what", e.args[0])
	}
	return nil
}

func tableList(e *env) error {
	l, err := client.Get[api.Items[shape.Table]](e.ctx, e.client, "/sources/"+url.PathEscape(e.args[0])+"/tables")
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, t := range l.Items {
		rows = append(rows, []string{t.Name, count(t.Rows), size(t.Bytes), size(t.IndexBytes), dash(t.AgeColumn), dash(t.Oldest), dash(t.Newest)})
	}
	return e.show(l, []string{"table", "rows", "data", "indexes", "age", "oldest", "newest"}, rows)
}

func tableShow(e *env) error {
	t, err := client.Get[shape.Table](e.ctx, e.client, "/sources/"+url.PathEscape(e.args[0])+"/tables/"+url.PathEscape(e.args[1]))
	if err != nil {
		return err
	}
	if e.format != "table" {
		rows := [][]string{}
		for _, c := range t.Columns {
			rows = append(rows, []string{c.Name, c.Type, fmt.Sprint(c.Nullable), c.Problem})
		}
		return e.show(t, []string{"column", "type", "nullable", "problem"}, rows)
	}
	e.facts(t, "table", t.Name, "rows", count(t.Rows), "data", size(t.Bytes), "indexes", size(t.IndexBytes), "key", list(t.OwnKey()),
		"likely age", dash(t.AgeColumn), "from", t.Oldest, "to", t.Newest, "notes", strings.Join(t.Notes, "; "), "refused", strings.Join(t.Obstacles, "; "), "delete triggers", strings.Join(t.Triggers, ", "))
	rows := [][]string{}
	for _, c := range t.Columns {
		state := "archived as " + c.Kind.String()
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
		rows = append(rows, []string{c.Name, c.Type, null, state, yes(c.Generated)})
	}
	fmt.Fprintln(e.out)
	if err := e.show(t, []string{"column", "type", "null", "archive", "generated"}, rows); err != nil {
		return err
	}
	rows = [][]string{}
	for _, x := range t.Indexes {
		rows = append(rows, []string{x.Name, strings.Join(x.Columns, ", "), yes(x.Unique), yes(x.Partial)})
	}
	fmt.Fprintln(e.out)
	if err := e.show(t, []string{"index", "columns", "unique", "partial"}, rows); err != nil {
		return err
	}
	rows = [][]string{}
	for _, k := range append(append([]shape.ForeignKey{}, t.References...), t.ReferencedBy...) {
		rows = append(rows, []string{fmt.Sprintf("%s(%s)", k.Table, strings.Join(k.Columns, ", ")), fmt.Sprintf("%s(%s)", k.RefTable, strings.Join(k.RefColumns, ", ")), k.OnDelete})
	}
	fmt.Fprintln(e.out)
	if err := e.show(t, []string{"foreign key from", "to", "on delete"}, rows); err != nil || len(t.Partitions) == 0 {
		return err
	}
	rows = [][]string{}
	for _, p := range t.Partitions {
		rows = append(rows, []string{p.Name, dash(day(p.From)), dash(day(p.To)), count(p.Rows), size(p.Bytes), size(p.IndexBytes), dash(p.Hinders)})
	}
	fmt.Fprintln(e.out)
	return e.show(t, []string{"partition by " + t.Partitions[0].Column, "from", "to", "rows", "data", "indexes", "cannot leave as a whole"}, rows)
}

// errDisagree makes the command's exit status say what its output does.
var errDisagree = errors.New("source, stores and catalog disagree; runs of the table are stopped")

func tableReconcile(e *env) error {
	path := "/sources/" + url.PathEscape(e.args[0]) + "/tables/" + url.PathEscape(e.args[1]) + "/reconciliation"
	var x reconcile.Reconciliation
	var err error
	if e.flag("settle") == "true" {
		x, err = client.Post[reconcile.Reconciliation](e.ctx, e.client, path, api.NewSettling{Reason: e.flag("reason")})
	} else {
		x, err = client.Get[reconcile.Reconciliation](e.ctx, e.client, path)
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
	if err := e.facts(x, "table", x.Source+"."+x.Table, "verdict", verdict, "database", dash(x.Identity), "by the catalog", known, "server", x.Server, "lease", lease,
		"newest link", fmt.Sprintf("%d in the source, %d in the catalog, %d in the stores", x.SourceLink, x.CatalogLink, x.StoreLink), "unknown segments", strings.Join(x.Unknown, ", "), "settling", strings.Join(x.Settling, "; ")); err != nil {
		return err
	}
	e.totals(x.Totals)
	if len(x.Reappeared) > 0 && e.format == "table" {
		rows := [][]string{}
		for _, r := range x.Reappeared {
			rows = append(rows, []string{r.Segment, count(r.Deleted), count(r.Live)})
		}
		fmt.Fprintln(e.out)
		if err := e.show(x, []string{"segment", "deleted by its record", "live again"}, rows); err != nil {
			return err
		}
	}
	if !x.Agree {
		return errDisagree
	}
	return nil
}

func tableAhead(e *env) error {
	n, _ := strconv.Atoi(e.flag("count"))
	x, err := client.Post[plan.PartitionsAhead](e.ctx, e.client, "/sources/"+url.PathEscape(e.args[0])+"/tables/"+url.PathEscape(e.args[1])+"/partitions", api.NewPartitions{Ahead: n, Try: e.flag("try") == "true"})
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, p := range x.Partitions {
		rows = append(rows, []string{p.Name, p.From, p.To})
	}
	if err := e.show(x, []string{"partition", "from", "to"}, rows); err != nil || e.format != "table" {
		return err
	}
	if x.Made {
		fmt.Fprintf(e.out, "\n%d partitions were made\n", len(x.Partitions))
		return nil
	}
	fmt.Fprintf(e.out, "\nnothing was changed; this would be sent:\n%s\n", strings.Join(x.Statements, ";\n"))
	return nil
}

func fileFlag(f *flag.FlagSet) { f.String("f", "", "the file of rules; - reads standard input") }

func (e *env) ruleFile() (in api.RuleFile, err error) {
	in.File = e.flag("f")
	var text []byte
	switch in.File {
	case "":
		return in, usage("-f FILE is missing")
	case "-":
		text, err = io.ReadAll(e.in)
	default:
		text, err = os.ReadFile(in.File)
	}
	in.Text = string(text)
	return in, err
}

func ruleCheck(e *env) error {
	in, err := e.ruleFile()
	if err != nil {
		return err
	}
	r, err := client.Post[api.RuleResult](e.ctx, e.client, "/rules/check", in)
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
		rows = append(rows, []string{level, p.File, fmt.Sprint(p.Line), fmt.Sprint(p.Column), p.Rule, p.Field, p.Message, p.Remedy})
	}
	if e.format == "table" {
		for _, p := range r.Problems {
			fmt.Fprintln(e.out, p.Error())
		}
		if mistakes == 0 {
			fmt.Fprintf(e.out, "%s: no mistakes, %d warnings\n", in.File, len(r.Problems))
		}
	} else if err := e.show(r, []string{"level", "file", "line", "column", "rule", "field", "message", "remedy"}, rows); err != nil {
		return err
	}
	if mistakes > 0 {
		return fmt.Errorf("%s: %d mistakes", in.File, mistakes)
	}
	return nil
}

func ruleApply(e *env) error {
	in, err := e.ruleFile()
	if err != nil {
		return err
	}
	in.Reason = e.flag("reason")
	r, err := client.Post[api.RuleResult](e.ctx, e.client, "/rules", in)
	if err != nil {
		return err
	}
	for _, p := range r.Problems {
		fmt.Fprintln(e.err, p.Error())
	}
	rows := [][]string{}
	for _, a := range r.Applied {
		changes := strings.Join(a.Changes, "; ")
		if changes == "" {
			changes = "as it was"
		}
		name, revision := a.Rule, count(a.Revision)
		if a.Keep {
			name, revision = "keep "+name, "-"
		}
		rows = append(rows, []string{name, revision, changes})
	}
	return e.show(r, []string{"rule", "revision", "changes"}, rows)
}

func ruleList(e *env) error {
	l, err := items[api.RuleView](e, "/rules", url.Values{"source": {e.flag("source")}, "text": {e.flag("text")}})
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, r := range l.Items {
		last := "never"
		if r.LastRun != nil {
			last = fmt.Sprintf("%s (%s, %s)", at(r.LastRun.CreatedAt), r.LastRun.State, things(r.LastRun.Ledger.Deleted, "row"))
		}
		rows = append(rows, []string{r.Name, r.Source + "." + r.Table, string(r.Body.V.Then), r.Spoken, count(r.Revision), last})
	}
	return e.show(l, []string{"rule", "table", "then", "keep", "revision", "last run"}, rows)
}

func ruleShow(e *env) error {
	r, err := client.Get[api.RuleView](e.ctx, e.client, "/rules/"+url.PathEscape(e.args[0]))
	if err != nil {
		return err
	}
	v, err := client.Get[api.Items[catalog.Revision]](e.ctx, e.client, "/rules/"+url.PathEscape(e.args[0])+"/revisions")
	if err != nil {
		return err
	}
	if e.format == "table" {
		fmt.Fprintf(e.out, "%s\n", r.Text)
	}
	rows := [][]string{}
	for _, x := range v.Items {
		rows = append(rows, []string{count(x.Revision), at(x.AppliedAt), x.AppliedBy, strings.Join(x.Changes.V, "; ")})
	}
	return e.show(struct {
		api.RuleView
		Revisions []catalog.Revision `json:"revisions"`
	}{r, v.Items}, []string{"revision", "applied", "by", "changes"}, rows)
}
