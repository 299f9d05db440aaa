package shelf

import (
	"time"

	"ambercellar/internal/core/period"
)

func Longer(a, b period.Period) bool {
	epoch := time.Unix(0, 0)
	return a.Before(epoch, time.UTC).Before(b.Before(epoch, time.UTC))
}
