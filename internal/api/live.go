package api

import (
	"time"

	"github.com/gin-gonic/gin"
)

// liveEvery is how often a page is told at the most that something has changed.
const liveEvery = time.Second

// live tells a page that something has changed in the service's records, so that it asks again for what it shows. It
// carries nothing of what changed. The first event says that the stream stands.
func (a *API) live(c *gin.Context) {
	c.Header("Cache-Control", "no-store")
	c.Header("X-Accel-Buffering", "no")
	end := c.Request.Context().Done()
	tick := time.NewTicker(keepAlive)
	defer tick.Stop()
	for {
		changed := a.service.Catalog.Changed()
		c.SSEvent("changed", "")
		c.Writer.Flush()
		select {
		case <-end:
			return
		case <-time.After(liveEvery):
		}
		for waiting := true; waiting; {
			select {
			case <-end:
				return
			case <-changed:
				waiting = false
			case <-tick.C:
				if _, err := c.Writer.WriteString(": still here\n\n"); err != nil {
					return
				}
				c.Writer.Flush()
			}
		}
	}
}
