package catalog

// Targets of restores.
const (
	TargetTable = "table" // the one that the rows came from
	TargetSide  = "side"  // a new table, made to fit
	TargetFile  = "file"
)
