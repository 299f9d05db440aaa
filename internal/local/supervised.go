package local

import (
	"context"
	"log/slog"
	"time"

	"github.com/coreos/go-systemd/v22/daemon"

	"ambercellar/internal/service"
)

// supervised tells a service manager that the service is ready, and, as often as that wants to hear it, that it is
// alive (sd_notify(3)). Without one, nothing is told. The returned function tells that it is stopping.
func supervised(ctx context.Context, s *service.Service, log *slog.Logger) (stopping func()) {
	tell := func(state string) {
		if _, err := daemon.SdNotify(false, state); err != nil {
			log.Warn("the service manager cannot be told", "state", state, "error", err)
		}
	}
	tell(daemon.SdNotifyReady)
	if every, err := daemon.SdWatchdogEnabled(false); err != nil {
		log.Warn("the service manager wants to hear of the service, and it is not known how often", "error", err)
	} else if every > 0 {
		go alive(ctx, every/3, s, func() { tell(daemon.SdNotifyWatchdog) }, log)
	}
	return func() { tell(daemon.SdNotifyStopping) }
}

// alive tells again and again that the service is, as long as its loops come round: a store or a database that is away
// is no reason to start it again.
func alive(ctx context.Context, every time.Duration, s *service.Service, tell func(), log *slog.Logger) {
	for tick := time.NewTicker(every); ; {
		if c := s.Health.Loops(ctx); c.Level == service.CheckGood {
			tell()
		} else {
			log.Error("the service manager is not told that the service is alive", "reason", c.Message)
		}
		select {
		case <-ctx.Done():
			tick.Stop()
			return
		case <-tick.C:
		}
	}
}
