package run

// Rows of a slice where it is to be short.
const (
	firstRows      = 25_000 // of a large run's first slice
	shortSliceRows = 5_000  // of that at the gentle pace, and of all where reading keeps writers waiting
)
