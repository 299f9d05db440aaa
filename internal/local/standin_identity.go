package local

import (
	"errors"
	"flag"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"ambercellar/internal/cli"
	"ambercellar/internal/standin"
)

func standinIdentityFlags(f *flag.FlagSet) {
	f.String("listen", "127.0.0.1:9427", "address to listen at")
	f.String("client", "ambercellar", "what the one client is called that it knows")
	f.String("secret-env", "", "environment variable with the client's secret; left out: there is none")
	f.Var(&cli.Several{}, "person", "NAME=GROUP,…: somebody whom it knows; may be given again")
}

// standinIdentity serves an identity provider for demonstrations and tests.
func standinIdentity(e *cli.Env) error {
	ctx, stop := signal.NotifyContext(e.Ctx, syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	p := &standin.Identity{Client: e.Flag("client"), Secret: os.Getenv(e.Flag("secret-env")),
		People: map[string]standin.Identified{}}
	for _, text := range *e.Flags.Lookup("person").Value.(*cli.Several) {
		name, groups, ok := strings.Cut(text, "=")
		if !ok || name == "" {
			return cli.Usage("-person %q is not written like nora-quay=dba,harbour", text)
		}
		p.People[name] = standin.Identified{Subject: "subject of " + name, Name: name, Email: name + "@harbour.example",
			Groups: cli.Names(groups)}
	}
	l, err := net.Listen("tcp", e.Flag("listen"))
	if err != nil {
		return fmt.Errorf("-listen %s: %w", e.Flag("listen"), err)
	}
	p.Address = "http://" + l.Addr().String()
	fmt.Fprintf(e.Out, "a stand-in identity provider, where everybody may be anybody, is at %s\n", p.Address)
	srv := &http.Server{Handler: p, ReadHeaderTimeout: 10 * time.Second}
	failed := make(chan error, 1)
	go func() { failed <- srv.Serve(l) }()
	select {
	case err := <-failed:
		return err
	case <-ctx.Done():
	}
	if err := srv.Close(); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}
