// Package service is the long-running process: it opens the catalog, sources and stores, keeps the queue of runs and
// restores, takes up what an earlier start left unfinished, and knows who may come in. It moves no row itself (that is
// the engine's business) and speaks no HTTP.
package service

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/settings"
	"ambercellar/internal/engine"
	"ambercellar/internal/engine/deps"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
	"ambercellar/internal/source/mariadb"
	"ambercellar/internal/source/postgres"
	"ambercellar/internal/source/sqlite"
)

// Version of the program; the build sets it.
var Version = "development"

// openers opens a source by its engine's name. A new engine is added here.
var openers = map[string]func(context.Context, source.Config) (source.Source, error){
	"sqlite":   func(ctx context.Context, c source.Config) (source.Source, error) { return sqlite.Open(ctx, c) },
	"postgres": func(ctx context.Context, c source.Config) (source.Source, error) { return postgres.Open(ctx, c) },
	"mariadb":  func(ctx context.Context, c source.Config) (source.Source, error) { return mariadb.Open(ctx, c) },
}

// clockSkew is by how much the service's clock may differ from a source's for a plan to be made.
const clockSkew = time.Minute

// base is what all parts of a service share.
type base struct {
	*deps.Deps
	Engine *engine.Engine
	dir    string // of the catalog and of restored files
	ctx    context.Context
	stop   context.CancelCauseFunc
	wait   sync.WaitGroup // for all that goes on in the background
}

// Service is the running service: its parts, wired together.
type Service struct {
	*base
	Started  time.Time
	Access   *Access
	Places   *Places
	Lineages *Lineages
	Queue    *Queue
	Notifier *Notifier
	Health   *Health
	Chores   *Chores
	Freezes  *Freezes
	Jobs     *Jobs
	Declared *Declarations
	Audit    *Audit
	Exports  *Exports

	Approvals *Approvals

	Schedules  *Schedules
	Conditions *Conditions
	Findings   *Findings
	lock       *os.File // of the data directory

	Recorder      *Recorder // keeps the newest lines of the log; nil: nothing does
	configuration atomic.Pointer[[]settings.InForce]
}

// Configuration is how the service was told to run, and where each setting comes from.
func (s *Service) Configuration() []settings.InForce {
	if list := s.configuration.Load(); list != nil {
		return *list
	}
	return nil
}

// SetConfiguration says how the service was told to run.
func (s *Service) SetConfiguration(list []settings.InForce) { s.configuration.Store(&list) }

// newService wires the parts. Nothing goes on yet.
func newService(dir string, log *slog.Logger) *Service {
	b := &base{Deps: &deps.Deps{Now: time.Now, Log: log}, dir: dir}
	b.ctx, b.stop = context.WithCancelCause(context.Background())
	s := &Service{base: b, Started: time.Now(), Access: newAccess(b)}
	s.Places = &Places{base: b, Secrets: UsualSecrets, sources: map[string]*openedSource{},
		stores: map[string]*openedStore{}}
	b.Source, b.Store = s.Places.source, s.Places.store
	b.Engine = engine.New(b.Deps)
	s.Lineages = &Lineages{base: b, places: s.Places, disagree: map[[2]string]string{},
		held: map[[2]string]string{}}
	s.Notifier = &Notifier{base: b, places: s.Places, sending: map[catalog.Lane]bool{},
		mails: make(chan struct{}, mailsAtOnce), hooks: make(chan struct{}, hooksAtOnce)}
	s.Freezes = &Freezes{base: b}
	s.Places.freezes = s.Freezes
	s.Queue = &Queue{base: b, places: s.Places, lineages: s.Lineages, notifier: s.Notifier, freezes: s.Freezes,
		limits: usualLimits, active: map[string]*activeRun{}, looking: map[string]*lookout{}}
	s.Jobs = &Jobs{base: b, queue: s.Queue, freezes: s.Freezes, jobs: map[jobName]*job{},
		said: map[catalog.JobKind]string{}}
	s.Queue.jobs, b.Engine.Upkeep.Passes = s.Jobs, s.Jobs.passes
	s.Freezes.queue = s.Queue
	context.AfterFunc(b.ctx, s.Queue.letGo)
	s.Schedules = &Schedules{base: b, queue: s.Queue, freezes: s.Freezes, rules: map[string]*scheduledRule{},
		firing: map[string]bool{}}
	s.Notifier.firings = s.Schedules
	s.Declared = &Declarations{base: b, places: s.Places, queue: s.Queue}
	s.Health = &Health{base: b, places: s.Places, queue: s.Queue, notifier: s.Notifier, declared: s.Declared,
		began: time.Now(),
		beats: map[string]time.Time{}}
	s.Schedules.health = s.Health
	s.Findings = &Findings{base: b, lineages: s.Lineages, places: s.Places, declared: s.Declared}
	s.Chores = &Chores{base: b, places: s.Places, queue: s.Queue, notifier: s.Notifier, findings: s.Findings,
		health: s.Health}
	s.Audit = &Audit{base: b, freezes: s.Freezes}
	s.Chores.audit, s.Findings.audit = s.Audit, s.Audit
	s.Exports = &Exports{base: b, audit: s.Audit, jobs: s.Jobs, notifier: s.Notifier}
	s.Chores.exports, s.Audit.exports = s.Exports, s.Exports
	s.Approvals = &Approvals{base: b, access: s.Access, queue: s.Queue, places: s.Places}
	s.Chores.approvals, b.Allowed = s.Approvals, s.Approvals.allowed
	s.Conditions = &Conditions{base: b, notifier: s.Notifier, freezes: s.Freezes}
	s.Queue.conditions = s.Conditions
	b.Engine.Runs.Around = s.Conditions.around
	b.Engine.Plans.Skew, b.Engine.Runs.Progress, b.Engine.Runs.Waits = clockSkew, s.Queue.publish, s.Queue.waits
	return s
}

// activeRun is a run that is queued or running in this process.
type activeRun struct {
	run       *catalog.Run  // that its execution works with
	begun     bool          // its turn has come, or it was stopped before
	turn      chan struct{} // of one that waits for its slot back: closed when it has it
	cancel    context.CancelCauseFunc
	latest    *catalog.Run
	listeners map[chan *catalog.Run]bool
	done      chan struct{}
	waits     string // what it waits for just now; empty: nothing
	reason    string // the run's own, shown while it waits for nothing
	slot      bool   // it has one of those of the runs that work at a time
	lent      bool   // it has given its slot back for as long as it waits for what does not answer
	ctx       context.Context
}

// Open opens the service's data directory, makes it where it does not exist, and takes up unfinished runs. At the very
// first start it returns the administrator's token, which is kept only as a hash; afterwards the empty text.
//
// set says how the service differs from the usual, before anything goes on.
func Open(ctx context.Context, dir string, log *slog.Logger, set ...func(*Service)) (s *Service, token string,
	err error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, "", fmt.Errorf("the data directory cannot be made: %w", err)
	}
	if st, err := os.Stat(dir); err == nil && st.Mode().Perm()&0o077 != 0 {
		if err := os.Chmod(dir, 0o700); err != nil {
			return nil, "", fmt.Errorf("others can look into the data directory %s, and that cannot be changed: "+
				"%w; `chmod 700` it as its owner", dir, err)
		}
	}
	s = newService(dir, log)
	if s.lock, err = lockDirectory(dir); err != nil {
		return nil, "", err
	}
	if s.Catalog, err = catalog.Open(ctx, filepath.Join(dir, "catalog.db")); err != nil {
		s.lock.Close()
		return nil, "", err
	}
	s.Catalog.Now = func() time.Time { return s.Now() }
	for _, fn := range set {
		fn(s)
	}
	if token, err = s.firstStart(ctx); err == nil {
		err = s.Queue.loadLimits(ctx)
	}
	if err == nil {
		err = s.Freezes.load(ctx)
	}
	if err == nil {
		err = s.Queue.takeUp(ctx)
	}
	if err == nil {
		s.wait.Add(3)
		go s.Schedules.keep()
		go s.Places.identifyAll()
		go s.Lineages.watchLineages()
		for name, do := range s.Chores.chores() {
			s.wait.Add(1)
			go s.Chores.tend(name, do)
		}
	}
	if err != nil {
		s.Close()
		return nil, "", err
	}
	return s, token, nil
}

// lockDirectory keeps a second service from working on the same data directory.
func lockDirectory(dir string) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the data directory is not writable: %w", err)
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		f.Close()
		return nil, fmt.Errorf("another service is running on the data directory %s; stop it, or name another "+
			"directory", dir)
	}
	return f, nil
}

// firstStart gives the service its identity, its token and a first store.
func (s *Service) firstStart(ctx context.Context) (token string, err error) {
	if s.Instance, err = s.Catalog.Setting(ctx, "instance"); err != nil {
		return "", err
	}
	if s.Instance == "" {
		host, _ := os.Hostname()
		s.Instance = host + "-" + rand.Text()[:10]
		if err := s.Catalog.SetSetting(ctx, "instance", s.Instance); err != nil {
			return "", err
		}
		path, err := filepath.Abs(filepath.Join(s.dir, "cellar"))
		if err != nil {
			return "", err
		}
		if err := s.Places.firstStore(ctx, path); err != nil {
			return "", err
		}
	}
	known, err := s.Catalog.Setting(ctx, tokenSetting)
	if err != nil || known != "" {
		return "", err
	}
	return s.Access.NewToken(ctx)
}

// Close lets current batches finish, leaves runs to be taken up at the next start, and closes everything.
func (s *Service) Close() error {
	s.stop(refuse.ErrShutdown)
	s.wait.Wait()
	var err error
	for _, o := range slices.AppendSeq(s.Places.retired, maps.Values(s.Places.sources)) {
		if o.source != nil {
			err = errors.Join(err, o.source.Close())
		}
	}
	return errors.Join(err, s.Catalog.Close(), s.lock.Close())
}

// usualScrub is how a store is scrubbed where nothing else was said: each segment once a month, at night, slowly.
var usualScrub = catalog.JSON[catalog.Scrub]{V: catalog.Scrub{Every: "P30D", Rate: 32 << 20, Window: "01:00-05:00"}}

var plainName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

func checkName(field, name string) error {
	if !plainName.MatchString(name) {
		return &refuse.Error{Field: field, Message: fmt.Sprintf("%q is not a name", name),
			Remedy: "use up to 63 small letters, digits and hyphens, a letter or digit first"}
	}
	return nil
}
