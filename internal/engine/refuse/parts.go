package refuse

import (
	"errors"
)

var ErrOthers = errors.New("others are at the table")
