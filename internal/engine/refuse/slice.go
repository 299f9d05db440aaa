package refuse

import (
	"errors"
)

var ErrNoSpace = errors.New("not enough free space in the store")
