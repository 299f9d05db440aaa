package shelf

import (
	"ambercellar/internal/core/value"
)

func Canonical(vs []value.Value) string {
	var out []byte
	for _, v := range vs {
		out = v.AppendCanonical(out)
	}
	return string(out)
}
