package local

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/signal"
	"runtime/debug"
	"runtime/pprof"
	"strings"
	"syscall"
	"time"

	"ambercellar/console"
	"ambercellar/internal/api"
	"ambercellar/internal/cli"
	"ambercellar/internal/service"
)

func serviceVersion() string { return service.Version }

func serveFlags(f *flag.FlagSet) {
	settingFlags(f)
	f.Bool("new-token", false, "make a new administrator's token and write it to a file in the data directory; the "+
		"old one and all sessions are void")
	f.String("profile", "", "file for a CPU profile of the service, written until it stops; for go tool pprof")
}

// softMemory is where the garbage collector begins to work harder, unless GOMEMLIMIT says otherwise. A run's own data
// stay far below it.
const softMemory = 112 << 20

func serve(e *cli.Env) error {
	v, err := configured(e)
	if err != nil {
		return err
	}
	hangup := make(chan os.Signal, 1) // from now on it ends nothing
	signal.Notify(hangup, syscall.SIGHUP)
	defer signal.Stop(hangup)
	level := &slog.LevelVar{}
	recorder := service.NewRecorder(logHandler(e, v.Text("log"), level))
	log := slog.New(recorder)
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(softMemory)
	}
	if file := e.Flag("profile"); file != "" {
		stop, err := profile(file)
		if err != nil {
			return err
		}
		defer stop()
	}
	ctx, stop := signal.NotifyContext(e.Ctx, syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	var applied error
	s, token, err := service.Open(ctx, v.Text("data"), log, func(s *service.Service) {
		s.Recorder, applied = recorder, apply(v, s, level)
		s.Places.Secrets = service.Secrets{Dir: v.Text("secrets"), Prefix: v.Text("secret-prefix")}
	})
	if err != nil {
		return err
	}
	if applied != nil {
		return errors.Join(applied, s.Close())
	}
	if err := tokenShown(ctx, e, s, token); err != nil {
		return errors.Join(err, s.Close())
	}
	l, err := listen(v.Text("listen"))
	if err != nil {
		return errors.Join(err, s.Close())
	}
	scheme, certificate := "http", &certificate{}
	if cert := v.Text("tls-cert"); cert != "" {
		if err := certificate.load(cert, v.Text("tls-key")); err != nil {
			return errors.Join(err, s.Close())
		}
		s.Findings.Certificates = []string{cert}
		how := &tls.Config{GetCertificate: certificate.get, MinVersion: tls.VersionTLS12}
		if ca := v.Text("client-ca"); ca != "" {
			if how.ClientCAs, err = authorities(ca); err != nil {
				return errors.Join(err, s.Close())
			}
			how.ClientAuth = tls.VerifyClientCertIfGiven
		}
		scheme, l = "https", tls.NewListener(l, how)
	} else if !l.Addr().(*net.TCPAddr).IP.IsLoopback() {
		log.Warn("listening beyond this machine without TLS: the token travels in clear; give -tls-cert and " +
			"-tls-key, or put a TLS proxy in front")
	}
	if address := v.Text("metrics"); address != "" {
		figures, err := listenFigures(address, s, log)
		if err != nil {
			return errors.Join(err, l.Close(), s.Close())
		}
		defer figures.Close()
		fmt.Fprintf(e.Out, "figures at http://%s/metrics\n", figures.Addr())
	}
	fmt.Fprintf(e.Out, "listening at %s://%s\n", scheme, l.Addr())
	s.Declared.Begin(v.Text("declare"))
	stopping := supervised(ctx, s, log)
	context.AfterFunc(ctx, stopping)
	go reloading(ctx, hangup, func() { reload(e, v, s, level, certificate, log) })
	return answer(ctx, s, l, log, lowered(v.List("hosts"))...)
}

// authorities reads certificates from a file.
func authorities(file string) (*x509.CertPool, error) {
	b, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(b) {
		return nil, fmt.Errorf("%s holds no certificate in PEM", file)
	}
	return pool, nil
}

func lowered(names []string) []string {
	out := make([]string, len(names))
	for i, name := range names {
		out[i] = strings.ToLower(name)
	}
	return out
}

// tokenShown writes the administrator's token to its file, where there is a new one.
func tokenShown(ctx context.Context, e *cli.Env, s *service.Service, token string) (err error) {
	if cli.Get[bool](e, "new-token") {
		if token, err = s.Access.NewToken(ctx); err != nil {
			return err
		}
	}
	if token == "" {
		return nil
	}
	file, err := s.Access.WriteToken(token)
	if err != nil {
		return fmt.Errorf("the administrator's token cannot be written: %w", err)
	}
	fmt.Fprintf(e.Out, "the administrator's token is in %s, for its owner alone; keep it elsewhere and remove "+
		"the file: the service itself keeps only a hash\n", file)
	return nil
}

// profile writes where the processor's time goes to a file.
func profile(file string) (stop func(), err error) {
	f, err := os.Create(file)
	if err == nil {
		err = pprof.StartCPUProfile(f)
	}
	if err != nil {
		return nil, fmt.Errorf("-profile %s: %w", file, err)
	}
	return func() {
		pprof.StopCPUProfile()
		f.Close()
	}, nil
}

func listen(address string) (net.Listener, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("-listen %s: %w", address, err)
	}
	return api.Listener{Listener: l}, nil
}

// leastToken is how many characters the token for reading figures has at least.
const leastToken = 16

// scrapeToken reads the token for reading figures; empty where there is no file of it.
func scrapeToken(file string) (string, error) {
	if file == "" {
		return "", nil
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return "", err
	}
	token := strings.TrimSpace(string(text))
	if len(token) < leastToken || strings.ContainsAny(token, " \n\r\t") {
		return "", fmt.Errorf("%s: one line of at least %d characters is wanted", file, leastToken)
	}
	return token, nil
}

// listenFigures answers /metrics on a listener of its own until that is closed.
func listenFigures(address string, s *service.Service, log *slog.Logger) (net.Listener, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("-metrics %s: %w", address, err)
	}
	if !l.Addr().(*net.TCPAddr).IP.IsLoopback() && s.Access.ScrapeToken() == "" {
		l.Close()
		return nil, cli.Usage("-metrics %s is beyond this machine: give -scrape-token-file as well", address)
	}
	l = api.Listener{Listener: l}
	srv := &http.Server{Handler: api.Figures(s), ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute,
		ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelWarn)}
	go srv.Serve(l)
	return l, nil
}

// answer serves HTTP until ctx ends, and then shuts down cleanly: current batches are finished, runs rest until the
// next start.
func answer(ctx context.Context, s *service.Service, l net.Listener, log *slog.Logger, hosts ...string) error {
	files, err := console.Files()
	if err != nil {
		return err
	}
	base, cancel := context.WithCancel(context.Background())
	srv := &http.Server{Handler: api.New(s, log, files, hosts...), ReadHeaderTimeout: 10 * time.Second,
		IdleTimeout: 2 * time.Minute,
		ErrorLog:    slog.NewLogLogger(log.Handler(), slog.LevelWarn),
		BaseContext: func(net.Listener) context.Context { return api.WithBase(base, base) }}
	failed := make(chan error, 1)
	go func() { failed <- srv.Serve(l) }()
	select {
	case err = <-failed:
	case <-ctx.Done():
		log.Info("stopping")
		cancel() // ends streams of events
		shut, done := context.WithTimeout(context.Background(), 5*time.Second)
		err = srv.Shutdown(shut)
		done()
		if errors.Is(err, context.DeadlineExceeded) {
			err = srv.Close()
		}
	}
	cancel()
	if errors.Is(err, http.ErrServerClosed) {
		err = nil
	}
	closed := make(chan error, 1)
	go func() { closed <- s.Close() }()
	select {
	case one := <-closed:
		return errors.Join(err, one)
	case <-time.After(closeBudget): // as if it had been killed, which loses nothing
		log.Error("a database or store does not answer, and is not waited for any longer; what was going on is taken " +
			"up at the next start")
		return err
	}
}

// closeBudget is how long what is going on may take to come to its end, before the process ends all the same: less than
// what whoever stops services waits for.
const closeBudget = 20 * time.Second

func logHandler(e *cli.Env, form string, level *slog.LevelVar) slog.Handler {
	options := &slog.HandlerOptions{Level: level}
	if form == "json" {
		return slog.NewJSONHandler(e.Err, options)
	}
	return slog.NewTextHandler(e.Err, options)
}
