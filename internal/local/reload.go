package local

import (
	"context"
	"crypto/tls"
	"fmt"
	"log/slog"
	"os"
	"sync/atomic"

	"github.com/coreos/go-systemd/v22/daemon"

	"ambercellar/internal/cli"
	"ambercellar/internal/core/settings"
	"ambercellar/internal/service"
)

// certificate is the one that the service shows; it can be read anew.
type certificate struct {
	pair atomic.Pointer[tls.Certificate]
}

func (c *certificate) load(cert, key string) error {
	pair, err := tls.LoadX509KeyPair(cert, key)
	if err != nil {
		return fmt.Errorf("-tls-cert, -tls-key: %w", err)
	}
	c.pair.Store(&pair)
	return nil
}

func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) { return c.pair.Load(), nil }

// reloading calls fn at each signal, until ctx ends.
func reloading(ctx context.Context, hangup <-chan os.Signal, fn func()) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-hangup:
			daemon.SdNotify(false, daemon.SdNotifyReloading)
			fn()
			daemon.SdNotify(false, daemon.SdNotifyReady)
		}
	}
}

// reload reads the settings anew, and the certificate. What is at fault changes nothing; what can only be changed by a
// new start is named.
func reload(e *cli.Env, began settings.Values, s *service.Service, level *slog.LevelVar, c *certificate,
	log *slog.Logger) {
	v, err := configured(e)
	if err != nil {
		log.Error("the settings were not read anew, and stay as they are", "error", err)
		return
	}
	if cert := began.Text("tls-cert"); cert != "" && v.Text("tls-cert") != "" {
		if err := c.load(v.Text("tls-cert"), v.Text("tls-key")); err != nil {
			log.Error("the certificate was not read anew, and stays as it is", "error", err)
			return
		}
	}
	var wait []string
	for name, is := range v {
		was := began[name]
		if is.Changes && (name != "tls-cert" && name != "tls-key" || was.Text != "" && is.Text != "") {
			continue
		}
		if is.Text != was.Text {
			wait = append(wait, name)
			v[name] = was // that is what is in force
		}
	}
	if err := apply(v, s, level); err != nil {
		log.Error("not all settings were read anew", "error", err)
		return
	}
	if len(wait) > 0 {
		log.Warn("these settings are changed by a new start alone", "settings", wait)
	}
	log.Info("the settings were read anew")
	s.Declared.Begin(v.Text("declare"))
}
