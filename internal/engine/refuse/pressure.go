package refuse

import (
	"time"
)

// Resting says that a run stops until its next window opens.
type Resting struct {
	Until  time.Time
	Reason string
}

func (e *Resting) Error() string { return e.Reason }

// Stopped says that a run pauses until somebody resumes it.
type Stopped struct{ Reason string }

func (e *Stopped) Error() string { return e.Reason }
