package cli

import (
	"context"
	"time"

	"github.com/coreos/go-systemd/v22/daemon"
)

// tellSystemd tells systemd, where that has started the service, that it is ready, that it ends
// and, as often as the unit wants, that its timed work is done: a service whose work stands still
// is started again. One whose disk takes no writes is not: it waits for the disk, and a start
// would not bring that back.
func (s *service) tellSystemd(ctx context.Context) {
	tell := func(state string) {
		if _, err := daemon.SdNotify(false, state); err != nil {
			s.log.Warn("systemd could not be told", "state", state, "error", err)
		}
	}
	tell(daemon.SdNotifyReady)
	within, err := daemon.SdWatchdogEnabled(false)
	if err != nil {
		s.log.Warn("the watchdog of systemd asks for what cannot be read", "error", err)
	}
	tick := make(<-chan time.Time)
	if within > 0 {
		ticker := time.NewTicker(within / 3)
		defer ticker.Stop()
		tick = ticker.C
	}
	for {
		select {
		case <-ctx.Done():
			tell(daemon.SdNotifyStopping)
			return
		case <-tick:
			if err := s.engine.Ready(ctx); err == nil || s.engine.Refusing() {
				tell(daemon.SdNotifyWatchdog)
			}
		}
	}
}
