package service

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unicode"

	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/source"
)

// openedSource is a source that was opened, or is being opened. Each is opened by itself: a database that does not
// answer keeps only those waiting who want something of it.
type openedSource struct {
	turn   chan struct{} // holds one while somebody looks at what follows
	source source.Source // nil: not yet
	failed error         // by the last try to open it
	again  time.Time     // when the next one may be made
	pause  time.Duration // before that, growing
}

// A try to open a source takes no longer than openBudget. After one that failed, askers hear of that for a while,
// before the next is made.
const (
	openBudget             = 30 * time.Second
	firstPause, longestOne = 500 * time.Millisecond, 15 * time.Second
)

// usualConnections is how many connections to a source are opened at the most where nothing else is said.
const usualConnections = 4

// source opens a source once and keeps it open.
func (s *Places) source(ctx context.Context, name string) (source.Source, error) {
	if frozen := s.freezes.over(name, ""); frozen != nil {
		return nil, frozen
	}
	s.mu.Lock()
	o := s.sources[name]
	s.mu.Unlock()
	if o == nil {
		if _, err := s.Catalog.Source(ctx, name); err != nil {
			return nil, err
		}
		s.mu.Lock()
		if o = s.sources[name]; o == nil {
			o = &openedSource{turn: make(chan struct{}, 1)}
			s.sources[name] = o
		}
		s.mu.Unlock()
	}
	select {
	case o.turn <- struct{}{}:
		defer func() { <-o.turn }()
	case <-ctx.Done():
		return nil, source.Of(name, fmt.Errorf("%w: it is being opened", source.ErrUnreachable))
	}
	if o.source != nil {
		return o.source, nil
	}
	if time.Now().Before(o.again) {
		return nil, o.failed
	}
	c, err := s.Catalog.Source(ctx, name)
	if err != nil {
		return nil, err
	}
	if c.Engine == "sqlite" { // a link may lead elsewhere by now
		if err := s.notOurs("address", c.Address); err != nil {
			return nil, err
		}
	}
	within, cancel := context.WithTimeout(ctx, openBudget)
	defer cancel()
	src, err := openers[c.Engine](within, *c)
	if err == nil {
		o.source, o.failed = src, nil
		return src, nil
	}
	if errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil {
		err = source.Of(name, fmt.Errorf("%w: it was not opened within %s", source.ErrUnreachable, openBudget))
	}
	if ctx.Err() == nil { // the asker has waited for it
		o.pause = min(max(2*o.pause, firstPause), longestOne)
		o.failed, o.again = err, time.Now().Add(o.pause)
	}
	return nil, err
}

// AddSource connects to a new source, and keeps it if that works.
func (s *Places) AddSource(ctx context.Context, actor string, c source.Config) (*source.Report, error) {
	if err := checkName("name", c.Name); err != nil {
		return nil, err
	}
	if _, ok := openers[c.Engine]; !ok {
		return nil, &refuse.Error{Field: "engine", Message: fmt.Sprintf("%q is no engine that the service knows",
			c.Engine), Remedy: "write sqlite, postgres or mariadb (for MySQL too)"}
	}
	if _, err := s.Catalog.Source(ctx, c.Name); err == nil {
		return nil, &refuse.Error{Field: "name", Message: fmt.Sprintf("there is a source %s already", c.Name),
			Remedy: "give another name"}
	}
	src, report, err := s.tryOut(ctx, &c)
	if err != nil {
		return nil, err
	}
	if err := s.Catalog.AddSource(ctx, actor, c); err != nil {
		src.Close()
		return nil, err
	}
	s.replace(c.Name, src)
	return report, nil
}

// SourceChange is what is to be changed of a source; nil: as it was. Its engine stays.
type SourceChange struct {
	Address      *string `json:"address,omitempty"`       // another place of the same database
	PasswordEnv  *string `json:"password_env,omitempty"`  // empty: none
	PasswordFile *string `json:"password_file,omitempty"` // empty: none
	TLS          *string `json:"tls,omitempty"`           // empty: verify but for loopback addresses
	TLSCA        *string `json:"tls_ca,omitempty"`        // empty: the system's
	Disk         *string `json:"disk,omitempty"`          // empty: not known
	Origin       *string `json:"origin,omitempty"`        // empty: none
	Connections  *int    `json:"connections,omitempty"`   // 3 to 100; 0: 4
}

// on is the configuration with the change made.
func (x SourceChange) on(c source.Config) source.Config {
	for _, f := range []struct {
		to   *string
		from *string
	}{{&c.Address, x.Address}, {&c.PasswordEnv, x.PasswordEnv}, {&c.PasswordFile, x.PasswordFile}, {&c.TLS, x.TLS},
		{&c.TLSCA, x.TLSCA}, {&c.Disk, x.Disk}, {&c.Origin, x.Origin}} {
		if f.from != nil {
			*f.to = *f.from
		}
	}
	if x.Connections != nil {
		c.Connections = *x.Connections
	}
	return c
}

// ChangeSource connects to a source as it is to be, and keeps the change if that works. What is at work goes on with
// the connections that it has; the address stays while a run or a restore of the source works.
func (s *Queue) ChangeSource(ctx context.Context, actor, name string, x SourceChange) (*source.Report, error) {
	was, err := s.Catalog.Source(ctx, name)
	if err != nil {
		return nil, err
	}
	c := x.on(*was)
	src, report, err := s.places.tryOut(ctx, &c)
	if err != nil {
		return nil, err
	}
	s.mu.Lock() // no run begins meanwhile
	defer s.mu.Unlock()
	if c.Address != was.Address {
		err = s.idle(ctx, name)
	}
	if err == nil {
		err = s.Catalog.SetSource(ctx, actor, *was, c)
	}
	if err != nil {
		return nil, errors.Join(err, src.Close())
	}
	s.places.replace(name, src)
	return report, nil
}

// idle refuses where a run or a restore of a source works. It asks for s.mu.
func (s *Queue) idle(ctx context.Context, name string) error {
	for id, a := range s.active {
		if a.slot && a.run.Source == name {
			return &refuse.Error{Field: "address", Message: fmt.Sprintf("run %s works on source %s", id, name),
				Remedy: "let it end, pause it, or freeze the source, and try again"}
		}
	}
	restores, err := s.Catalog.RestoresIn(ctx, catalog.Restoring)
	for _, r := range restores {
		if r.Source == name && err == nil {
			err = &refuse.Error{Field: "address", Message: fmt.Sprintf("restore %s works on source %s", r.ID, name),
				Remedy: "let it end, or cancel it, and try again"}
		}
	}
	return err
}

// tryOut checks the configuration of a source, fills in what is left out, and connects.
func (s *Places) tryOut(ctx context.Context, c *source.Config) (source.Source, *source.Report, error) {
	if err := s.checkSource(c); err != nil {
		return nil, nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, openBudget)
	defer cancel()
	src, err := openers[c.Engine](ctx, *c)
	if err != nil {
		return nil, nil, &refuse.Error{Field: "address", Message: err.Error()}
	}
	report, err := src.Check(ctx)
	if err != nil {
		src.Close()
		return nil, nil, &refuse.Error{Field: "address", Message: err.Error(),
			Remedy: "check the address, the password and that the server takes connections from here"}
	}
	return src, report, nil
}

// tlsWays are how the way to a server is protected; the empty text is verify, but for loopback addresses.
var tlsWays = []string{"", "verify", "require", "off"}

// checkSource refuses what cannot be the configuration of a source.
func (s *Places) checkSource(c *source.Config) error {
	if c.Address == "" {
		return &refuse.Error{Field: "address", Message: "the address is missing",
			Remedy: "give the path of a SQLite file, or a URL like postgres://user@host:5432/database or " +
				"mariadb://user@host:3306/database"}
	}
	for field, text := range map[string]string{"address": c.Address, "tls_ca": c.TLSCA, "disk": c.Disk,
		"origin": c.Origin, "password_env": c.PasswordEnv, "password_file": c.PasswordFile} {
		if strings.ContainsFunc(text, unicode.IsControl) {
			return &refuse.Error{Field: field, Message: fmt.Sprintf("%q holds characters that cannot be seen", text),
				Remedy: "write it anew"}
		}
	}
	if !slices.Contains(tlsWays, c.TLS) {
		return &refuse.Error{Field: "tls", Message: fmt.Sprintf("%q is none of verify, require and off", c.TLS),
			Remedy: "write one of them, or leave it out: verify, but for loopback addresses"}
	}
	if c.Disk != "" {
		if st, err := os.Stat(c.Disk); err != nil || !st.IsDir() {
			return &refuse.Error{Field: "disk",
				Message: fmt.Sprintf("%s is no directory that the service can see", c.Disk),
				Remedy:  "name the directory of the database's files as the service's machine has it, or leave it out"}
		}
	}
	if c.Connections == 0 {
		c.Connections = usualConnections
	}
	if c.Connections < 3 || c.Connections > 100 {
		return &refuse.Error{Field: "connections",
			Message: fmt.Sprintf("%d connections are not between 3 and 100", c.Connections),
			Remedy:  "a run needs one to read, one to delete and one to spare"}
	}
	if c.PasswordEnv != "" && c.PasswordFile != "" {
		return &refuse.Error{Field: "password_file",
			Message: "both an environment variable and a file are named for the password", Remedy: "name one"}
	}
	if c.Engine == "sqlite" {
		if abs, err := filepath.Abs(c.Address); err == nil {
			c.Address = abs
		}
	}
	return s.reachable(*c)
}

// DeleteSource forgets a source that no rule, run, segment, restore or hold knows.
func (s *Places) DeleteSource(ctx context.Context, actor, name string) error {
	known, err := s.Catalog.DeleteSource(ctx, actor, name)
	if err == nil && known != "" {
		err = &refuse.Error{Message: fmt.Sprintf("source %s cannot be forgotten: %s knows it", name, known),
			Remedy: "keep it; freeze it if the service is to leave it alone"}
	}
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if o := s.sources[name]; o != nil {
		s.retired = append(s.retired, o)
		delete(s.sources, name)
	}
	return nil
}

// replace has a source used as it was opened now. What was opened before is closed at the end: somebody may work with
// it still, and its connections close by themselves when they are idle.
func (s *Places) replace(name string, src source.Source) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if o := s.sources[name]; o != nil {
		s.retired = append(s.retired, o)
	}
	s.sources[name] = &openedSource{turn: make(chan struct{}, 1), source: src}
}
