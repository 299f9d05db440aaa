package local

import (
	"crypto/tls"
	"errors"
	"flag"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/signal"
	"syscall"
	"time"

	"ambercellar/internal/cli"
	"ambercellar/internal/standin"
)

func standinMailFlags(f *flag.FlagSet) {
	f.String("listen", "127.0.0.1:9425", "address to take mail at")
	f.String("page", "127.0.0.1:9426", "address of the page that shows it")
	f.String("tls-cert", "", "certificate file; with it, STARTTLS is offered")
	f.String("tls-key", "", "key file of the certificate")
	f.String("user", "", "who must sign in; left out: everybody may send")
	f.String("password-env", "", "with -user: environment variable with the password")
	f.String("refuse", "", "part of an address to which nothing is taken, for good")
	f.String("busy", "", "part of an address to which nothing is taken, for now")
	f.Duration("delay", 0, "before each answer to a message")
}

// standinMail takes mail for demonstrations and tests.
func standinMail(e *cli.Env) error {
	ctx, stop := signal.NotifyContext(e.Ctx, syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	m := &standin.Mail{User: e.Flag("user"), Password: os.Getenv(e.Flag("password-env")), Refuse: e.Flag("refuse"),
		Busy: e.Flag("busy"), Delay: cli.Get[time.Duration](e, "delay")}
	if cert := e.Flag("tls-cert"); cert != "" {
		pair, err := tls.LoadX509KeyPair(cert, e.Flag("tls-key"))
		if err != nil {
			return fmt.Errorf("-tls-cert, -tls-key: %w", err)
		}
		m.TLS = &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12}
	}
	post, page, err := serveMail(m, e.Flag("listen"), e.Flag("page"))
	if err != nil {
		return err
	}
	fmt.Fprintf(e.Out, "a stand-in mail server, which hands nothing on, takes mail at %s and shows it at http://%s\n",
		post.Addr(), page.Addr())
	<-ctx.Done()
	return errors.Join(post.Close(), page.Close())
}

// serveMail serves a stand-in mail server and its page until their listeners are closed.
func serveMail(m *standin.Mail, address, pageAddress string) (post, page net.Listener, err error) {
	if post, err = net.Listen("tcp", address); err != nil {
		return nil, nil, fmt.Errorf("-listen %s: %w", address, err)
	}
	if page, err = net.Listen("tcp", pageAddress); err != nil {
		return nil, nil, errors.Join(fmt.Errorf("-page %s: %w", pageAddress, err), post.Close())
	}
	go m.Serve(post)
	go (&http.Server{Handler: m.Page(), ReadHeaderTimeout: 10 * time.Second}).Serve(page)
	return post, page, nil
}
