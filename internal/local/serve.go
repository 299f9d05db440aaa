package local

import (
	"context"
	"crypto/tls"
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
	f.String("data", "ambercellar-data", "directory of the catalog and of restored files")
	f.String("listen", "127.0.0.1:7420", "address to listen at; loopback unless told otherwise")
	f.String("tls-cert", "", "certificate file, to serve HTTPS")
	f.String("tls-key", "", "key file of the certificate")
	f.Bool("new-token", false, "make a new administrator's token and write it to a file in the data directory; the "+
		"old one and all sessions are void")
	f.String("log", "text", "form of the log on standard error: text or json")
	f.String("profile", "", "file for a CPU profile of the service, written until it stops; for go tool pprof")
	f.String("smtp", "", "HOST:PORT of the mail server through which people are told; left out: no mail is sent")
	f.String("mail-from", "", "with -smtp: the sender's address")
	f.String("mail-password-env", "",
		"with -smtp: environment variable with the sender's password; left out: no signing in")
	f.String("mail-user", "", "with -smtp: whom the service signs in as; left out: the sender")
	f.String(
		"mail-security",
		"",
		"with -smtp: "+strings.Join(service.Securities, ", ")+"; left out: starttls where the "+
			"service signs in, and TLS if it is offered where it does not",
	)
	f.String(
		"console-url",
		"",
		"address of the console as people have it, for links in what they are told; left out: no "+
			"links",
	)
	f.String("hosts", "", "names, with commas between, under which the service is asked, beside its addresses and "+
		"the machine's name")
	f.String("secrets", service.UsualSecrets.Dir,
		"directory of files that sources may name for their passwords; empty: none")
	f.String("secret-prefix", service.UsualSecrets.Prefix,
		"what the names of environment variables begin with that sources and stores may name for secrets")
	f.String("tell-hosts", "", "hosts, with commas between, that webhooks may be sent to; left out: none")
	f.String("metrics", "", "address of a listener of its own for /metrics; on loopback it needs no token; left out: "+
		"/metrics is answered with the rest")
	f.String("scrape-token-file", "", "file with the token for reading /metrics; the administrator's reads it too")
	f.String("level", "info", "lowest level of the log: debug, info, warn or error")
}

// softMemory is where the garbage collector begins to work harder, unless GOMEMLIMIT says otherwise. A run's own data
// stay far below it.
const softMemory = 112 << 20

func serve(e *cli.Env) error {
	log, err := logger(e)
	if err != nil {
		return err
	}
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
	mailing := service.Mail{Server: e.Flag("smtp"), From: e.Flag("mail-from"),
		PasswordEnv: e.Flag("mail-password-env"), User: e.Flag("mail-user"), Security: e.Flag("mail-security")}
	if problem := mailing.Problem(); problem != "" {
		return cli.Usage("-smtp, -mail-from: %s", problem)
	}
	consoleURL := strings.TrimRight(e.Flag("console-url"), "/")
	if consoleURL != "" && !strings.HasPrefix(consoleURL, "http://") && !strings.HasPrefix(consoleURL, "https://") {
		return cli.Usage("-console-url %q begins with neither http:// nor https://", consoleURL)
	}
	if e.Flag("secret-prefix") == "" {
		return cli.Usage("-secret-prefix is empty: then every variable of the service could be had through the " +
			"interface")
	}
	scrape, err := scrapeToken(e.Flag("scrape-token-file"))
	if err != nil {
		return err
	}
	ctx, stop := signal.NotifyContext(e.Ctx, syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	s, token, err := service.Open(ctx, e.Flag("data"), log, func(s *service.Service) {
		s.Notifier.Mail, s.Notifier.Hosts = mailing, cli.Names(strings.ToLower(e.Flag("tell-hosts")))
		s.Notifier.Console = consoleURL
		s.Access.ScrapeToken = scrape
		s.Places.Secrets = service.Secrets{Dir: e.Flag("secrets"), Prefix: e.Flag("secret-prefix")}
	})
	if err != nil {
		return err
	}
	if cli.Get[bool](e, "new-token") {
		if token, err = s.Access.NewToken(ctx); err != nil {
			return errors.Join(err, s.Close())
		}
	}
	if token != "" {
		file, err := s.Access.WriteToken(token)
		if err != nil {
			return errors.Join(fmt.Errorf("the administrator's token cannot be written: %w", err), s.Close())
		}
		fmt.Fprintf(e.Out, "the administrator's token is in %s, for its owner alone; keep it elsewhere and remove "+
			"the file: the service itself keeps only a hash\n", file)
	}
	l, err := listen(e.Flag("listen"))
	if err != nil {
		return errors.Join(err, s.Close())
	}
	scheme := "http"
	if cert := e.Flag("tls-cert"); cert != "" {
		pair, err := tls.LoadX509KeyPair(cert, e.Flag("tls-key"))
		if err != nil {
			return errors.Join(fmt.Errorf("-tls-cert, -tls-key: %w", err), s.Close())
		}
		s.Findings.Certificates = []string{cert}
		scheme, l = "https", tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{pair},
			MinVersion: tls.VersionTLS12})
	} else if !l.Addr().(*net.TCPAddr).IP.IsLoopback() {
		log.Warn("listening beyond this machine without TLS: the token travels in clear; give -tls-cert and " +
			"-tls-key, or put a TLS proxy in front")
	}
	if address := e.Flag("metrics"); address != "" {
		figures, err := listenFigures(address, s, log)
		if err != nil {
			return errors.Join(err, l.Close(), s.Close())
		}
		defer figures.Close()
		fmt.Fprintf(e.Out, "figures at http://%s/metrics\n", figures.Addr())
	}
	fmt.Fprintf(e.Out, "listening at %s://%s\n", scheme, l.Addr())
	stopping := supervised(ctx, s, log)
	context.AfterFunc(ctx, stopping)
	return answer(ctx, s, l, log, cli.Names(strings.ToLower(e.Flag("hosts")))...)
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
		return "", fmt.Errorf("-scrape-token-file: %w", err)
	}
	token := strings.TrimSpace(string(text))
	if len(token) < leastToken || strings.ContainsAny(token, " \n\r\t") {
		return "", cli.Usage("-scrape-token-file %s: one line of at least %d characters is wanted", file, leastToken)
	}
	return token, nil
}

// listenFigures answers /metrics on a listener of its own until that is closed.
func listenFigures(address string, s *service.Service, log *slog.Logger) (net.Listener, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("-metrics %s: %w", address, err)
	}
	if !l.Addr().(*net.TCPAddr).IP.IsLoopback() && s.Access.ScrapeToken == "" {
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
		BaseContext: func(net.Listener) context.Context { return base }}
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

func logger(e *cli.Env) (*slog.Logger, error) {
	var level slog.Level
	if err := level.UnmarshalText([]byte(e.Flag("level"))); err != nil {
		return nil, cli.Usage("-level %q is none of debug, info, warn and error", e.Flag("level"))
	}
	options := &slog.HandlerOptions{Level: level}
	switch e.Flag("log") {
	case "text":
		return slog.New(slog.NewTextHandler(e.Err, options)), nil
	case "json":
		return slog.New(slog.NewJSONHandler(e.Err, options)), nil
	}
	return nil, cli.Usage("-log %q is neither text nor json", e.Flag("log"))
}
