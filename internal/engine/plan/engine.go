package plan

import (
	"time"
)

// planLife is how long a plan can be run after it was made.
const planLife = 24 * time.Hour
