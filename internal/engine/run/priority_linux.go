package run

import (
	"runtime"
	"syscall"

	"golang.org/x/sys/unix"
)

// Of a thread: the least that a scheduler gives to one that others compete with (setpriority(2)), and the last place in
// the queue of a disk that serves by priority (ioprio_set(2): class best-effort, level 7; the class idle could wait for
// ever).
const (
	lowestNice = 19
	lastOnDisk = 2<<13 | 7
	ofThread   = 1 // IOPRIO_WHO_PROCESS; 0 names the calling thread
)

// standBack lets the rest of a goroutine run at the lowest priority of processors and disks. The goroutine keeps its
// thread to its end, which ends with it: a priority cannot be raised again. What the system refuses stays as it was.
func standBack() {
	runtime.LockOSThread()
	syscall.Setpriority(syscall.PRIO_PROCESS, 0, lowestNice)
	syscall.Syscall(unix.SYS_IOPRIO_SET, ofThread, 0, lastOnDisk)
}
