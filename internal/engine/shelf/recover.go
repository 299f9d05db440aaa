package shelf

// BesideFile is a file of joined rows beside a segment.
type BesideFile struct {
	File  string `json:"file"`
	Table string `json:"table"`
	Rows  int64  `json:"rows"`
	Bytes int64  `json:"bytes"`
}
