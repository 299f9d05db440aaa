//go:build !linux

package run

// standBack lets the rest of a goroutine run at the lowest priority, where a thread can have one of its own.
func standBack() {}
