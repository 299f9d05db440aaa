package due

import (
	"ambercellar/internal/source"
)

// AverageBytes is the table's average row width; 1 KiB where it is unknown.
func AverageBytes(sel source.Selection) int64 {
	if sel.Table.Rows > 0 && sel.Table.Bytes > 0 {
		return sel.Table.Bytes/sel.Table.Rows + 1
	}
	return 1 << 10
}
