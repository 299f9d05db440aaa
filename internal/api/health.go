package api

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"ambercellar/internal/core/settings"
	"ambercellar/internal/service"
)

// Health says that the process answers.
type Health struct {
	Status  string `json:"status"` // ok
	Version string `json:"version"`
	Uptime  int64  `json:"uptime_secs"`
}

// Readiness says whether the service can take on work: what anybody may know of it.
type Readiness struct {
	Ready bool            `json:"ready"`
	Parts map[string]bool `json:"parts"` // catalog, stores and queue
}

// healthz answers as long as the process does, and asks nothing of what it depends on.
func (a *API) healthz(c *gin.Context) {
	if !wantsJSON(c) {
		c.String(http.StatusOK, "ok\n")
		return
	}
	answer(c, http.StatusOK, Health{"ok", service.Version, int64(time.Since(a.service.Started).Seconds())})
}

// readyz says whether the catalog can be written, the stores answer and the queue is alive.
func (a *API) readyz(c *gin.Context) {
	parts, ready := service.Parts(a.service.Health.Ready(c.Request.Context()))
	status := http.StatusOK
	if !ready {
		status = http.StatusServiceUnavailable
	}
	c.Header("Cache-Control", "no-store")
	if wantsJSON(c) {
		answer(c, status, Readiness{ready, parts})
		return
	}
	if ready {
		c.String(status, "ready\n")
		return
	}
	var out []string
	for part, ok := range parts {
		if !ok {
			out = append(out, part)
		}
	}
	slices.Sort(out)
	c.String(status, fmt.Sprintf("not ready: %s\n", strings.Join(out, ", ")))
}

func wantsJSON(c *gin.Context) bool {
	return strings.Contains(c.GetHeader("Accept"), "application/json")
}

// healthRoutes are the routes of what the service depends on.
func (a *API) healthRoutes() []route {
	return []route{
		whole("/configuration", "Configuration", "How the service was told to run, and where each setting comes from",
			func(context.Context, request) ([]settings.InForce, error) { return a.service.Configuration(), nil }),
		file(
			"/support",
			"Support",
			"What helps to see what the service does, as a zip without secrets and values of rows",
			func(c *gin.Context) {
				var b bytes.Buffer
				if err := a.service.Support(c.Request.Context(), request{c}.actor(), &b); err != nil {
					fail(c, err)
					return
				}
				c.Data(http.StatusOK, "application/zip", b.Bytes())
			},
		),
		whole("/doctor", "Doctor", "What the service depends on, how that stands, and what to do about it",
			func(ctx context.Context, _ request) ([]service.Check, error) { return a.service.Health.Examine(ctx) }),
	}
}
